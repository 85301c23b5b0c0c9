"""A team of workers for one block: started, watched, stopped, counted."""

import contextlib
import mmap
import os
import select
import signal
import socket
import subprocess
import sys
import time
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum

import msgspec

from thresher.loads.matrix import MatrixPlan
from thresher.loads.messages import (
    PACKET,
    REPORTS,
    SPAWNER_REPORTS,
    ConfirmReference,
    Done,
    Failed,
    KillWorkers,
    MakeReference,
    Mismatch,
    Order,
    Quit,
    Report,
    RunBeats,
    RunFree,
    SpawnWorker,
    StatusTable,
    WorkerEnded,
    WorkerStarted,
)
from thresher.model.errors import EnvironmentFault
from thresher.model.port import BitFlip

_ASK_FIRST_S = 0.2
"""How long Stop waits for workers to end by themselves before it kills them."""
_KILL_WITHIN_S = 2.0
_CRASH_SIGNALS = {signal.SIGILL, signal.SIGSEGV, signal.SIGBUS, signal.SIGFPE}


class TeamState(StrEnum):
    """Where a team is on its way."""

    MAKING = "making the reference"
    CONFIRMING = "confirming the reference on another core"
    RUNNING = "running"
    STOPPED = "stopped"


@dataclass(frozen=True, slots=True)
class MismatchSeen:
    """A mismatch and the logical CPU that it happened on."""

    cpu: int
    mismatch: Mismatch


@dataclass(frozen=True, slots=True)
class ReferenceDisputed:
    """Two CPUs do not agree about known answers."""

    made_on: int
    confirmed_on: int
    sets: int


@dataclass(frozen=True, slots=True)
class WorkerLost:
    """A worker ended that should not have. `by_processor` tells a signal that the processor raised."""

    cpu: int
    code: int

    @property
    def by_processor(self) -> bool:
        """Whether it died of a signal that the processor raises."""
        return -self.code in _CRASH_SIGNALS

    @property
    def sentence(self) -> str:
        """Say how it ended."""
        if self.code < 0:
            return f"ended by signal {signal.Signals(-self.code).name}"
        return f"ended by itself with code {self.code}"


TeamEvent = MismatchSeen | ReferenceDisputed | WorkerLost


@dataclass(frozen=True, slots=True)
class StopReport:
    """How stopping went: workers started, ended in all, of these killed, and seconds until the last was gone."""

    started: int
    ended: int
    killed: int
    seconds: float

    @property
    def sentence(self) -> str:
        """Say it for a person."""
        killed = f", {self.killed} of them killed" if self.killed else ""
        return f"{self.ended} of {self.started} workers have ended{killed}, after {self.seconds:.2f} s"


@dataclass(slots=True)
class _Member:
    cpu: int
    socket: socket.socket
    pid: int | None = None
    code: int | None = None
    waiting: bool = False


