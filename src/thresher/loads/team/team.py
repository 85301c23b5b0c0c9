"""A team of workers for one block: its reference made and confirmed, its beats paced, its results settled, stopped."""

import logging
import mmap
import time
from collections import deque
from dataclasses import dataclass, field
from enum import StrEnum
from typing import assert_never

from thresher.loads.memory.walk import SIMULATED_WORDS
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import LOADS
from thresher.loads.team.crew import Crew, SpawnerEnded, start_crew
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
    ConfirmReference,
    Done,
    Failed,
    MakeReference,
    MemoryTaken,
    MemoryWrong,
    Mismatch,
    PassDone,
    Quit,
    Recheck,
    Rechecked,
    Report,
    RoundOffHigh,
    RunBeats,
    RunFree,
    WorkerEnded,
)
from thresher.loads.team.process import memory_file
from thresher.loads.team.rechecks import Rechecks
from thresher.loads.team.status_table import StatusTable
from thresher.machine.free_running import FreeRunning
from thresher.model.errors import EnvironmentFault
from thresher.model.port import BitFlip, Pacing
from thresher.model.shapes import in_step
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
class _Passes:
    """How often the workers have walked over all their memory, and how long the last time took."""

    done: dict[int, int] = field(default_factory=dict)
    seconds: dict[int, float] = field(default_factory=dict)
    reported: int = 0


