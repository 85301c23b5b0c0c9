"""The engine: samples steadily, follows the machine's own error reports, carries out runs, informs its listeners.

One thread calls `serve`, `run_to_end` or `watch`; `submit`, `subscribe` and `quit` may be called from any thread. What
the engine keeps beside the run is left to its services. `assembly.open_engine` makes one.
"""

import logging
import os
import queue
import signal
import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeVar

from thresher.diagnosis.knowledge import Knowledge
from thresher.endings.traces import boot_id_of
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.kernels import KernelReport
from thresher.engine.run.questions import QuestionDesk
from thresher.engine.run.record import Record
from thresher.engine.run.run_limits import unwatched
from thresher.engine.services.access import AccessService
from thresher.engine.services.added_evidence import AddedEvidence
from thresher.engine.services.cards import CardService
from thresher.engine.services.check_results import CheckResults
from thresher.engine.services.decisions import DecisionService
from thresher.engine.services.drive_scans import ScanService
from thresher.engine.services.drives import DriveService
from thresher.engine.services.endings import EndingService
from thresher.engine.services.going_on import GoingOn, GoingOnContext
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.job import JobService
from thresher.engine.services.keeping import Keeping
from thresher.engine.services.machine import MachineService
from thresher.engine.services.open_ends import open_ends
from thresher.engine.services.rails import report_rails
from thresher.engine.services.sheets import SheetService
from thresher.engine.services.trials import TrialService
from thresher.engine.services.verdicts import VerdictService
from thresher.engine.watch.errors import EventWatch
from thresher.engine.watch.readings import Watchers
from thresher.engine.watch.sensors import SensorWatch
from thresher.journal.black_box import box_path, read_box
from thresher.journal.jobfile import JobFile, pack_reading
from thresher.journal.writer import Closing
from thresher.model.channels import Channel
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, Severity
from thresher.model.keeping_port import Restart
from thresher.model.parts import Fact, Inventory
from thresher.model.port import System
from thresher.model.sheet import RunSheet
from thresher.model.verdict import Verdict
from thresher.protocol.answers import HistoryRows, Snapshot
from thresher.protocol.events import EngineEvent, TickEvent
from thresher.protocol.status import EngineHealth, RunStatus
from thresher.protocol.wire import VERSION
from thresher.sensors.sampler import Sampler

T = TypeVar("T")
_LOG = logging.getLogger(__name__)

KEEP_TICKS = 90_000
"""A day at 1 s. Packed as in the job file, 200 channels take some 80 MB."""
_PREPARE_POLL_S = 0.05
_SETTLE_S = 5.0
_BETWEEN_ROUNDS_S = 5.0
"""Between two rounds of a run that repeats: time to read what came, and to press Stop."""


@dataclass(frozen=True, slots=True)
class EngineParts:
    """Everything that an engine is put together from."""

    system: System
    record: Record
    sampler: Sampler
    watchers: Watchers
    sensors: SensorWatch
    events: EventWatch
    drives: DriveService
    scans: ScanService
    cards: CardService
    kernels: KernelReport
    conductor: Conductor
    intake: IntakeService
    machine: MachineService
    jobs: JobService
    sheets: SheetService
    added_evidence: AddedEvidence
    trials: TrialService
    decisions: DecisionService
    verdicts: VerdictService
    questions: QuestionDesk
    checks: CheckResults
    endings: EndingService
    keeping: Keeping
    access: AccessService
    knowledge: Knowledge
    restart: Restart | None
    going_on: str
    unknown: tuple[Fact, ...]
    interval_s: float


