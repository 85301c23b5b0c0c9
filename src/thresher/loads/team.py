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
from dataclasses import dataclass, replace
from enum import StrEnum

import msgspec
import numpy as np

from thresher.loads.exercises import shared_bytes
from thresher.loads.memory import SIMULATED_WORDS
from thresher.loads.messages import (
    PACKET,
    REPORTS,
    SPAWNER_REPORTS,
    ConfirmReference,
    Done,
    Failed,
    KillWorkers,
    MakeReference,
    MemoryTaken,
    MemoryWrong,
    Mismatch,
    Order,
    PassDone,
    Quit,
    Recheck,
    Rechecked,
    Report,
    RoundOffHigh,
    RunBeats,
    RunFree,
    SpawnWorker,
    StatusTable,
    WorkerEnded,
    WorkerStarted,
)
from thresher.loads.pages import PAGE
from thresher.loads.plan import LoadPlan
from thresher.loads.relay import relay_bytes, round_trip_times
from thresher.loads.team_events import (
    MemoryTakenSeen,
    MemoryWrongSeen,
    MismatchSeen,
    Others,
    PassSeen,
    ReferenceDisputed,
    RoundOffSeen,
    StopReport,
    TeamEvent,
    WorkerLost,
)
from thresher.model.errors import EnvironmentFault
from thresher.model.port import BitFlip, SimulatedWork
from thresher.model.sheet import Shape

_ASK_FIRST_S = 0.2
"""How long Stop waits for workers to end by themselves before it kills them."""
_KILL_WITHIN_S = 2.0
_RECHECK_WITHIN_S = 1.0


class TeamState(StrEnum):
    """Where a team is on its way."""

    MAKING = "making the reference"
    CONFIRMING = "confirming the reference on another core"
    RUNNING = "running"
    STOPPED = "stopped"


@dataclass(slots=True)
class _Member:
    cpu: int
    socket: socket.socket
    pid: int | None = None
    code: int | None = None
    waiting: bool = False
    taken: bool = False
    passes: int = 0
    pass_seconds: float = 0.0


@dataclass(slots=True)
class _Pending:
    """A mismatch that waits for what others make of the same beat."""

    seen: MismatchSeen
    asked: dict[int, bool | None]
    deadline: float


