"""A team of workers for one block: started, watched, stopped, counted."""

import contextlib
import logging
import mmap
import os
import select
import signal
import socket
import subprocess
import time
from collections import deque
from dataclasses import dataclass
from enum import StrEnum

import msgspec

from thresher.loads.memory.walk import SIMULATED_WORDS
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import LOADS
from thresher.loads.team.events import (
    MemoryTakenSeen,
    MemoryWrongSeen,
    MismatchSeen,
    PassSeen,
    ReferenceDisputed,
    RoundOffSeen,
    StopReport,
    TeamEvent,
    WorkerLost,
)
from thresher.loads.team.messages import (
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
    WorkerEnded,
    WorkerStarted,
)
from thresher.loads.team.process import memory_file, start_spawner, waiting_packets
from thresher.loads.team.rechecks import Rechecks
from thresher.loads.team.status_table import StatusTable
from thresher.machine.free_running import FreeRunning
from thresher.model.errors import EnvironmentFault
from thresher.model.port import BitFlip, Pacing
from thresher.model.sheet import Shape

_LOG = logging.getLogger(__name__)
_ASK_FIRST_S = 0.2
"""How long Stop waits for workers to end by themselves before it kills them."""
_KILL_WITHIN_S = 2.0


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


class Team:
    """The workers of one block. Not thread-safe: one thread leads it.

    With a paced `pacing` they do a given number of beats at each `pace`; else they run freely in their shape.
    """

    def __init__(
        self, cpus: list[int], plan: LoadPlan, pacing: Pacing | None = None, shape: Shape | None = None
    ) -> None:
        """Start the spawner and the workers. Raises EnvironmentFault when that cannot be done."""
        self.plan = plan
        self.shape = shape or Shape()
        self.state = TeamState.MAKING
        self._load = LOADS[plan.load]
        self._pacing = pacing or FreeRunning()
        self._paced = self._pacing.paced
        self._events: deque[TeamEvent] = deque()
        self._members: dict[int, _Member] = {}
        self._stop_report: StopReport | None = None
        self._rechecks = Rechecks()
        self._passes_reported = 0
        self._maker, self._confirmer = 0, min(1, len(cpus) - 1)
        table_fd = memory_file("thresher status", StatusTable.size(len(cpus)))
        shared_fd = memory_file("thresher operands", self._load.shared_bytes(plan, len(cpus)))
        self._table = mmap.mmap(table_fd, 0)
        self._shared = mmap.mmap(shared_fd, 0)
        self.status = StatusTable(self._table, len(cpus))
        self._control, self._spawner = start_spawner()
        try:
            for worker, cpu in enumerate(cpus):
                self._spawn(worker, len(cpus), cpu, (table_fd, shared_fd))
        except OSError as error:
            self._control.close()
            self._spawner.wait()
            reason = error.strerror or str(error)
            raise EnvironmentFault("starting the workers", reason, "Look at the engine's log.") from error
        finally:
            os.close(table_fd)
            os.close(shared_fd)
        self._order(self._maker, MakeReference())
        _LOG.info("%s on CPUs %s", plan.load, cpus)

    def _spawn(self, worker: int, workers: int, cpu: int, fds: tuple[int, int]) -> None:
        mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._members[worker] = _Member(cpu, mine)
        setup = self._pacing.worker_setup(worker, workers, cpu, SIMULATED_WORDS if self._load.walks_memory else 0)
        order = SpawnWorker(
            worker,
            workers,
            setup.pin,
            self.plan,
            self.shape,
            self._paced,
            faults=setup.faults,
            base=setup.base,
            stride=setup.stride,
        )
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

    @property
    def shared(self) -> memoryview:
        """The memory that the workers share."""
        return memoryview(self._shared)

    def all_cpus(self) -> list[int]:
        """Return the logical CPUs of all workers, also of those that have ended."""
        return [member.cpu for member in self._members.values()]

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
        """Process what workers and spawner have said, without waiting, and return what matters."""
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
        while self._rechecks:  # a worker may have been asked while it still had beats to do
            self._drain(0.05)
            self._give_up_waiting(time.monotonic())
        self._wait_until_done()

    def _wait_until_done(self) -> None:
        deadline = time.monotonic() + 30.0
        while any(member.waiting and member.code is None for member in self._members.values()):
            self._drain(0.5)
            if time.monotonic() > deadline:
                raise EnvironmentFault(
                    "running beats for a simulated machine",
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
        _LOG.info("%s: %s", self.plan.load, self._stop_report.sentence)
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
        for packet in waiting_packets(member.socket):
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
                self._report_pass()
            case RoundOffHigh():
                self._events.append(RoundOffSeen(member.cpu, report))
            case Failed(doing, reason, remedy):
                raise EnvironmentFault(f"{doing} for CPU {member.cpu}", reason, remedy)
            case Done(disputed):
                member.waiting = False
                self._advance(worker, disputed)

    def _report_pass(self) -> None:
        alive = [member for member in self._members.values() if member.code is None]
        done = min(member.passes for member in alive)
        if done > self._passes_reported:
            self._passes_reported = done
            self._events.append(PassSeen(done, max(member.pass_seconds for member in alive)))

    def _on_mismatch(self, worker: int, mismatch: Mismatch) -> None:
        member = self._members[worker]
        partner = self._members[mismatch.partner].cpu if mismatch.partner is not None else None
        seen = MismatchSeen(member.cpu, self.plan.load, mismatch, partner_cpu=partner)
        others = self._two_others(worker) if partner is None and not self._rechecks else []
        if not others or self.state is not TeamState.RUNNING:
            self._events.append(seen)
            return
        ticket = self._rechecks.ask(seen, others)
        for other in others:
            if self._paced:
                self._order(other, Recheck(ticket, mismatch.beat))
            else:
                self.status.ask_recheck(other, ticket, mismatch.beat)

    def _two_others(self, worker: int) -> list[int]:
        """The next two workers in the circle that are alive."""
        count = len(self._members)
        order = [(worker + step) % count for step in range(1, count)]
        return [each for each in order if self._members[each].code is None][:2]

    def _cpu_of(self) -> dict[int, int]:
        return {worker: member.cpu for worker, member in self._members.items()}

    def _on_rechecked(self, worker: int, ticket: int, right: bool) -> None:
        settled = self._rechecks.answer(ticket, worker, right, self._cpu_of())
        if settled is not None:
            self._events.append(settled)

    def _give_up_waiting(self, now: float | None) -> None:
        """Report mismatches whose others do not answer in time; all that wait when `now` is None."""
        if self._rechecks:
            self._events += self._rechecks.overdue(now, self._cpu_of())

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
        for packet in waiting_packets(self._control):
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
        for packet in waiting_packets(member.socket):  # its last words may still be in the socket
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