class Engine:
    """One engine for one machine and one job file."""

    def __init__(self, parts: EngineParts) -> None:
        """Take over the parts; nothing is read before `serve`, `run_to_end` or `watch`."""
        self._parts = parts
        self._system = parts.system
        self._record = parts.record
        self._interval = parts.interval_s
        self._commands: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake = threading.Event()
        self._quit = False
        self._asked_by = 0
        self._broken_off = False
        self._ticks: deque[tuple[float, bytes]] = deque(maxlen=KEEP_TICKS)
        self._late_total = 0
        self._rails_of: int | None = None
        self._cost_s = 0.0
        self._sampled_s = 0.0
        self.conductor = parts.conductor
        self.intake = parts.intake
        self.machine = parts.machine
        self.jobs = parts.jobs
        self.sheets = parts.sheets
        self.added_evidence = parts.added_evidence
        self.trials = parts.trials
        self.decisions = parts.decisions
        self.verdicts = parts.verdicts
        self.events = parts.events
        self.scans = parts.scans
        self.cards = parts.cards
        self.questions = parts.questions
        self.endings = parts.endings
        self.access = parts.access
        self.wants_reopening = False
        context = GoingOnContext(
            parts.system,
            parts.record,
            parts.conductor,
            parts.knowledge,
            parts.restart,
            self._start_by_itself,
            lambda: self.verdict,
        )
        self.going_on = GoingOn(context, parts.going_on)
        self.endings.on_judged = self.going_on.ended_suddenly
        self.unknown = parts.unknown

    # ---- what others may call from any thread

    def subscribe(self, listener: Callable[[EngineEvent], None]) -> None:
        """Pass every event to `listener`, on the engine's thread."""
        self._record.listeners.append(listener)

    def submit(self, action: Callable[[], T]) -> "Future[T]":
        """Let the engine's thread do something as soon as it can; the future holds the answer or the error."""
        future: Future[T] = Future()

        def carry_out() -> None:
            try:
                future.set_result(action())
            except Exception as error:  # noqa: BLE001 (handed to whoever asked)
                future.set_exception(error)

        self._commands.put(carry_out)
        self._wake.set()
        return future

    def note(self, title: str, detail: str) -> None:
        """Write a line on the tape, before the engine is served."""
        self._record.note(title, detail, Severity.WARNING)

    def quit(self, signal_number: int = 0) -> None:
        """End `serve` after the present tick; `signal_number` is the signal that asked for it, 0 for none."""
        self._asked_by = signal_number
        self._quit = True
        self._wake.set()

    # ---- the engine's own thread

    def serve(self) -> None:
        """Sample and carry out commands until asked to quit; then stop a run in order and close everything."""
        try:
            self._loop(lambda: self._quit)
        finally:
            self.close()

    def run_to_end(self, sheet: RunSheet, unwatched_limit: bool = False) -> RunStatus:
        """Carry out one sheet on this thread and return how it ended. Raises EnvironmentFault."""
        self.sheets.put(sheet)
        self.start(unwatched_limit)
        self._loop(lambda: self._quit or self._nothing_left())
        return self.status()

    def watch(self, seconds: float) -> None:
        """Sample for a while without a run."""
        until = self._system.now() + seconds
        self._loop(lambda: self._quit or self._system.now() >= until)

    def close(self) -> Closing:
        """Stop what runs, write what waits, close everything; return what the job file lacks, if anything."""
        _LOG.info("closing %s", self.job_file)
        self.break_off()
        self.going_on.close(self.shutting_down)
        self._parts.keeping.close()
        self.endings.close("closed", self._asked_by, self._broken_off)
        self.scans.close()
        self._parts.kernels.close()
        self._parts.checks.settle()
        closed = self._record.writer.close()
        for sentence in closed.sentences:
            _LOG.error("%s: %s", self.job_file, sentence)
        self._parts.sampler.close()
        self._parts.sensors.close()
        self.events.close()
        self._system.close()
        return closed

    @property
    def shutting_down(self) -> bool:
        """Whether it was asked to end as a machine asks that is shut down."""
        return self._asked_by == signal.SIGTERM

    def break_off(self) -> str:
        """End a run in progress because the program ends, and return how many workers have ended."""
        if not self.conductor.active:
            return "nothing was running"
        self._broken_off = self.shutting_down
        return self.conductor.close(self._asked_by)

    def start(self, unwatched_limit: bool = False) -> None:
        """Start the sheet on the bench.

        Raises EnvironmentFault, also when nothing reports what the sheet's temperature limit watches, unless that is
        accepted as `unwatched_limit`.
        """
        sheet = self.conductor.sheet
        reason = unwatched(sheet.limits.temperature_c, self.channels) if sheet is not None else ""
        if reason and not unwatched_limit:
            remedy = "Take the limit off the sheet, trust a sensor, or accept it (--unwatched-limit)."
            raise EnvironmentFault("starting a run", reason, remedy)
        if reason and sheet is not None:
            self._record.note("Limit not watched", reason, Severity.WARNING, "X-802")
            # the run is kept with the limits that it really had
            self.sheets.put(replace(sheet, limits=replace(sheet.limits, temperature_c=None)))
        self.machine.drop_baseline()
        self.conductor.start(boot_id_of(self._system))
        run = self._record.run_number()
        if run is not None and self.conductor.sheet is not None:
            self.trials.run_begins(run)
            self._parts.keeping.run_begins(self.conductor.sheet.crash.watchdog)
            self.going_on.run_begins(run, self.conductor.sheet)
        self.sheets.started()

    def _start_by_itself(self, sheet: RunSheet) -> None:
        """Put a sheet on the bench and start it, because a run goes on after a sudden end. Raises EnvironmentFault."""
        self.sheets.put(sheet)
        self.start()

    def run_what_goes_on(self) -> RunStatus:
        """Go on with a run that a sudden end has left, until nothing goes on any more; return how it ended."""
        self._loop(lambda: self._quit or self._nothing_left())
        return self.status()

    def _nothing_left(self) -> bool:
        """Whether nothing runs, nothing is looked into, and nothing starts by itself."""
        left = self.going_on.pending or self.going_on.awaits
        return not self.conductor.active and self.endings.settled and not left

    def _start_again(self) -> None:
        """Start a sheet that repeats once more, when it was carried out to its end."""
        if not self.conductor.repeats:
            return
        self.going_on.next_round()
        try:
            self.start()
        except EnvironmentFault as error:
            self.conductor.give_up_repeating()
            self._record.note("Cannot start again", str(error), Severity.WARNING)
            self.going_on.stop("the run cannot be started again")
            return
        self.conductor.hold_back(_BETWEEN_ROUNDS_S)

    def stop(self) -> str:
        """Stop the run at once and return how many workers have ended."""
        self.events.flush()
        sentence = self.conductor.stop()
        self._report_rails()
        self._settle()
        return sentence

    def _loop(self, done: Callable[[], bool]) -> None:
        next_at = self._system.now()
        while not done():
            while not self._commands.empty():
                self._commands.get()()
            now = self._system.now()
            if now < next_at - 1e-6:
                self._wait(next_at)
                continue
            late = self._system.pacing.missed_ticks(now - next_at, self._interval)
            self._late_total += late
            self._tick(late)
            next_at += self._interval * (1 + late)

    def _wait(self, next_at: float) -> None:
        preparing = self.conductor.preparing
        until = min(next_at, self._system.now() + _PREPARE_POLL_S) if preparing else next_at
        self._system.wait_until(until, self._wake)
        self._wake.clear()
        if preparing:
            self._guarded(self.conductor.poll)

    def _tick(self, late: int) -> None:
        if self._system.pacing.take_reset():
            self._machine_started_again()
        self._guarded(self.conductor.pace)
        tick = self._parts.sampler.sample(late)
        self._record.tick = tick
        self._cost_s += tick.cost_s
        self._sampled_s += self._interval * (1 + late)
        self._ticks.append((tick.at, pack_reading(tick.values)))
        self.events.follow(tick.at)
        self.endings.box.follow(tick)
        self.machine.follow(tick)
        self._parts.drives.follow()
        self._parts.drives.watch(tick, self._parts.sampler.channels)
        self.endings.know_cycles(self._parts.drives.power_cycles)
        self.endings.follow(tick.at, self._parts.drives.all_answered)
        self.scans.follow()
        self._parts.kernels.follow()
        findings, entries = self._parts.watchers.look(tick, self.conductor.steady_cores())
        for finding in findings:
            self._record.find(finding)
        for entry in entries:
            self._record.write(entry)
        self._guarded(lambda: self.conductor.advance(tick))
        self._report_rails()
        self._start_again()
        self._parts.keeping.follow(tick.at)
        self.endings.know_watchdog(self._parts.keeping.armed)
        if self.endings.settled:
            self.going_on.take_up()
        self.going_on.follow(tick.at)
        self.access.follow(self._idle, self._reopen)
        self._record.check_journal()
        self._settle()

    @property
    def _idle(self) -> bool:
        """Whether nothing goes on that opening the bench again would end."""
        scanning = self.scans.status is not None and self.scans.status.running
        return not (self.conductor.active or scanning or self.going_on.event().due is not None)

    def _reopen(self) -> None:
        """End, so that whoever serves this engine opens the job again."""
        self.wants_reopening = True
        self.quit()

    def _machine_started_again(self) -> None:
        """A simulated machine has come to an end and started again: go on as the next start on that job would."""
        self.events.follow(self._system.now())
        self.conductor.machine_has_ended()
        self._parts.drives.ask_again()
        with JobFile(self.job_file) as stored:
            self._record.writer.settle(_SETTLE_S)
            ends = open_ends(stored, read_box(box_path(self.job_file)), boot_id_of(self._system))
        for end, reached in ends:
            self.endings.look_into(end, reached)
        self.endings.begin_box()

    def _report_rails(self) -> None:
        """Once after each run, say what it showed of the rails, and keep what its checks said of the machine."""
        run = self._record.run
        self._parts.checks.report()
        if run is not None and not run.active and run.number != self._rails_of:
            self._rails_of = run.number
            self._parts.checks.keep()
            report_rails(self._record, run, self._ticks)

    def _settle(self) -> None:
        """Announce the newest tick, and the verdict when evidence has changed it."""
        tick = self._record.tick
        if tick is None:
            return
        self._record.publish(TickEvent(tick, self.status(), self.health()))
        self.verdicts.follow(tick.at)

    def _guarded(self, action: Callable[[], None]) -> None:
        """Do something for the run; when it cannot be done here, end the run in order and say why."""
        try:
            action()
        except EnvironmentFault as error:
            _LOG.warning("the run cannot continue: %s", error)
            self.conductor.cannot_go_on(error)

    # ---- what is known now

    @property
    def channels(self) -> tuple[Channel, ...]:
        """All channels, with limits and trust as they are now."""
        return self.machine.channels

    @property
    def inventory(self) -> Inventory:
        """The machine, with all doubts about it."""
        return self.machine.inventory

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All findings of the job."""
        return tuple(self._record.findings)

    @property
    def verdict(self) -> Verdict | None:
        """The newest verdict, None before the first."""
        return self.verdicts.verdict

    @property
    def job_file(self) -> Path:
        """The job file of this engine."""
        return self._record.writer.path

    @property
    def events_published(self) -> int:
        """How many events have been published since the start."""
        return self._record.published

    def status(self) -> RunStatus:
        """Return where the run is."""
        return self.conductor.status()

    def health(self) -> EngineHealth:
        """Return how the engine does."""
        journal = self._record.writer.health()
        share = self._cost_s / self._sampled_s if self._sampled_s else 0.0
        return EngineHealth(
            len(self.channels),
            self._interval,
            share,
            self._late_total,
            journal.age_s,
            journal.waiting,
            journal.trouble,
            self._parts.kernels.sentence(),
        )

    def snapshot(self) -> Snapshot:
        """Return everything that a window needs to begin with."""
        return Snapshot(
            version=VERSION,
            pid=os.getpid(),
            job=self.jobs.fields,
            job_file=str(self.job_file),
            machine=self.inventory,
            kind=self._system.kind.value,
            speed=self._system.speed,
            channels=self.channels,
            unknown=self.unknown,
            wall_offset=self._system.wall() - self._system.now(),
            sheet=self.conductor.sheet,
            run=self.status(),
            tape=tuple(self._record.tape),
            findings=self.findings,
            verdict=self.verdict,
            symptoms=self.jobs.symptoms,
            health=self.health(),
            last_event=self.events_published,
            symptom_choices=self.jobs.symptom_choices,
            intake=self.machine.intake(),
            earlier=self.events.earlier,
            sources=tuple(self.events.sources),
            book=self.trials.book,
            questions=self.trials.asked,
            decided=self.decisions.event(),
            draft=self.sheets.draft,
            scan=self.scans.status,
            checks=tuple(self._record.check_results),
            checks_before=self._parts.checks.before,
            asked=self.questions.open,
            endings=tuple(self.endings.endings),
            going_on=self.going_on.event(),
            access=self.access.event(),
            shop=self.decisions.shop_folder,
        )

    def history(self, after: float, most: int) -> HistoryRows:
        """Return past ticks later than `after`."""
        rows = [row for row in self._ticks if row[0] > after]
        shown = rows[:most]
        return HistoryRows(tuple(at for at, _ in shown), tuple(packed for _, packed in shown), len(rows) > most)
