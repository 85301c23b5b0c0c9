"""The engine's side of one load: what it reports while it runs, and what is written on the tape."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from thresher.loads.status import LoadStatus
from thresher.loads.team.events import TeamEvent
from thresher.model.findings import Finding, Severity
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import Pacing, System
from thresher.model.sheet import Block


class TeamView(Protocol):
    """What a watch may ask of its team of workers."""

    @property
    def size(self) -> int:
        """Workers started."""
        ...

    @property
    def round_off(self) -> float:
        """Largest round-off seen by any worker."""
        ...

    @property
    def shared(self) -> memoryview:
        """The memory that the workers share."""
        ...

    def all_cpus(self) -> list[int]:
        """Return the logical CPUs of all workers, also of those that have ended."""
        ...


class Tape(Protocol):
    """Where a watch writes."""

    @property
    def findings(self) -> Sequence[Finding]:
        """All findings of the job."""
        ...

    @property
    def inventory(self) -> Inventory:
        """The machine."""
        ...

    def note(
        self, title: str, detail: str, severity: Severity = ..., code: str = ..., part: PartKind | None = ...
    ) -> None:
        """Write a line on the tape now."""
        ...


class Clock(Protocol):
    """How much time the block has left."""

    def left_s(self) -> float:
        """Return the seconds until the block ends."""
        ...


@dataclass(frozen=True, slots=True)
class WatchContext:
    """What a watch works with."""

    block: Block
    team: TeamView
    tape: Tape
    system: System
    pacing: Pacing
    clock: Clock


class LoadWatch(Protocol):
    """Watches one block of one load. Every method is called on the engine's thread."""

    def begin(self) -> None:
        """The workers have been started."""
        ...

    def on_event(self, event: TeamEvent) -> bool:
        """Process what the workers report; return whether that was for this watch and is no finding."""
        ...

    def on_finding(self) -> None:
        """A finding of this load has been recorded."""
        ...

    @property
    def checking(self) -> bool:
        """Whether all workers check results already, so that clean time counts."""
        ...

    def status(self) -> LoadStatus | None:
        """Return what the load reports about itself now."""
        ...

    def end(self) -> None:
        """The workers have ended."""
        ...


class QuietWatch(LoadWatch):
    """The watch of a load that has nothing to report beside its findings."""

    def __init__(self, context: WatchContext) -> None:
        """Watch one block."""
        self.context = context

    def begin(self) -> None:
        """Nothing to report."""

    def on_event(self, event: TeamEvent) -> bool:
        """Every event is for others."""
        del event
        return False

    def on_finding(self) -> None:
        """Nothing to report."""

    @property
    def checking(self) -> bool:
        """Every beat is checked from the first on."""
        return True

    def status(self) -> LoadStatus | None:
        """Return nothing."""
        return None

    def end(self) -> None:
        """Nothing to report."""


class RoundOffWatch(QuietWatch):
    """The watch of a load with round-off: keeps the largest."""

    _largest = 0.0

    def status(self) -> LoadStatus | None:
        """Return the largest round-off so far, nothing before the first beat."""
        from thresher.loads.status import RoundOffStatus

        self._largest = max(self._largest, self.context.team.round_off)
        return RoundOffStatus(self._largest) if self._largest else None

    def end(self) -> None:
        """Keep the last value."""
        self._largest = max(self._largest, self.context.team.round_off)