class Team:
    """The workers of one block. Not thread-safe: one thread leads it.

    With a paced `pacing` they do a given number of beats at each `pace`; else they run freely in their shape.
    """

    def __init__(
        self, crew: Crew, plan: LoadPlan, shape: Shape, paced: bool, table: mmap.mmap, shared: mmap.mmap
    ) -> None:
        """Lead a crew; `start_team` starts one and has its reference made."""
        self.plan = plan
        self.shape = shape
        self.state = TeamState.MAKING
        self.status = StatusTable(table, len(crew.members))
        self._crew = crew
        self._shared = shared
        self._paced = paced
        self._events: deque[TeamEvent] = deque()
        self._stop_report: StopReport | None = None
        self._rechecks = Rechecks()
        self._passes = _Passes()
        self._taken: set[int] = set()
        self._maker, self._confirmer = 0, min(1, len(crew.members) - 1)

    @property
    def alive(self) -> int:
        """Workers that have not ended."""
        return len(self._crew.alive)

    @property
    def size(self) -> int:
        """Workers started."""
        return len(self._crew.members)

    @property
    def beats(self) -> int:
        """Beats done by all."""
        return sum(self.status.beats(slot) for slot in self._crew.members)

    def beats_by_cpu(self) -> dict[int, int]:
        """Return the beats done by the worker of each logical CPU."""
        return {member.cpu: self.status.beats(slot) for slot, member in self._crew.members.items()}

    @property
    def round_off(self) -> float:
        """Largest round-off seen by any."""
        return max((self.status.round_off(slot) for slot in self._crew.members), default=0.0)

    def cpu_time_s(self) -> float:
        """Return the time that all workers together have had their cores, in seconds."""
        return sum(self.status.cpu_time_ns(slot) for slot in self._crew.members) / 1e9

    @property
    def shared(self) -> memoryview:
        """The memory that the workers share."""
        return memoryview(self._shared)

    def all_cpus(self) -> list[int]:
        """Return the logical CPUs of all workers, also of those that have ended."""
        return [member.cpu for member in self._crew.members.values()]

    def cpus(self) -> list[int]:
        """Return the logical CPUs whose worker has not ended."""
        return [member.cpu for member in self._crew.alive.values()]

    def pids(self) -> dict[int, int]:
        """Return process ids by logical CPU, of workers that the spawner has reported."""
        return {member.cpu: member.pid for member in self._crew.members.values() if member.pid is not None}

    def stalled(self, longer_than_s: float) -> list[int]:
        """Return the CPUs whose worker runs freely and has not finished a beat for so long."""
        if self._paced or self.state is not TeamState.RUNNING:
            return []
        before = time.monotonic_ns() - int(longer_than_s * 1e9)
        return [member.cpu for slot, member in self._crew.alive.items() if 0 < self.status.heartbeat_ns(slot) < before]

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
        for worker, member in self._crew.alive.items():
            if member.cpu in beats:
                mine = tuple(flips.get(member.cpu, ()))
                self._crew.order(worker, RunBeats(beats[member.cpu], mine, seconds, memory_c))
        self._wait_until_done()
        while self._rechecks:  # a worker may have been asked while it still had beats to do
            self._drain(0.05)
            self._give_up_waiting(time.monotonic())
        self._wait_until_done()

    def _wait_until_done(self) -> None:
        deadline = time.monotonic() + 30.0
        while any(member.waiting for member in self._crew.alive.values()):
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
        if self._paced or self.state is not TeamState.RUNNING:
            for worker in self._crew.alive:
                self._crew.order(worker, Quit())
        self.state = TeamState.STOPPED
        self._wait_for_end(begun + _ASK_FIRST_S)
        left = list(self._crew.alive)
        if left:
            self._crew.kill(left)
            self._wait_for_end(time.monotonic() + _KILL_WITHIN_S)
        self._give_up_waiting(None)
        self._stop_report = StopReport(self.size, self.size - self.alive, len(left), time.monotonic() - begun)
        self._crew.close()
        _LOG.info("%s: %s", self.plan.load, self._stop_report.sentence)
        return self._stop_report

    def _wait_for_end(self, deadline: float) -> None:
        while self.alive and (left := deadline - time.monotonic()) > 0:
            self._drain(left)

    def _drain(self, wait_s: float) -> None:
        for worker, report in self._crew.reports(wait_s):
            match report:
                case WorkerEnded(_, code):
                    self._on_end(worker, code)
                case SpawnerEnded():
                    if self.state in (TeamState.MAKING, TeamState.CONFIRMING):
                        raise _not_prepared("the process that starts workers has ended")
                case _:
                    self._on_report(worker, report)

    def _on_report(self, worker: int, report: Report) -> None:
        member = self._crew.members[worker]
        match report:
            case Mismatch():
                self._on_mismatch(worker, report)
            case Rechecked(ticket, right):
                self._on_rechecked(worker, ticket, right)
            case MemoryWrong():
                self._events.append(MemoryWrongSeen(member.cpu, report))
            case MemoryTaken():
                self._events.append(MemoryTakenSeen(member.cpu, report, worker not in self._taken))
                self._taken.add(worker)
            case PassDone(number, seconds):
                self._passes.done[worker], self._passes.seconds[worker] = number, seconds
                self._report_pass()
            case RoundOffHigh():
                self._events.append(RoundOffSeen(member.cpu, report))
            case Failed(doing, reason, remedy):
                if self.state is TeamState.STOPPED:  # the team is ending already, for what failed first
                    _LOG.warning("%s for CPU %d while stopping: %s", doing, member.cpu, reason)
                    return
                raise EnvironmentFault(f"{doing} for CPU {member.cpu}", reason, remedy)
            case Done(disputed):
                member.waiting = False
                self._advance(worker, disputed)
            case _ as never:
                assert_never(never)

    def _report_pass(self) -> None:
        alive = self._crew.alive
        done = min((self._passes.done.get(worker, 0) for worker in alive), default=0)
        if done > self._passes.reported:
            self._passes.reported = done
            self._events.append(PassSeen(done, max(self._passes.seconds[worker] for worker in alive)))

    def _on_mismatch(self, worker: int, mismatch: Mismatch) -> None:
        member = self._crew.members[worker]
        partner = self._crew.members[mismatch.partner].cpu if mismatch.partner is not None else None
        seen = MismatchSeen(member.cpu, self.plan.load, mismatch, partner_cpu=partner)
        others = self._crew.two_after(worker) if partner is None and not self._rechecks else []
        if not others or self.state is not TeamState.RUNNING:
            self._events.append(seen)
            return
        ticket = self._rechecks.ask(seen, others)
        for other in others:
            if self._paced:
                self._crew.order(other, Recheck(ticket, mismatch.beat))
            else:
                self.status.ask_recheck(other, ticket, mismatch.beat)

    def _on_rechecked(self, worker: int, ticket: int, right: bool) -> None:
        settled = self._rechecks.answer(ticket, worker, right, self._crew.cpu_of())
        if settled is not None:
            self._events.append(settled)

    def _give_up_waiting(self, now: float | None) -> None:
        """Report mismatches whose others do not answer in time; all that wait when `now` is None."""
        if self._rechecks:
            self._events += self._rechecks.overdue(now, self._crew.cpu_of())

    def _advance(self, worker: int, disputed: tuple[int, ...]) -> None:
        if self.state is TeamState.MAKING and worker == self._maker:
            self.state = TeamState.CONFIRMING
            self._crew.order(self._confirmer, ConfirmReference())
        elif self.state is TeamState.CONFIRMING and worker == self._confirmer:
            if disputed:
                made, confirmed = self._crew.members[self._maker].cpu, self._crew.members[self._confirmer].cpu
                self._events.append(ReferenceDisputed(made, confirmed, len(disputed)))
            self.state = TeamState.RUNNING
            self.status.begin(int(in_step(self.shape, time.monotonic()) * 1e9))
            for each in self._crew.members if not self._paced else ():
                self._crew.order(each, RunFree())

    def _on_end(self, worker: int, code: int) -> None:
        if self.state is TeamState.STOPPED:
            return
        lost = WorkerLost(self._crew.members[worker].cpu, code)
        self._events.append(lost)
        making = self.state is TeamState.MAKING and worker == self._maker
        confirming = self.state is TeamState.CONFIRMING and worker == self._confirmer
        if making or confirming:
            raise _not_prepared(f"its worker {lost.sentence}")


def _not_prepared(reason: str) -> EnvironmentFault:
    return EnvironmentFault("preparing the reference", reason, "Start the run again.")


def start_team(cpus: list[int], plan: LoadPlan, pacing: Pacing | None = None, shape: Shape | None = None) -> Team:
    """Start the workers of a block and have its reference made. Raises EnvironmentFault when that cannot be done."""
    load = LOADS[plan.load]
    pacing = pacing or FreeRunning()
    files = (
        memory_file("thresher status", StatusTable.size(len(cpus))),
        memory_file("thresher operands", load.shared_bytes(plan, len(cpus))),
    )
    table, shared = (mmap.mmap(fd, 0) for fd in files)
    shape = shape or Shape()
    crew = start_crew(cpus, plan, pacing, shape, SIMULATED_WORDS if load.walks_memory else 0, files)
    team = Team(crew, plan, shape, pacing.paced, table, shared)
    crew.order(0, MakeReference())
    _LOG.info("%s on CPUs %s", plan.load, cpus)
    return team
