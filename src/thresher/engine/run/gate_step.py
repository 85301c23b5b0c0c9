"""Gates: steps that wait for a temperature to settle or to come down, and hold back what follows."""

from dataclasses import dataclass

from thresher.engine.run.context import RunContext
from thresher.engine.run.run import SETTLE_OVER_S, Run
from thresher.engine.run.steps import Step
from thresher.heat.gates import has_settled, time_to_reach, time_to_settle
from thresher.loads.status import LoadStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Tick
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block, Gate, GateKind, SheetItem, clock_text
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

_NOTICED_S = 5.0
"""A gate's end is moved earlier only by this much or more: what follows does not move to and fro."""


@dataclass(slots=True)
class GateStep(Step):
    """A gate of a run sheet on its way."""

    index: int
    gate: Gate
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    opened_by_hand: bool = False

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "GateStep":
        """Return the step of a gate."""
        assert isinstance(item, Gate)
        return cls(index, item, item.start_s, item.start_s + item.length_s)

    @property
    def title(self) -> str:
        """What a person reads on it."""
        return self.gate.kind.value

    @property
    def block(self) -> Block | None:
        """A gate is no block."""
        return None

    @property
    def holds_later(self) -> bool:
        """What follows waits."""
        return True

    @property
    def waits_for_others(self) -> bool:
        """A gate begins when no load runs."""
        return True

    @property
    def run_state(self) -> RunState:
        """The run waits."""
        return RunState.WAITING

    @property
    def team(self) -> Team | None:
        """A gate has no workers."""
        return None

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Begin to wait."""
        del run, at
        self.state = StepState.RUNNING
        if self.gate.kind is GateKind.ASK:
            longest = clock_text(self.gate.at_most_s)
            sentence = f"the run waits for an answer, {longest} at most, and then goes on"
            context.record.note("Go on with the next part?", sentence)

    def poll(self, run: Run, context: RunContext) -> None:
        """Nothing happens between ticks."""

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Open if it is time; else move what follows if the gate takes longer than planned."""
        at = run.run_at(tick.at)
        sentence = self._opens(run, at)
        if sentence is None:
            later = max(at, self._expected(run, at)) - self.end_s
            if later > 0 or later < -_NOTICED_S:
                self.end_s += later
                run.shift_after(self, later)
            return
        run.shift_after(self, at - self.end_s)
        self.end_s, self.state = at, StepState.DONE
        body = {"index": self.index, "title": self.title}
        context.record.writer.add_mark(run.number, tick.at, "gate opens", body)
        context.record.note(f"{self.title.capitalize()}: gate opens", sentence)

    def _opens(self, run: Run, at: float) -> str | None:
        """Return the sentence with which the gate opens now, or None while it waits."""
        gate = self.gate
        waited = at - self.start_s
        if self.opened_by_hand:
            return "opened by the technician"
        if gate.kind is GateKind.ASK:
            return "nobody answered; the run goes on" if waited >= gate.at_most_s else None
        if not run.hottest:
            return "no temperature to watch; waited the planned time" if waited >= gate.length_s else None
        now_c = run.hottest[-1][1]
        if gate.kind is GateKind.SETTLE:
            if waited >= SETTLE_OVER_S and has_settled(run.hottest, gate.within_k):
                return f"steady at {now_c:.0f} °C"
        else:
            cold_c = gate.to_c if gate.to_c is not None else run.start_c
            if cold_c is not None and now_c <= cold_c + gate.within_k:
                words = "began at" if gate.to_c is None else "waited for"
                return f"down to {now_c:.0f} °C, {words} {cold_c:.0f} °C"
        if waited >= gate.at_most_s:
            return f"still {now_c:.0f} °C after the longest wait; the run continues"
        return None

    def _expected(self, run: Run, at: float) -> float:
        """Return when the gate will open by the way the temperature goes, in run time; as planned where unknown."""
        gate, left = self.gate, None
        seen = [reading for reading in run.hottest if run.run_at(reading[0]) >= self.start_s]
        if gate.kind is GateKind.SETTLE:
            left = time_to_settle(seen, gate.within_k)
        elif gate.kind is GateKind.COOL_DOWN:
            cold_c = gate.to_c if gate.to_c is not None else run.start_c
            left = time_to_reach(seen, cold_c + gate.within_k) if cold_c is not None else None
        return min(at + left, self.start_s + gate.at_most_s) if left is not None else self.end_s

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop waiting."""
        del context, how
        self.end_s, self.state = run.run_at(at), StepState.DONE
        return None

    def load_status(self) -> LoadStatus | None:
        """A gate has no load."""
        return None

    def exposures(self, run: int) -> list[Exposure]:
        """A gate puts nothing under load."""
        del run
        return []

    def plan_item(self) -> PlanItem:
        """Return the gate as the window draws it."""
        return PlanItem(True, None, self.title, self.start_s, self.end_s, self.state, step=self.index)
