"""Component checks as steps of a run: what they ask for is done here, tick by tick, and nothing waits for it."""

import logging
import queue
import threading
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

from thresher.checks.check import (
    Ask,
    Beside,
    Check,
    CheckSteps,
    Coverage,
    LoadSeen,
    Pause,
    Progress,
    Reading,
    Request,
    UnderLoad,
)
from thresher.engine.run.block_steps import step_of_load
from thresher.engine.run.context import RunContext
from thresher.engine.run.load_step import LoadStep, PacedBlock
from thresher.engine.run.run import Run
from thresher.engine.run.stand_in import has_person, stand_in_answer
from thresher.engine.run.steps import BlockStep
from thresher.loads.check_loads import CHECK_LOADS
from thresher.loads.status import LoadStatus, MemoryStatus, TextStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Channel, Tick
from thresher.model.checks import CheckOutcome, CheckResult, exposure_of_check
from thresher.model.errors import BugError, EnvironmentFault, ThresherError
from thresher.model.findings import Finding, Severity
from thresher.model.parts import Inventory
from thresher.model.port import System, SystemKind
from thresher.model.questions import LEFT
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block, SheetItem
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

_LOG = logging.getLogger(__name__)
_Done = queue.SimpleQueue[tuple[bool, object]]
"""Where a thread leaves what came of its work: whether it went right, and what it returned or raised."""
_INNER = 1000
"""Loads of a check are kept under numbers of their own: that of the check times this, and on."""


@dataclass(frozen=True, slots=True)
class _Bench:
    """What a check may look at."""

    system: System
    inventory: Inventory
    context: RunContext

    @property
    def channels(self) -> tuple[Channel, ...]:
        """The machine's channels."""
        return self.context.record.channels

    @property
    def reading(self) -> Reading | None:
        """The newest tick."""
        tick = self.context.record.tick
        return Reading(tick.at, tick.values) if tick is not None else None

    @property
    def attended(self) -> bool:
        """Whether somebody is there to answer."""
        return self.context.questions.attended or has_person(self.context.system)

    def now(self) -> float:
        """Machine time in seconds."""
        return self.context.now()


@dataclass(slots=True)
class _Inner:
    """A load that the check asked for, with what has come of it."""

    step: BlockStep
    request: UnderLoad
    findings_before: int
    readings: list[Reading] = field(default_factory=list)
    beats: dict[int, int] = field(default_factory=dict)
    samples: list[object] = field(default_factory=list)
    sampling: "_Done | None" = None
    coverage: Coverage | None = None
    broke_off: str = ""


