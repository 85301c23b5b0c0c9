"""What a team tells the engine: mismatches, memory, passes, lost workers, and how stopping went."""

import signal
from dataclasses import dataclass

from thresher.loads.messages import MemoryTaken, MemoryWrong, Mismatch, RoundOffHigh

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


TeamEvent = MismatchSeen | MemoryWrongSeen | MemoryTakenSeen | PassSeen | RoundOffSeen | ReferenceDisputed | WorkerLost


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
