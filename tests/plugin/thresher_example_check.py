"""A kind of step from outside the source tree: a check that looks at one thing and ends."""

from dataclasses import dataclass

from thresher.engine.run.context import RunContext
from thresher.engine.run.run import Run
from thresher.engine.run.steps import Step
from thresher.loads.status import LoadStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Tick
from thresher.model.parts import PartKind
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem


@dataclass(frozen=True, slots=True)
class FanCheck:
    """An item of a sheet: whether any fan turns."""

    start_s: float = 0.0
    length_s: float = 5.0


@dataclass(slots=True)
class FanCheckStep(Step):
    """Carries out a fan check."""

    index: int
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    result: str = ""

    @classmethod
    def of(cls, index: int, item: object) -> "FanCheckStep":
        """Return the step of a fan check."""
        assert isinstance(item, FanCheck)
        return cls(index, item.start_s, item.start_s + item.length_s)

    @property
    def title(self) -> str:
        """What a person reads on it."""
        return "fan check"

    @property
    def block(self) -> Block | None:
        """A check is no block."""
        return None

    @property
    def holds_later(self) -> bool:
        """What follows waits for the result."""
        return True

    @property
    def waits_for_others(self) -> bool:
        """Fans are looked at without load."""
        return True

    @property
    def run_state(self) -> RunState:
        """The run waits."""
        return RunState.WAITING

    @property
    def team(self) -> Team | None:
        """A check has no workers."""
        return None

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Begin."""
        self.state = StepState.RUNNING

    def poll(self, run: Run, context: RunContext) -> None:
        """Nothing happens between ticks."""

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Look at the fans and end."""
        fans = [
            value
            for channel, value in zip(context.record.channels, tick.values, strict=True)
            if channel.unit == "rpm" and value
        ]
        self.result = "pass" if fans else "inconclusive: no fan speeds reported"
        self.end_s, self.state = run.run_at(tick.at), StepState.DONE
        context.record.note("Fan check", self.result, part=PartKind.COOLING)

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop."""
        self.state = StepState.DONE
        return None

    def load_status(self) -> LoadStatus | None:
        """A check has no load."""
        return None

    def exposures(self, run: int) -> list[Exposure]:
        """A check puts nothing under load."""
        return []

    def plan_item(self) -> PlanItem:
        """Return the check as the window draws it."""
        return PlanItem(True, PartKind.COOLING, self.title, self.start_s, self.end_s, self.state)


KIND = (FanCheck, FanCheckStep.of)
