"""What a team reports to the engine: mismatches, memory, passes, lost workers, and how stopping went."""

import signal
from collections.abc import Sequence
from dataclasses import dataclass

from thresher.loads.team.messages import MemoryTaken, MemoryWrong, Mismatch, RoundOffHigh

_CRASH_SIGNALS = {signal.SIGILL, signal.SIGSEGV, signal.SIGBUS, signal.SIGFPE}


@dataclass(frozen=True, slots=True)
class Others:
    """What the same beat gave on other logical CPUs: those on which it came out right, and those on which not."""

    right: tuple[int, ...] = ()
    wrong: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class MismatchSeen:
    """A mismatch, the logical CPU that it happened on, for messages the other one, and what others made of it."""

    cpu: int
    load: str
    mismatch: Mismatch
    others: Others = Others()
    partner_cpu: int | None = None


@dataclass(frozen=True, slots=True)
class MemoryWrongSeen:
    """Wrong words of memory and the logical CPU that read them."""

    cpu: int
    wrong: MemoryWrong


@dataclass(frozen=True, slots=True)
class MemoryTakenSeen:
    """A worker has its memory; `first` when it is its first."""

    cpu: int
    taken: MemoryTaken
    first: bool


@dataclass(frozen=True, slots=True)
class PassSeen:
    """All workers have been through all patterns so many times; the slowest took so many seconds for the last."""

    number: int
    seconds: float


@dataclass(frozen=True, slots=True)
class RoundOffSeen:
    """Round-off came near its margin on a logical CPU."""

    cpu: int
    report: RoundOffHigh


@dataclass(frozen=True, slots=True)
class ReferenceDisputed:
    """Two CPUs do not agree about known answers."""

    made_on: int
    confirmed_on: int
    sets: int


@dataclass(frozen=True, slots=True)
class WorkerLost:
    """A worker ended that should not have. `by_processor` stands for a signal that the processor raised."""

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
        return f"ended with code {self.code}"


TeamEvent = MismatchSeen | MemoryWrongSeen | MemoryTakenSeen | PassSeen | RoundOffSeen | ReferenceDisputed | WorkerLost


@dataclass(frozen=True, slots=True)
class StopReport:
    """How stopping went: workers started, ended in all, of these killed, and seconds until the last was gone."""

    started: int
    ended: int
    killed: int
    seconds: float

    @staticmethod
    def together(reports: Sequence["StopReport"]) -> str:
        """Say for a person how all blocks of a run ended."""
        if not reports:
            return "no worker was running"
        started = sum(report.started for report in reports)
        ended = sum(report.ended for report in reports)
        killed = sum(report.killed for report in reports)
        return StopReport(started, ended, killed, max(report.seconds for report in reports)).sentence

    @property
    def sentence(self) -> str:
        """Say it for a person."""
        left = self.started - self.ended
        killed = f", {min(self.killed, self.ended)} of them killed" if self.killed and not left else ""
        still = f"; {left} {'was' if left == 1 else 'were'} killed and did not end" if left else ""
        return f"{self.ended} of {self.started} workers have ended{killed}, after {self.seconds:.2f} s{still}"