class Team:
    """The workers of one block. Not thread-safe: one thread leads it.

    With `work` they belong to a simulated machine and do a given number of beats at each `pace`; else they run freely
    in their shape.
    """

    def __init__(
        self, cpus: list[int], plan: LoadPlan, work: SimulatedWork | None = None, shape: Shape | None = None
    ) -> None:
        """Start the spawner and the workers. Raises EnvironmentFault when that cannot be done."""
        self.plan = plan
        self.shape = shape or Shape()
        self.state = TeamState.MAKING
        self._work = work
        self._paced = work is not None
        self._events: deque[TeamEvent] = deque()
        self._members: dict[int, _Member] = {}
        self._stop_report: StopReport | None = None
        self._pending: dict[int, _Pending] = {}
        self._ticket = 0
        self._passes_told = 0
        self._maker, self._confirmer = 0, min(1, len(cpus) - 1)
        table_fd = _memory_file("thresher status", StatusTable.size(len(cpus)))
        shared_fd = _memory_file("thresher operands", _shared_size(plan, len(cpus)))
        self._table = mmap.mmap(table_fd, 0)
        self._shared = mmap.mmap(shared_fd, 0)
        self.status = StatusTable(self._table, len(cpus))
        self._control, self._spawner = _start_spawner()
        here = sorted(os.sched_getaffinity(0))
        try:
            for worker, cpu in enumerate(cpus):
                pin = here[cpu % len(here)] if self._paced else cpu
                self._spawn(worker, len(cpus), pin, cpu, (table_fd, shared_fd))
        except OSError as error:
            self._control.close()
            self._spawner.wait()
            reason = error.strerror or str(error)
            raise EnvironmentFault("starting the workers", reason, "Look at the engine's log.") from error
        finally:
            os.close(table_fd)
            os.close(shared_fd)
        self._order(self._maker, MakeReference())

    def _spawn(self, worker: int, workers: int, pin: int, cpu: int, fds: tuple[int, int]) -> None:
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._members[worker] = _Member(cpu, mine)
        order = SpawnWorker(worker, workers, pin, self.plan, self.shape, self._paced)
        if self._work is not None and self.plan.load == "memory":
            base, stride = self._work.memory_share(worker, workers, SIMULATED_WORDS)
            faults = self._work.cell_faults(worker, workers, SIMULATED_WORDS)
            order = msgspec.structs.replace(order, faults=faults, base=base, stride=stride)
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

    @property
    def round_off(self) -> float:
        """Largest round-off seen by any."""
        return max((self.status.round_off(slot) for slot in self._members), default=0.0)

    def cpu_time_s(self) -> float:
        """Return the time that all workers together have had their cores, in seconds."""
        return sum(self.status.cpu_time_ns(slot) for slot in self._members) / 1e9

    def covered_bytes(self) -> int | None:
        """Return how much memory was walked through in all passes, each page once; None where that is not told."""
        if self.plan.load != "memory" or self._paced:
            return None
        pages = int(np.count_nonzero(np.frombuffer(self._shared, np.uint8)))
        return pages * PAGE or None

    def round_trips_ns(self) -> dict[tuple[int, int], float]:
        """Return the shortest round trip of a message between each two CPUs that have met, in nanoseconds."""
        if self.plan.load != "relay":
            return {}
        cpus = [member.cpu for member in self._members.values()]
        if self._work is not None:
            return {(a, b): self._work.pair_time_ns(a, b) for a in cpus for b in cpus if a < b}
        times = round_trip_times(memoryview(self._shared), len(cpus))
        return {
            (cpus[one], cpus[other]): times[one][other]
            for one in range(len(cpus))
            for other in range(one + 1, len(cpus))
            if times[one][other]
        }

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
            self._give_up_waiting(time.monotonic())
        events = list(self._events)
        self._events.clear()
        return events

    def pace(
        self, beats: dict[int, int], flips: dict[int, list[BitFlip]], seconds: float = 0.0, memory_c: float = 40.0
    ) -> None:
        """Let each worker do its beats by CPU, disturbed by `flips`, standing for `seconds`; wait until all are done.

        `memory_c` is how warm the memory is.
        """
        for worker, member in self._members.items():
            if member.code is None and member.cpu in beats:
                mine = tuple(flips.get(member.cpu, ()))
                self._order(worker, RunBeats(beats[member.cpu], mine, seconds, memory_c))
        self._wait_until_done()
        while self._pending:  # a worker may have been asked while it still had beats to do
            self._drain(0.05)
            self._give_up_waiting(time.monotonic())
        self._wait_until_done()

    def _wait_until_done(self) -> None:
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
        self._give_up_waiting(None)
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
                self._on_mismatch(worker, report)
            case Rechecked(ticket, right):
                self._on_rechecked(worker, ticket, right)
            case MemoryWrong():
                self._events.append(MemoryWrongSeen(member.cpu, report))
            case MemoryTaken():
                self._events.append(MemoryTakenSeen(member.cpu, report, not member.taken))
                member.taken = True
            case PassDone(number, seconds):
                member.passes, member.pass_seconds = number, seconds
                self._tell_pass()
            case RoundOffHigh():
                self._events.append(RoundOffSeen(member.cpu, report))
            case Failed(doing, reason, remedy):
                raise EnvironmentFault(f"{doing} for CPU {member.cpu}", reason, remedy)
            case Done(disputed):
                member.waiting = False
                self._advance(worker, disputed)

    def _tell_pass(self) -> None:
        alive = [member for member in self._members.values() if member.code is None]
        done = min(member.passes for member in alive)
        if done > self._passes_told:
            self._passes_told = done
            self._events.append(PassSeen(done, max(member.pass_seconds for member in alive)))

    def _on_mismatch(self, worker: int, mismatch: Mismatch) -> None:
        member = self._members[worker]
        partner = self._members[mismatch.partner].cpu if mismatch.partner is not None else None
        seen = MismatchSeen(member.cpu, self.plan.load, mismatch, partner_cpu=partner)
        others = self._two_others(worker) if partner is None and not self._pending else []
        if not others or self.state is not TeamState.RUNNING:
            self._events.append(seen)
            return
        self._ticket += 1
        self._pending[self._ticket] = _Pending(seen, dict.fromkeys(others), time.monotonic() + _RECHECK_WITHIN_S)
        for other in others:
            if self._paced:
                self._order(other, Recheck(self._ticket, mismatch.beat))
            else:
                self.status.ask_recheck(other, self._ticket, mismatch.beat)

    def _two_others(self, worker: int) -> list[int]:
        """The next two workers in the circle that are alive."""
        count = len(self._members)
        order = [(worker + step) % count for step in range(1, count)]
        return [each for each in order if self._members[each].code is None][:2]

    def _on_rechecked(self, worker: int, ticket: int, right: bool) -> None:
        pending = self._pending.get(ticket)
        if pending is None:
            return
        pending.asked[worker] = right
        if None not in pending.asked.values():
            self._settle(ticket)

    def _settle(self, ticket: int) -> None:
        pending = self._pending.pop(ticket)
        answered = [(self._members[worker].cpu, right) for worker, right in pending.asked.items() if right is not None]
        others = Others(tuple(cpu for cpu, ok in answered if ok), tuple(cpu for cpu, ok in answered if not ok))
        self._events.append(replace(pending.seen, others=others))

    def _give_up_waiting(self, now: float | None) -> None:
        """Tell mismatches whose others do not answer in time; all that wait when `now` is None."""
        for ticket in [each for each, pending in self._pending.items() if now is None or now >= pending.deadline]:
            self._settle(ticket)

    def _advance(self, worker: int, disputed: tuple[int, ...]) -> None:
        if self.state is TeamState.MAKING and worker == self._maker:
            self.state = TeamState.CONFIRMING
            self._order(self._confirmer, ConfirmReference())
        elif self.state is TeamState.CONFIRMING and worker == self._confirmer:
            if disputed:
                made, confirmed = self._members[self._maker].cpu, self._members[self._confirmer].cpu
                self._events.append(ReferenceDisputed(made, confirmed, len(disputed)))
            self.state = TeamState.RUNNING
            self.status.begin(time.monotonic_ns())
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


def _shared_size(plan: LoadPlan, workers: int) -> int:
    """Return the bytes that the workers of a plan share."""
    if plan.load == "relay":
        return relay_bytes(workers)
    if plan.load == "memory":
        # a mark for every page frame there is, with room for what lies above holes in the address space
        return os.sysconf("SC_PHYS_PAGES") * 2 + (8 << 30) // PAGE
    return shared_bytes(plan)


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