class Team:
    """The workers of one block. Not thread-safe: one thread leads it.

    With `paced` the workers do a given number of beats at each `pace`, for machines whose time is simulated;
    else they run freely.
    """

    def __init__(self, cpus: list[int], plan: MatrixPlan, paced: bool) -> None:
        """Start the spawner and the workers. Raises EnvironmentFault when that cannot be done."""
        self.plan = plan
        self.state = TeamState.MAKING
        self._paced = paced
        self._events: deque[TeamEvent] = deque()
        self._members: dict[int, _Member] = {}
        self._stop_report: StopReport | None = None
        self._maker, self._confirmer = 0, min(1, len(cpus) - 1)
        table_fd = _memory_file("thresher status", StatusTable.size(len(cpus)))
        operands_fd = _memory_file("thresher operands", plan.bytes)
        self._table = mmap.mmap(table_fd, 0)
        self.status = StatusTable(self._table, len(cpus))
        self._control, self._spawner = _start_spawner()
        here = sorted(os.sched_getaffinity(0))
        try:
            for worker, cpu in enumerate(cpus):
                self._spawn(worker, here[cpu % len(here)] if paced else cpu, cpu, (table_fd, operands_fd))
        except OSError as error:
            self._control.close()
            self._spawner.wait()
            reason = error.strerror or str(error)
            raise EnvironmentFault("starting the workers", reason, "Look at the engine's log.") from error
        finally:
            os.close(table_fd)
            os.close(operands_fd)
        self._order(self._maker, MakeReference())

    def _spawn(self, worker: int, pin: int, cpu: int, fds: tuple[int, int]) -> None:
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._members[worker] = _Member(cpu, mine)
        order = SpawnWorker(worker, worker, pin, self.plan.size, self.plan.sets, self.plan.seed)
        with theirs:
            socket.send_fds(self._control, [msgspec.json.encode(order)], [theirs.fileno(), *fds])

    @property
    def alive(self) -> int:
        """Workers that have not ended."""
        return sum(member.code is None for member in self._members.values())

    @property
    def size(self) -> int:
        """Workers started."""
        return len(self._members)

    @property
    def beats(self) -> int:
        """Beats done by all."""
        return sum(self.status.beats(slot) for slot in self._members)

    def cpus(self) -> list[int]:
        """Return the logical CPUs whose worker has not ended."""
        return [member.cpu for member in self._members.values() if member.code is None]

    def pids(self) -> dict[int, int]:
        """Return process ids by logical CPU, of workers that the spawner has reported."""
        return {member.cpu: member.pid for member in self._members.values() if member.pid is not None}

    def stalled(self, longer_than_s: float) -> list[int]:
        """Return the CPUs whose worker runs freely and has not finished a beat for so long."""
        if self._paced or self.state is not TeamState.RUNNING:
            return []
        before = time.monotonic_ns() - int(longer_than_s * 1e9)
        return [
            member.cpu
            for slot, member in self._members.items()
            if member.code is None and 0 < self.status.heartbeat_ns(slot) < before
        ]

    def poll(self) -> list[TeamEvent]:
        """Take in what workers and spawner have said, without waiting, and return what matters."""
        if self._stop_report is None:
            self._drain(0.0)
        events = list(self._events)
        self._events.clear()
        return events

    def pace(self, beats: int, flips: dict[int, list[BitFlip]]) -> None:
        """Let every worker do `beats` beats, disturbed by `flips` by CPU, and wait until all are done."""
        for worker, member in self._members.items():
            if member.code is None:
                self._order(worker, RunBeats(beats, tuple(flips.get(member.cpu, ()))))
        deadline = time.monotonic() + 30.0
        while any(member.waiting and member.code is None for member in self._members.values()):
            self._drain(0.5)
            if time.monotonic() > deadline:
                raise EnvironmentFault(
                    "running beats for a bench model",
                    "workers did not answer for 30 s",
                    "Look at this computer's load.",
                )

    def stop(self) -> StopReport:
        """End every worker: ask, and kill what has not ended in time. Stopping twice gives the first report."""
        if self._stop_report:
            return self._stop_report
        begun = time.monotonic()
        self.status.stop()
        for worker, member in self._members.items():
            if member.code is None and not (self.state is TeamState.RUNNING and not self._paced):
                self._order(worker, Quit())
        self.state = TeamState.STOPPED
        self._wait_for_end(begun + _ASK_FIRST_S)
        left = [worker for worker, member in self._members.items() if member.code is None]
        if left:
            with contextlib.suppress(OSError):
                self._control.send(msgspec.json.encode(KillWorkers(tuple(left))))
            self._wait_for_end(time.monotonic() + _KILL_WITHIN_S)
        self._stop_report = StopReport(self.size, self.size - self.alive, len(left), time.monotonic() - begun)
        self._close()
        return self._stop_report

    def _close(self) -> None:
        self._control.close()
        try:
            self._spawner.wait(timeout=1.0)
        except subprocess.TimeoutExpired:
            self._spawner.kill()
            self._spawner.wait()
        for member in self._members.values():
            member.socket.close()

    def _wait_for_end(self, deadline: float) -> None:
        while self.alive and (left := deadline - time.monotonic()) > 0:
            self._drain(left)

    def _order(self, worker: int, order: Order) -> None:
        member = self._members[worker]
        member.waiting = True
        with contextlib.suppress(OSError):  # it has died: the spawner says so and how
            member.socket.send(msgspec.json.encode(order))

    def _drain(self, wait_s: float) -> None:
        by_fd = {member.socket.fileno(): worker for worker, member in self._members.items() if member.code is None}
        poller = select.poll()
        for fd in (*by_fd, self._control.fileno()):
            poller.register(fd, select.POLLIN)
        closed: set[int] = set()
        for fd, _ in poller.poll(wait_s * 1000):
            if fd == self._control.fileno():
                self._read_control()
            elif not self._read_worker(by_fd[fd]):
                closed.add(fd)
        if closed and self._spawner.poll() is not None:
            self._spawner_died()

    def _read_worker(self, worker: int) -> bool:
        member = self._members[worker]
        for packet in _packets(member.socket):
            if not packet:
                # wait for the spawner to say how it ended, without spinning on the closed socket
                time.sleep(0.002)
                return False
            self._on_report(worker, REPORTS.decode(packet))
        return True

    def _on_report(self, worker: int, report: Report) -> None:
        member = self._members[worker]
        match report:
            case Mismatch():
                self._events.append(MismatchSeen(member.cpu, report))
            case Failed(reason):
                raise EnvironmentFault(
                    f"pinning a worker to CPU {member.cpu}", reason, "Run on the CPUs that this process may use."
                )
            case Done(disputed):
                member.waiting = False
                self._advance(worker, disputed)

    def _advance(self, worker: int, disputed: tuple[int, ...]) -> None:
        if self.state is TeamState.MAKING and worker == self._maker:
            self.state = TeamState.CONFIRMING
            self._order(self._confirmer, ConfirmReference())
        elif self.state is TeamState.CONFIRMING and worker == self._confirmer:
            if disputed:
                made, confirmed = self._members[self._maker].cpu, self._members[self._confirmer].cpu
                self._events.append(ReferenceDisputed(made, confirmed, len(disputed)))
            self.state = TeamState.RUNNING
            for each in self._members if not self._paced else ():
                self._order(each, RunFree())

    def _read_control(self) -> None:
        for packet in _packets(self._control):
            if not packet:
                self._spawner.wait()
                self._spawner_died()
                return
            match SPAWNER_REPORTS.decode(packet):
                case WorkerStarted(worker, pid):
                    self._members[worker].pid = pid
                case WorkerEnded(worker, code):
                    self._on_end(worker, code)

    def _on_end(self, worker: int, code: int) -> None:
        member = self._members[worker]
        for packet in _packets(member.socket):  # its last words may still be in the socket
            if packet:
                self._on_report(worker, REPORTS.decode(packet))
            else:
                break
        member.code = code
        if self.state is TeamState.STOPPED:
            return
        self._events.append(WorkerLost(member.cpu, code))
        preparing = (self.state is TeamState.MAKING and worker == self._maker) or (
            self.state is TeamState.CONFIRMING and worker == self._confirmer
        )
        if preparing:
            raise EnvironmentFault(
                "preparing the reference", f"its worker {WorkerLost(member.cpu, code).sentence}", "Start the run again."
            )

    def _spawner_died(self) -> None:
        preparing = self.state in (TeamState.MAKING, TeamState.CONFIRMING)
        for member in self._members.values():
            if member.code is None:
                member.code = -signal.SIGKILL
                if self.state is not TeamState.STOPPED:
                    self._events.append(WorkerLost(member.cpu, member.code))
        if preparing:
            raise EnvironmentFault(
                "preparing the reference", "the process that starts workers has ended", "Start the run again."
            )


def _packets(source: socket.socket) -> Iterator[bytes]:
    """Yield the packets waiting in a socket; an empty one when the other end is closed."""
    while True:
        try:
            packet = source.recv(PACKET, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return
        except ConnectionResetError:
            packet = b""
        yield packet
        if not packet:
            return


def _memory_file(name: str, size: int) -> int:
    fd = os.memfd_create(name, os.MFD_CLOEXEC)
    try:
        os.ftruncate(fd, size)
    except OSError as error:
        os.close(fd)
        raise EnvironmentFault(
            f"taking {size >> 20} MiB of memory", os.strerror(error.errno or 0), "Choose a smaller working set."
        ) from error
    return fd


def _start_spawner() -> tuple[socket.socket, subprocess.Popen[bytes]]:
    mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    # more than one BLAS thread a worker would fight with the neighbours for their cores
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    with theirs:
        process = subprocess.Popen(
            [sys.executable, "-m", "thresher.loads.spawner", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            env=environment,
            start_new_session=True,
            stdin=subprocess.DEVNULL,
        )
    return mine, process
