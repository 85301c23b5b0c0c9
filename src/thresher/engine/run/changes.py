"""Changing a run while it goes on: more time, an end now, a block more, one left out, a gate opened by hand.

Each change is checked like a sheet, written to the job file before it acts, and kept with the run, so that the report
shows what was really carried out.
"""

from dataclasses import dataclass, replace

from thresher.compose.sheet_faults import Bench, sheet_faults
from thresher.engine.run.context import RunContext
from thresher.engine.run.gate_step import GateStep
from thresher.engine.run.run import Run
from thresher.engine.run.step_kinds import STEP_KINDS
from thresher.engine.run.steps import Step
from thresher.journal.rows import SHEET_CHANGED
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.run_states import StepState
from thresher.model.sheet import Block, clock_text
from thresher.model.sheet_changes import ChangeKind, SheetChange

_INTENT_WAIT_S = 2.0
_MOST_ADDED_S = 24 * 3600.0


@dataclass(frozen=True, slots=True)
class RunChanges:
    """Changes one run; `bench` is what the machine has."""

    run: Run
    context: RunContext
    bench: Bench

    def add_time(self, index: int, seconds: float) -> None:
        """Let a block last longer; what begins at its end or later moves. Raises InputError."""
        step = self._step(index)
        if step.block is None or step.state.over:
            raise _refused("more time", f"{step.title} is not a block that runs or is still to come")
        if not 1 <= seconds <= _MOST_ADDED_S:
            raise _refused("more time", f"expected 1 second to {clock_text(_MOST_ADDED_S)}, found {seconds:g} s")
        self._keep(ChangeKind.MORE_TIME, f"{step.title}: {clock_text(seconds)} more", step)
        end = step.end_s
        self.run.move_later(step, end, seconds)
        step.end_s = end + seconds

    def end_block(self, index: int) -> None:
        """End a block that runs; what was to follow it follows now. Raises InputError."""
        step = self._step(index)
        if step.block is None or step.state is not StepState.RUNNING:
            raise _refused("ending a block", f"{step.title} does not run")
        self._keep(ChangeKind.END, f"{step.title}: ended", step)
        planned_end = step.end_s
        step.end(self.run, self.context, self.context.now(), "ended by hand")
        self.run.move_later(step, planned_end, step.end_s - planned_end)

    def leave_out(self, index: int) -> None:
        """Leave out a step that is still to come; what was to follow moves up. Raises InputError."""
        step = self._step(index)
        if step.state is not StepState.COMING:
            raise _refused("leaving out", f"{step.title} has begun already")
        self._keep(ChangeKind.LEAVE_OUT, f"{step.title}: left out", step)
        planned_end, length = step.end_s, step.end_s - step.start_s
        step.state, step.end_s = StepState.LEFT_OUT, step.start_s
        self.run.move_later(step, planned_end, -length)

    def append(self, block: Block) -> None:
        """Put a block behind the last step. Raises InputError with everything that is wrong with it."""
        block = replace(block, start_s=self.run.length_s)
        faults = sheet_faults(replace(self.run.sheet, blocks=(block,), gates=()), self.bench)
        if faults:
            raise InputError("block", [InputFault(fault.field, fault.message) for fault in faults])
        step = STEP_KINDS[type(block)](len(self.run.steps), block)
        self._keep(ChangeKind.APPEND, f"{block.title}: added, {clock_text(block.length_s)}", step, block)
        self.run.steps.append(step)

    def go_on(self, index: int) -> None:
        """Open a gate that waits. Raises InputError."""
        step = self._step(index)
        if not isinstance(step, GateStep) or step.state is not StepState.RUNNING:
            raise _refused("going on", f"{step.title} is not a gate that waits")
        self._keep(ChangeKind.GO_ON, f"{step.title}: opened by hand", step)
        step.opened_by_hand = True

    def _step(self, index: int) -> Step:
        if not self.run.active:
            raise EnvironmentFault("changing the run", "no run is in progress", "Start one first.")
        if not 0 <= index < len(self.run.steps):
            raise _refused("step", f"the run has steps 0 to {len(self.run.steps) - 1}, not {index}")
        return self.run.steps[index]

    def _keep(self, kind: ChangeKind, what: str, step: Step, block: Block | None = None) -> None:
        """Write the change to the job file, wait until it is there, and say it on the tape."""
        record, at = self.context.record, self.context.now()
        change = SheetChange(self.run.run_at(at), kind, step.index, what, block)
        record.writer.add_mark(self.run.number, at, SHEET_CHANGED, change)
        if not record.writer.settle(_INTENT_WAIT_S):
            raise EnvironmentFault("changing the run", "the job file cannot be written", "Nothing was changed.")
        self.run.changes.append(change)
        record.note("Run changed", what, part=step.block.row if step.block is not None else None)


def _refused(what: str, message: str) -> InputError:
    return InputError("run", [InputFault(what, message)])
