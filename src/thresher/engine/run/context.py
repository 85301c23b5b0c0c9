"""What the steps of a run work with."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.engine.card_jobs.access import CardAccess
from thresher.engine.drive_jobs.access import DriveAccess
from thresher.engine.run.questions import QuestionDesk
from thresher.engine.run.record import Record
from thresher.engine.run.team_findings import Storms
from thresher.engine.run.work_channel import WorkBoard
from thresher.engine.watch.readings import Watchers
from thresher.engine.watch.stalls import StallWatch
from thresher.loads.warm_up import WarmUp
from thresher.model.port import System


@dataclass(frozen=True, slots=True)
class RunContext:
    """The machine, the record, and the watchers that a run needs; `kernels` returns which form the loads may have."""

    system: System
    record: Record
    watchers: Watchers
    storms: Storms
    stalls: StallWatch
    kernels: Callable[[], WarmUp]
    interval_s: float
    drives: DriveAccess
    cards: CardAccess
    questions: QuestionDesk
    work: WorkBoard

    def now(self) -> float:
        """Return the machine's clock in seconds."""
        return self.system.now()