@dataclass(slots=True)
class CheckStep(BlockStep):
    """A check on its way."""

    index: int
    of_sheet: Block
    check: Check
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    results: tuple[CheckResult, ...] = ()
    _steps: CheckSteps | None = None
    _progress: Progress = field(default_factory=lambda: Progress("", 0.0))
    _wake_at: float | None = None
    _inner: _Inner | None = None
    _loads: int = 0
    _past: list[Exposure] = field(default_factory=list)
    _question: tuple[int, float] | None = None
    _delayed: UnderLoad | None = None
    _done: _Done | None = None
    _undo: Callable[[Any], None] = lambda _value: None

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "CheckStep":
        """Return the step of a check."""
        assert isinstance(item, Block)
        return cls(index, item, CHECK_LOADS[item.load].check, item.start_s, item.start_s + item.length_s)

    @property
    def block(self) -> Block:
        """The load that it carries out now, else the check itself."""
        inner = self._inner
        return inner.step.of_sheet if inner is not None else self.of_sheet

    @property
    def holds_later(self) -> bool:
        """What follows would disturb it."""
        return True

    @property
    def waits_for_others(self) -> bool:
        """What runs would disturb it."""
        return True

    @property
    def run_state(self) -> RunState:
        """As its load is, if it has one."""
        return self._inner.step.run_state if self._inner is not None else RunState.LOADING

    @property
    def team(self) -> Team | None:
        """The workers of its load."""
        return self._inner.step.team if self._inner is not None else None

    def paced_work(self) -> PacedBlock | None:
        """Return the work of its load on a simulated machine."""
        return self._inner.step.paced_work() if self._inner is not None else None

    def load_status(self) -> LoadStatus | None:
        """Return how far it is."""
        if self.state is not StepState.RUNNING:
            return None
        if self._inner is not None and (status := self._inner.step.load_status()) is not None:
            return status
        return TextStatus(self.check.name, f"{self._progress.share * 100:.0f} %, {self._progress.words}")

    def exposures(self, run: int) -> list[Exposure]:
        """Return the minutes of its loads, and what its passes are worth."""
        found = list(self._past)
        if self._inner is not None:
            found += self._inner.step.exposures(run)
        return found + [each for result in self.results if (each := exposure_of_check(result)) is not None]

    def plan_item(self) -> PlanItem:
        """Return the check as the window draws it."""
        about = f"{self.check.about}\nFinds {self.check.finds}.\nMisses {self.check.misses}."
        if self.results:
            about = "\n".join(f"{each.title}: {each.outcome.value}. {each.why}" for each in self.results)
        worst = min((each.outcome for each in self.results), key=lambda each: each.rank, default=None)
        return PlanItem(
            False,
            self.of_sheet.row,
            self.of_sheet.title,
            self.start_s,
            self.end_s,
            self.state,
            about,
            self.index,
            check=worst.value if worst is not None else "under way" if self.state is StepState.RUNNING else "coming",
        )

    # ---- the step

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Begin, or say at once that a person is missing."""
        self.state = StepState.RUNNING
        body = {"index": self.index, "check": self.check.name}
        context.record.writer.add_mark(run.number, at, "check begins", body)
        bench = _Bench(context.system, context.record.inventory, context)
        self._steps = self.check.run(bench)
        self._go_on(run, context, None)

    def poll(self, run: Run, context: RunContext) -> None:
        """Follow the load, and take what was done beside."""
        if self._inner is not None:
            self._guarded(self._inner, run, context, lambda inner: inner.step.poll(run, context))
        self._look(run, context)

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Take the check on by one tick."""
        inner = self._inner
        if inner is not None and inner.step.state is StepState.RUNNING:
            self._watch(inner, context, tick)
            self._guarded(inner, run, context, lambda inner: inner.step.advance(run, context, tick))
        self._look(run, context)
        if self.state is not StepState.RUNNING:
            return
        late = run.run_at(tick.at) + context.interval_s - self.end_s
        if late > 0:  # it ends when it is through, and what follows waits
            self.end_s += late
            run.shift_after(self, late)

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop it: its load ends, and it puts back what it changed."""
        report = None
        if self._inner is not None and self._inner.step.state is StepState.RUNNING:
            report = self._inner.step.end(run, context, at, how)
            self._past += self._inner.step.exposures(run.number)
        self._inner = None
        if self._question is not None:
            context.questions.withdraw()
            self._question = None
        if self._done is not None:  # it may come yet, and nobody would take it back
            threading.Thread(target=_take_back, args=(self._done, self._undo), daemon=True).start()
            self._done = None
        if self._steps is not None:
            self._steps.close()
            self._steps = None
        planned = self.end_s
        self.state, self.end_s = StepState.DONE, run.run_at(at)
        context.record.writer.add_mark(run.number, at, "check ends", {"index": self.index, "how": how})
        if how == "carried out":
            run.move_later(self, planned, self.end_s - planned)
        return report

    # ---- what the check asks for

    def _look(self, run: Run, context: RunContext) -> None:
        """Go on if what the check waits for is there."""
        if self.state is not StepState.RUNNING:
            return
        if self._done is not None:
            self._look_beside(run, context, self._done)
        elif self._question is not None:
            self._look_answered(run, context, *self._question)
        elif self._inner is not None:
            if self._inner.step.state is not StepState.RUNNING:
                self._go_on(run, context, self._end_load(run, context))
        elif self._wake_at is not None and context.now() >= self._wake_at - 1e-6:
            self._wake(run, context)

    def _look_beside(self, run: Run, context: RunContext, done: _Done) -> None:
        if (came := _taken(done)) is not None:
            self._done = None
            self._go_on(run, context, came[1], raised=not came[0])

    def _look_answered(self, run: Run, context: RunContext, number: int, until: float) -> None:
        answer = context.questions.take(number)
        if answer is None and context.now() < until:
            return
        self._question = None
        if answer is None:
            context.questions.withdraw()
        self._go_on(run, context, None if answer == LEFT else answer)

    def _wake(self, run: Run, context: RunContext) -> None:
        """Go on after a pause, or begin a load that had to wait."""
        delayed, self._delayed, self._wake_at = self._delayed, None, None
        if delayed is None:
            self._go_on(run, context, None)
            return
        value, raised, waits = self._begin_load(run, context, delayed)
        if not waits:
            self._go_on(run, context, value, raised)

    def _go_on(self, run: Run, context: RunContext, value: object, raised: bool = False) -> None:
        """Hand the check what it asked for, until it asks for something that takes time."""
        while self.state is StepState.RUNNING:
            assert self._steps is not None
            try:
                if raised:
                    assert isinstance(value, BaseException)
                    request = self._steps.throw(value)
                else:
                    request = self._steps.send(value)
            except StopIteration as done:
                self._finish(run, context, done.value)
                return
            except ThresherError as error:
                self._finish(run, context, (self.check.unclear(str(error)),))
                return
            except Exception as error:  # noqa: BLE001 (a bug in one check must not take the run; it is called one)
                _LOG.exception("bug in the check %s", self.check.name)
                bug = BugError.of(error, traceback.format_exception(error))
                self._finish(run, context, (self.check.unclear(str(bug)),))
                return
            raised, value = False, None
            if isinstance(request, Progress):
                self._progress = request
                continue
            value, raised, waits = self._take(run, context, request)
            if waits:
                return

    def _take(self, run: Run, context: RunContext, request: Request) -> tuple[object, bool, bool]:
        """Do what the check asks for; return what comes back, whether that is raised, and whether it takes time."""
        if isinstance(request, Pause):
            self._wake_at = context.now() + request.seconds
            return None, False, True
        if isinstance(request, Beside):
            return self._beside(context, request)
        if isinstance(request, Ask):
            own = stand_in_answer(context.system, request.question)
            if own is not None:
                return own, False, False
            if not context.questions.attended:
                return None, False, False
            number = context.questions.ask(request.question)
            answer = context.questions.take(number)
            if answer is not None:
                return answer, False, False
            self._question = number, context.now() + request.question.at_most_s
            return None, False, True
        assert isinstance(request, UnderLoad)
        return self._begin_load(run, context, request)

    def _beside(self, context: RunContext, request: Beside) -> tuple[object, bool, bool]:
        """Do what may block: on a thread, and on a simulated machine, which always answers, at once."""
        done = self._started(context, request.work)
        came = _taken(done)
        if came is None:
            self._done, self._undo = done, request.undo
            return None, False, True
        return came[1], not came[0], False

    def _started(self, context: RunContext, work: Callable[[], object]) -> _Done:
        """Start work that may block, and return where its result comes."""
        done: _Done = queue.SimpleQueue()

        def do() -> None:
            try:
                done.put((True, work()))
            except Exception as error:  # noqa: BLE001 (raised again in the check, on the engine's thread)
                done.put((False, error))

        if context.system.kind is SystemKind.LIVE:
            threading.Thread(target=do, name=f"check {self.check.name}", daemon=True).start()
        else:
            do()
        return done

    def _begin_load(self, run: Run, context: RunContext, request: UnderLoad) -> tuple[object, bool, bool]:
        at = run.run_at(context.now())
        placed = replace(request.block, start_s=at)
        self._loads += 1
        step = step_of_load(self.index * _INNER + self._loads, placed)
        record = context.record
        inner = self._inner = _Inner(step, request, len(record.findings))
        if record.tick is not None:
            inner.readings.append(Reading(record.tick.at, record.tick.values))
        try:
            step.begin(run, context, context.now())
        except EnvironmentFault as error:
            self._inner = None
            return LoadSeen((), (), 0.0, {}, str(error)), False, False
        if step.state is StepState.COMING:  # it waits for what is being compiled, and so does the check
            self._inner, self._loads = None, self._loads - 1
            self._delayed, self._wake_at = request, context.now() + context.interval_s
            self._progress = Progress("waiting until the loads are compiled", self._progress.share)
            return None, False, True
        if isinstance(step, LoadStep):
            context.system.pacing.feel(_paced(self), context.interval_s)
        return None, False, True

    def _watch(self, inner: _Inner, context: RunContext, tick: Tick) -> None:
        inner.readings.append(Reading(tick.at, tick.values))
        team = inner.step.team
        if team is not None:
            inner.beats = team.beats_by_cpu()
        if inner.sampling is not None and (came := _taken(inner.sampling)) is not None:
            inner.sampling = None
            if came[0]:
                inner.samples.append(came[1])
            else:
                _LOG.info("check %s: %s", self.check.name, came[1])  # one sample less; the check counts what it has
        working = inner.step.run_state is RunState.LOADING
        if inner.request.meanwhile is not None and inner.sampling is None and working:
            inner.sampling = self._started(context, inner.request.meanwhile)

    def _guarded(self, inner: _Inner, run: Run, context: RunContext, do: Callable[[_Inner], None]) -> None:
        """Take its load on; one that cannot go on breaks off, and the run goes on."""
        try:
            do(inner)
        except EnvironmentFault as error:
            inner.broke_off = str(error)
        status = inner.step.load_status()
        if isinstance(status, MemoryStatus):
            inner.coverage = Coverage(status.taken, status.total, status.passes)
        running = inner.step.state is StepState.RUNNING
        through = inner.coverage is not None and inner.request.until(inner.coverage)
        if running and (inner.broke_off or through):
            inner.step.end(run, context, context.now(), "broke off" if inner.broke_off else "carried out")

    def _end_load(self, run: Run, context: RunContext) -> LoadSeen:
        inner = self._inner
        assert inner is not None
        past = inner.step.exposures(run.number)
        self._past += past
        self._inner = None
        seen = tuple(context.record.findings[inner.findings_before :])
        checked = sum(each.minutes for each in past) * 60.0
        left_out = inner.broke_off or ("" if checked > 0 or seen else "nothing could be worked; the tape says why")
        readings, samples = tuple(inner.readings), tuple(inner.samples)
        return LoadSeen(seen, readings, checked, inner.beats, left_out, samples, inner.coverage)

    def _finish(self, run: Run, context: RunContext, results: tuple[CheckResult, ...]) -> None:
        """Keep the results; a failure that no load has reported yet becomes a finding."""
        at, record = context.now(), context.record
        seconds, wall = run.run_at(at) - self.start_s, context.system.wall()
        # the same look at the same part says little new: only the first pass of a job counts as clean work
        known = {each.title for each in record.check_results if each.outcome is CheckOutcome.PASS}
        placed = [
            replace(
                each,
                at=at,
                wall=wall,
                seconds=seconds,
                run=run.number,
                worth_min=0.0 if each.title in known else self.check.worth_min,
            )
            for each in results
        ]
        self.results = tuple(placed)
        self._steps = None
        for each in placed:
            if each.outcome is CheckOutcome.FAIL and self.check.kind is not None:
                finding = finding_of_result(self.check, each)
                if not any(_same(finding, other) for other in record.findings):
                    record.find(finding)
            record.checked(each)
        self.end(run, context, at, "carried out")


def _taken(done: _Done) -> tuple[bool, object] | None:
    """Return what a thread has left, None while it is at work."""
    try:
        return done.get_nowait()
    except queue.Empty:
        return None


def _take_back(done: _Done, undo: Callable[[Any], None]) -> None:
    """Wait for work that nobody waits for any more, and undo it."""
    right, value = done.get()
    if right:
        undo(value)


def _paced(step: CheckStep) -> list[PacedBlock]:
    work = step.paced_work()
    return [work] if work is not None else []


def _same(finding: Finding, other: Finding) -> bool:
    """Whether one fault has been found twice: by the watch and by a check, or at each time round."""
    return (finding.kind, finding.part, finding.place) == (other.kind, other.part, other.place)


def finding_of_result(check: Check, result: CheckResult) -> Finding:
    """Return what a failed check is as a finding."""
    assert check.kind is not None
    figures = "; ".join(each.text for each in result.figures)
    return Finding(
        result.code or check.code,
        check.kind,
        Severity.FAULT,
        check.row,
        result.at,
        f"Check failed: {result.title}",
        result.why,
        result.place,
        raw=figures,
        load=check.name,
    )
