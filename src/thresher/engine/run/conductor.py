"""Carrying out a run sheet: its steps in their order, the limits, and the end.

The engine calls `pace`, then `advance` once a tick; everything here happens on its thread. What a step does is left to
the steps (`steps.py`), what stops a run to `run_limits.py`.
"""

import logging
import signal
from dataclasses import replace

from thresher.compose.rounds import results_sentence
from thresher.compose.sheet_faults import Bench
from thresher.engine.run.changes import RunChanges
from thresher.engine.run.context import RunContext
from thresher.engine.run.load_step import paced_blocks
from thresher.engine.run.run import Run
from thresher.engine.run.run_limits import trip_reason
from thresher.engine.run.step_kinds import steps_of
from thresher.engine.watch.black_box import AtWork
from thresher.journal.rows import BROKEN_OFF
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team, TeamState
from thresher.model.channels import Tick
from thresher.model.checks import CheckOutcome
from thresher.model.endings import WorkerAt
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import CORRECTED_KINDS, Severity, findings_of_run
from thresher.model.port import SystemKind
from thresher.model.run_states import Ending, Outcome, RunState, StepState, outcome_of
from thresher.model.sheet import RunSheet, ShapeKind, clock_text
from thresher.model.verdict import Exposure
from thresher.protocol.events import PlanEvent
from thresher.protocol.status import RunStatus

_LOG = logging.getLogger(__name__)
_INTENT_WAIT_S = 2.0
_HOW = {Ending.FINISHED: "carried out", Ending.INTERRUPTED: BROKEN_OFF}
"""What is said of the blocks that are under way when a run ends."""


