"""Steps of a run: the one interface by which the conductor carries out gates, loads and whatever else a sheet holds.

The conductor knows only `Step`. A new kind is a module of its own and a row in `step_kinds.STEP_KINDS`.
"""

from typing import TYPE_CHECKING, Protocol

from thresher.loads.status import LoadStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Tick
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

if TYPE_CHECKING:
    from thresher.engine.run.context import RunContext
    from thresher.engine.run.load_step import PacedBlock
    from thresher.engine.run.run import Run


class Step(Protocol):
    """A step on its way: planned times shift with the steps before it, real ones replace them. Times in run seconds."""

    index: int
    start_s: float
    end_s: float
    state: StepState

    @property
    def title(self) -> str:
        """What a person reads on it."""
        ...

    @property
    def block(self) -> Block | None:
        """The block that it carries out, if it is one."""
        ...

    @property
    def holds_later(self) -> bool:
        """Whether what follows on the sheet waits until this step is done."""
        ...

    @property
    def waits_for_others(self) -> bool:
        """Whether this step begins only when nothing else runs."""
        ...

    def begin(self, run: "Run", context: "RunContext", at: float) -> None:
        """Begin at machine time `at`. Raises EnvironmentFault when it cannot."""
        ...

    def poll(self, run: "Run", context: "RunContext") -> None:
        """Process what has happened since, without waiting."""
        ...

    def advance(self, run: "Run", context: "RunContext", tick: Tick) -> None:
        """Continue by one tick. Raises EnvironmentFault when the run cannot continue."""
        ...

    def end(self, run: "Run", context: "RunContext", at: float, how: str) -> StopReport | None:
        """End now, for a reason in words; return how the workers ended if there were any."""
        ...

    @property
    def run_state(self) -> RunState:
        """What the run does while this step is under way."""
        ...

    @property
    def team(self) -> Team | None:
        """The workers of this step, if it has any now."""
        ...

    def load_status(self) -> LoadStatus | None:
        """Return what a load reports about itself."""
        ...

    def paced_work(self) -> "PacedBlock | None":
        """Return the work of its workers as a simulated machine sees it, while they do their beats."""
        return None

    def exposures(self, run: int) -> list[Exposure]:
        """Return the minutes under load so far, for the run of that number."""
        ...

    def plan_item(self) -> PlanItem:
        """Return the step as the window draws it."""
        ...


class BlockStep(Step, Protocol):
    """A step that carries out a block of the sheet, beside other blocks."""

    of_sheet: Block

    @property
    def title(self) -> str:
        """What a person reads on it."""
        return self.of_sheet.title

    @property
    def block(self) -> Block:
        """The block that is carried out."""
        return self.of_sheet

    @property
    def holds_later(self) -> bool:
        """Blocks may run side by side."""
        return False

    @property
    def waits_for_others(self) -> bool:
        """Blocks may run side by side."""
        return False
