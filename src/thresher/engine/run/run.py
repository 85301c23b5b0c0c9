"""One run: a sheet carried out on the machine's own time, its steps in their order.

Run time counts from the start. A step that takes longer or shorter than planned shifts everything after it, so that
plan and record stay on one time axis. What a step does is left to `steps`.
"""

from collections import deque
from dataclasses import dataclass, field

from thresher.engine.run.steps import Step
from thresher.loads.team.stalls import RunTimes
from thresher.model.run_states import Ending, RunState, StepState, change
from thresher.model.sheet import RunSheet
from thresher.model.sheet_changes import SheetChange
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

SETTLE_OVER_S, REMEMBERED_S = 20.0, 60.0
"""How long a settle gate waits at least, and how long the hottest temperature is remembered for gates."""
_FEWEST_REMEMBERED = 16


@dataclass(slots=True)
class Run:
    """The state of a run; the conductor drives it once a tick."""

    number: int
    sheet: RunSheet
    began_at: float
    start_c: float | None
    cores: dict[int, int]
    steps: list[Step]
    state: RunState = RunState.IDLE
    ending: Ending | None = None
    ending_detail: str = ""
    workers_started: int = 0
    mismatches: int = 0
    beats_before: int = 0
    stalls_reported: set[int] = field(default_factory=set)
    stall_looks: dict[int, float] = field(default_factory=dict)
    run_times: RunTimes = field(default_factory=RunTimes)
    changes: list[SheetChange] = field(default_factory=list)
    hottest: deque[tuple[float, float]] = field(default_factory=deque)

    def run_at(self, at: float) -> float:
        """Return run time for machine time, in seconds."""
        return at - self.began_at

    def change(self, new: RunState) -> None:
        """Go to another state. Raises IllegalTransition."""
        self.state = change(self.state, new)

    @property
    def active(self) -> bool:
        """Whether the run has begun and not ended."""
        return self.state not in (RunState.IDLE, RunState.ENDED)

    def running(self) -> list[Step]:
        """Return the steps that are under way."""
        return [step for step in self.steps if step.state is StepState.RUNNING]

    def is_due(self, step: Step, at: float) -> bool:
        """Whether a step may begin: its time has come, nothing holds it back, and it is alone if it must be."""
        if step.state is not StepState.COMING or step.start_s > self.run_at(at):
            return False
        if any(each.holds_later and not each.state.over for each in self.steps[: step.index]):
            return False
        return not (step.waits_for_others and any(not each.holds_later for each in self.running()))

    def shift_after(self, step: Step, seconds: float) -> None:
        """Move everything after a step, because it takes longer or shorter than planned."""
        for later in self.steps[step.index + 1 :]:
            if not later.state.over:
                later.start_s += seconds
                later.end_s += seconds

    def delay(self, step: Step, seconds: float) -> None:
        """Move a step that cannot begin yet, and all after it."""
        for later in self.steps[step.index :]:
            if later.state is StepState.COMING:
                later.start_s += seconds
                later.end_s += seconds

    def move_later(self, step: Step, from_s: float, seconds: float) -> None:
        """Move the steps to come that begin at a time or later, because another step ends at another time."""
        for each in self.steps:
            if each is not step and each.state is StepState.COMING and each.start_s >= from_s - 0.5:
                each.start_s += seconds
                each.end_s += seconds

    def note_hottest(self, at: float, hottest_c: float | None) -> None:
        """Remember the hottest temperature for the gates."""
        if hottest_c is not None:
            self.start_c = hottest_c if self.start_c is None else self.start_c
            self.hottest.append((at, hottest_c))
        while len(self.hottest) > _FEWEST_REMEMBERED and self.hottest[0][0] < at - REMEMBERED_S - 1.0:
            self.hottest.popleft()

    def exposures(self) -> list[Exposure]:
        """Return the time under load by block and band of temperature."""
        return [exposure for step in self.steps for exposure in step.exposures(self.number)]

    def plan(self) -> tuple[PlanItem, ...]:
        """Return the steps for the window."""
        return tuple(step.plan_item() for step in self.steps)

    @property
    def length_s(self) -> float:
        """Length of the run as it stands now."""
        return max(step.end_s for step in self.steps)