class Conductor:
    """Carries out one run after the other on one machine."""

    def __init__(self, context: RunContext, runs: int) -> None:
        """`runs` is how many runs the job file already holds."""
        self._context = context
        self._record = context.record
        self._next_run = runs + 1
        self.past_exposures: list[Exposure] = []
        self.sheet: RunSheet | None = None

    @property
    def run(self) -> Run | None:
        """The run in progress or ended last."""
        return self._record.run

    @property
    def active(self) -> bool:
        """Whether a run is in progress."""
        return self.run is not None and self.run.active

    @property
    def preparing(self) -> bool:
        """Whether references are being made."""
        return self.run is not None and self.run.state is RunState.PREPARING

    def put_sheet(self, sheet: RunSheet) -> None:
        """Put a sheet on the bench, to be started. Raises EnvironmentFault while a run is in progress."""
        self._record.check_idle("changing the run sheet")
        self.sheet = sheet
        self._record.run = None
        self._record.publish(PlanEvent(sheet, self.status()))

    def start(self, boot_id: str) -> None:
        """Start the sheet on the bench. Raises EnvironmentFault when there is none, one runs, or loads cannot run."""
        if self.sheet is None:
            raise EnvironmentFault("starting a run", "no run sheet is on the bench", "Open one first.")
        self._record.check_idle("starting a run")
        if self._context.system.kind is SystemKind.TREE:
            remedy = "Loads need this computer or a simulated machine."
            raise EnvironmentFault("starting a run", "this machine is a directory of files", remedy)
        at, writer = self._context.now(), self._record.writer
        cores = {cpu.cpu: cpu.core for cpu in self._record.inventory.cpus}
        steps = steps_of(self.sheet)
        run = Run(self._next_run, self.sheet, at, self._record.hottest(), cores, steps)
        self._next_run += 1
        self._record.run = run
        channels, wall = self._record.channels, self._context.system.wall()
        writer.begin_run(run.number, self.sheet, self._record.inventory, channels, boot_id, at, wall)
        writer.settle(_INTENT_WAIT_S)
        _LOG.info("run %d begins: %s, %g s", run.number, self.sheet.title, self.sheet.length_s)
        run.change(RunState.WAITING if steps[0].holds_later else RunState.BETWEEN)
        self._record.note(f"Run {run.number} begins", f"{self.sheet.title}, planned {clock_text(self.sheet.length_s)}")

    @property
    def repeats(self) -> bool:
        """Whether the run that has ended starts again: its sheet says so, and nothing else has ended it."""
        run = self.run
        sheet = self.sheet
        return run is not None and sheet is not None and sheet.repeat and run.ending is Ending.FINISHED

    def give_up_repeating(self) -> None:
        """Leave the sheet on the bench as one that is carried out once."""
        if self.sheet is not None:
            self.sheet = replace(self.sheet, repeat=False)

    def hold_back(self, seconds: float) -> None:
        """Let the run that has just been started begin its first step so much later."""
        if self.run is not None:
            self.run.delay(self.run.steps[0], seconds)

    def stop(self) -> str:
        """Stop the run at once and return how many workers have ended."""
        return self._end(Ending.STOPPED, "stopped by hand") if self.active else "nothing was running"

    def changing(self, bench: Bench) -> RunChanges:
        """Return what changes the run in progress. Raises EnvironmentFault when there is none."""
        if self.run is None or not self.active:
            raise EnvironmentFault("changing the run", "no run is in progress", "Start one first.")
        return RunChanges(self.run, self._context, bench)

    def close(self, asked_by: int = 0) -> str:
        """End the run in progress because the engine closes; `asked_by` is the signal that asked for it, 0 for none.

        SIGTERM is what a machine sends to all programs when it is shut down, by whomever: then nobody has ended the
        run, and the next start says how that came about.
        """
        if asked_by == signal.SIGTERM:
            return self._end(Ending.INTERRUPTED, "the program was asked to end (SIGTERM)")
        return self._end(Ending.STOPPED, "the engine was closed")

    def cannot_go_on(self, error: EnvironmentFault) -> None:
        """End the run in order because it cannot continue here, and say why."""
        self._record.note("The run could not continue", str(error), Severity.WARNING)
        self._end(Ending.COULD_NOT_RUN, str(error))

    def pace(self) -> None:
        """Let the workers of a simulated machine do the beats of one tick."""
        if self.active and self.run is not None:
            self._context.system.pacing.pace(paced_blocks(self.run), self._context.interval_s)

    def poll(self) -> None:
        """Process what the workers report."""
        run = self.run
        if run is None:
            return
        for step in run.running():
            step.poll(run, self._context)
        if run.state is RunState.PREPARING:
            self._settle_state(run)

    def advance(self, tick: Tick) -> None:
        """Take the run on by one tick. Raises EnvironmentFault when it cannot continue."""
        run = self.run
        if run is None or not run.active:
            return
        self._record.writer.add_tick(run.number, tick)
        self._context.work.beats = self._beats(run) if self._teams() else None
        run.note_hottest(tick.at, self._record.hottest())
        self.poll()
        if self._tripped(run, tick):
            return
        self._context.storms.release(tick.at, self._record.find)
        for step in list(run.steps):
            if run.is_due(step, tick.at):
                step.begin(run, self._context, tick.at)
            if step.state is StepState.RUNNING:
                step.advance(run, self._context, tick)
        self._settle_state(run)
        if all(step.state.over for step in run.steps):
            self._end(Ending.FINISHED, "carried out to its end")

    def _settle_state(self, run: Run) -> None:
        """Let the run's state follow from its steps: a gate before a block that prepares, that before loading."""
        states = {step.run_state for step in run.running()}
        for state in (RunState.WAITING, RunState.PREPARING, RunState.LOADING):
            if state in states:
                run.change(state)
                return
        run.change(RunState.BETWEEN)

    def machine_has_ended(self) -> None:
        """End the run as it ends when the machine does: nothing of it came to an end in order."""
        if self.active:
            self._end(Ending.INTERRUPTED, "the machine came to a sudden end")

    def at_work(self) -> AtWork:
        """Return the number of the run in progress and what its workers have done; called from any thread."""
        run = self.run
        if run is None or not run.active:
            return 0, ()
        teams = [(step.index, step.team) for step in run.running() if step.team is not None]
        workers = (WorkerAt(index, cpu, beats) for index, team in teams for cpu, beats in team.beats_by_cpu().items())
        return run.number, tuple(workers)

    def _tripped(self, run: Run, tick: Tick) -> bool:
        reason = trip_reason(self._record, self._context.watchers, run, tick)
        if reason:
            self._record.note("Limit: run stopped", reason, Severity.WARNING)
            self._end(Ending.TRIPPED, reason)
        return bool(reason)

    def _end(self, ending: Ending, detail: str) -> str:
        run = self.run
        assert run is not None
        at = self._context.now()
        if run.state is not RunState.STOPPING:
            run.change(RunState.STOPPING)
        how = _HOW.get(ending, "stopped")
        ended = [step.end(run, self._context, at, how) for step in run.running()]
        run.ending, run.ending_detail = ending, detail
        self._context.work.beats = None
        run.change(RunState.ENDED)
        self.past_exposures += run.exposures()
        outcome = self._outcome(run)
        self._record.writer.end_run(run.number, at, ending.value, detail)
        self._record.note(f"Run {run.number} {ending.value}: {outcome.value}", detail)
        results = [each for each in self._record.check_results if each.run == run.number]
        if len(results) > 1:
            self._record.note("Checks together", results_sentence(results))
        self._record.report_waiting()
        self._record.changed = True
        _LOG.info("run %d %s: %s (%s)", run.number, ending.value, outcome.value, detail)
        return StopReport.together([report for report in ended if report is not None])

    def _outcome(self, run: Run) -> Outcome:
        if run.ending is None:
            return Outcome.NOT_FINISHED
        minutes = sum(each.minutes for each in self.past_exposures if each.run == run.number)
        failed = [
            each for each in self._record.check_results if each.run == run.number and each.outcome is CheckOutcome.FAIL
        ]
        return outcome_of(run.ending, len(findings_of_run(self._record.findings, run.number)) + len(failed), minutes)

    def _teams(self) -> list[Team]:
        return [step.team for step in self.run.steps if step.team is not None] if self.run else []

    def busy_cores(self) -> frozenset[int]:
        """Return the cores that a load runs on now."""
        return self._cores_of(self._running_teams())

    def steady_cores(self) -> frozenset[int]:
        """Return those of them whose clocks should stay up: under a pulsed load they fall between the pulses."""
        return self._cores_of([team for team in self._running_teams() if team.shape.kind is not ShapeKind.PULSE])

    def _running_teams(self) -> list[Team]:
        return [team for team in self._teams() if team.state is TeamState.RUNNING]

    def _cores_of(self, teams: list[Team]) -> frozenset[int]:
        if self.run is None:
            return frozenset()
        return frozenset(self.run.cores.get(cpu, cpu) for team in teams for cpu in team.cpus())

    def exposures(self) -> list[Exposure]:
        """Return the time under load of all runs of the job."""
        return [*self.past_exposures, *(self.run.exposures() if self.run is not None and self.active else [])]

    def _beats(self, run: Run) -> int:
        return run.beats_before + sum(team.beats for team in self._teams())

    def status(self) -> RunStatus:
        """Return where the run is."""
        run = self.run
        if run is None:
            if self.sheet is None:
                return RunStatus()
            plan = tuple(step.plan_item() for step in steps_of(self.sheet))
            return RunStatus(title=self.sheet.title, length_s=self.sheet.length_s, plan=plan)
        mine = findings_of_run(self._record.findings, run.number)
        loaded = sum(each.minutes for each in self.exposures() if each.run == run.number)
        teams = self._teams()
        return RunStatus(
            state=run.state,
            title=run.sheet.title,
            run=run.number,
            run_at=run.run_at(self._context.now()),
            began_at=run.began_at,
            length_s=run.length_s,
            plan=run.plan(),
            workers_started=sum(team.size for team in teams),
            workers_running=sum(team.alive for team in teams),
            beats=self._beats(run),
            mismatches=run.mismatches,
            faults=sum(finding.severity is Severity.FAULT for finding in mine),
            corrected=sum(finding.kind in CORRECTED_KINDS for finding in mine),
            loaded_s=loaded * 60.0,
            ending=run.ending,
            ending_detail=run.ending_detail,
            outcome=self._outcome(run),
            busy_cores=tuple(sorted(self.busy_cores())),
            loads=tuple(status for step in run.steps if (status := step.load_status()) is not None),
            changes=tuple(run.changes),
            allowed=min((team.status.allowed for team in teams), default=1.0),
        )
