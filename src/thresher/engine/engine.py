"""The engine: samples steadily, follows the kernel log, lets runs be carried out, tells whoever listens.

One thread calls `serve`, `run_to_end` or `watch`; `submit` and `subscribe` may be called from any thread.
"""

import os
import queue
import threading
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import TypeVar

from thresher.decoding.anything import load_tables
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import load_knowledge
from thresher.diagnosis.verdict import diagnose
from thresher.engine.book_desk import BookDesk
from thresher.engine.conductor import Conductor
from thresher.engine.decision_desk import DecisionDesk
from thresher.engine.event_watch import EventWatch
from thresher.engine.intake import Intake, IntakeDesk, check_job_fields
from thresher.engine.jobs import JobCard, list_jobs, new_job
from thresher.engine.kernels import Kernels, kernels_sentence
from thresher.engine.outside import OutsideEvidence
from thresher.engine.protocol import VERSION as PROTOCOL_VERSION
from thresher.engine.protocol import (
    EngineEvent,
    EngineHealth,
    HistoryRows,
    IntakeEvent,
    JobEvent,
    MachineEvent,
    RunStatus,
    Snapshot,
    SymptomChoice,
    TickEvent,
    VerdictEvent,
)
from thresher.engine.record import Record
from thresher.engine.sensor_watch import SensorWatch
from thresher.engine.sheet_file import load_sheet
from thresher.engine.watchers import Watchers
from thresher.inventory.machine import read_inventory
from thresher.inventory.names import Lookup
from thresher.inventory.processor import allowed_clock_ghz
from thresher.journal.jobfile import JobFile, pack_reading
from thresher.journal.writer import JournalWriter
from thresher.loads.warm_up import WarmUp
from thresher.model.channels import LimitSide, Tick
from thresher.model.decisions import FrozenVerdict
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.findings import Finding, Severity
from thresher.model.job import FIELDS, parse_complaints
from thresher.model.parts import Doubt, Fact, Inventory
from thresher.model.port import System, SystemKind, optional_text
from thresher.model.sheet import RunSheet
from thresher.model.verdict import Verdict
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.shop.store import ShopPart

T = TypeVar("T")

KEEP_TICKS = 90_000
"""A day at 1 s. Packed as in the job file, 200 channels take some 80 MB."""
_DIAGNOSE_EVERY_S = 20.0
_PREPARE_POLL_S = 0.05
_SETTLE_S = 0.5


class Engine:
    """One engine for one machine and one job file."""

    def __init__(
        self,
        system: System,
        job_path: Path,
        job: dict[str, str] | None = None,
        interval_s: float = 1.0,
        shop: Path | None = None,
        lookup: Lookup | None = None,
    ) -> None:
        """Read what the machine is and open the job file. Raises EnvironmentFault or InputError.

        `job` holds fields for a new job; what a job file already has comes before them. `shop` is the folder of what
        the shop keeps over its jobs, None to keep nothing. `lookup` names parts by the hardware database.
        """
        if not 0.1 <= interval_s <= 60.0:
            raise InputError("sampling", [InputFault("interval", f"expected 0.1 to 60 seconds, found {interval_s:g}")])
        self._system = system
        self._interval = interval_s
        self._commands: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake = threading.Event()
        self._quit = False
        self._ticks: deque[tuple[float, bytes]] = deque(maxlen=KEEP_TICKS)
        self._last_tick: Tick | None = None
        self._late_total = 0
        self._cost_s = 0.0
        self._sampled_s = 0.0
        self._diagnosed_at = 0.0
        self.verdict: Verdict | None = None
        self._machine_kept: Inventory | None = None

        self.inventory = read_inventory(system, lookup)
        discovery = discover(system, self.inventory)
        self._sampler = Sampler(system, discovery)
        self.channels = self._sampler.channels
        self.unknown: tuple[Fact, ...] = (*self.inventory.unknown, *discovery.unknown)
        self._watchers = Watchers(self.channels, allowed_clock_ghz(self.inventory))
        # a simulated machine's workers are small and need no compiler; a directory of files runs no loads
        self._kernels = Kernels() if system.kind is SystemKind.LIVE else None
        self._kernels_told = ""
        self._boot_id = optional_text(system, "/proc/sys/kernel/random/boot_id") or "unknown"

        self._record = Record(system, JournalWriter(job_path), self.channels)
        with JobFile(job_path) as stored:
            interrupted = stored.recover()
            runs = stored.runs()
            self.conductor = Conductor(
                system, self.inventory, self._record, self._watchers, interval_s, len(runs), self._kernel_state
            )
            for run in runs:
                self._record.findings += stored.findings(run)
                self.conductor.past_exposures += stored.exposures(run)
            self._record.findings += stored.findings_outside()
            self.outside = OutsideEvidence(system, self._record)
            self.outside.use += stored.exposures_outside()
            self.job = (job or {}) | stored.job()
            known_parts = stored.part_instances()
            known_book = stored.book()
            known_decisions = stored.decisions()
        self._symptoms = tuple(each.text for each in parse_complaints(self.job.get("symptoms", "")))
        self._record.writer.set_job(self.job)
        self.desk = IntakeDesk(system, shop, self.inventory, self.channels, job_path.name, known_parts)
        self._record.writer.set_part_instances(self.desk.instances)
        self.books = BookDesk(self._record, known_book, self.desk.instances, self.desk.shelf.parts)
        self.verdicts = DecisionDesk(system, self._record, known_decisions, shop, load_knowledge())
        self._take_over()
        for sentence in interrupted:
            self._record.note(sentence, "all up to its last row is in the job file", Severity.WARNING, "E-901")
        self._sensors = SensorWatch(system, self._record, self._sampler)
        self.events = EventWatch(system, self._record, self.inventory, load_tables())
        self.unknown = (*self.unknown, *self.events.unknown)
        label = "simulated; " if self.inventory.simulated else ""
        unread = f"; {len(self.unknown)} sources could not be read" if self.unknown else ""
        detail = f"{label}{len(self.channels)} channels every {interval_s:g} s{unread}"
        self._record.note(f"Bench open: {system.name}", detail)
        self.events.tell_earlier()
        for problem in self.desk.notes:
            self._record.note(problem.title, problem.detail, Severity.WARNING, problem.code)
        for question in self.books.asked:
            detail = f"{question}; say in the book of trials what is fitted"
            self._record.note("The book of trials and the machine differ", detail, Severity.WARNING)
        self._doubts_told: set[Doubt] = set()
        self._tell_doubts()
        self._note_visit()

    # ---- what others may call from any thread

    def subscribe(self, listener: Callable[[EngineEvent], None]) -> None:
        """Tell every event to `listener`, on the engine's thread."""
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

    def quit(self) -> None:
        """End `serve` after the present tick."""
        self._quit = True
        self._wake.set()

    # ---- the engine's own thread

    def serve(self) -> None:
        """Sample and carry out commands until told to quit; then stop a run in order and close everything."""
        try:
            self._loop(lambda: self._quit)
        finally:
            self.close()

    def run_to_end(self, sheet: RunSheet) -> RunStatus:
        """Carry out one sheet on this thread and return how it ended. Raises EnvironmentFault."""
        self.put_sheet(sheet)
        self.start()
        self._loop(lambda: self._quit or not self.conductor.active)
        return self.status()

    def watch(self, seconds: float) -> None:
        """Sample for a while without a run."""
        until = self._system.now() + seconds
        self._loop(lambda: self._quit or self._system.now() >= until)

    def close(self) -> None:
        """Stop what runs, write what waits, let go of everything."""
        self.conductor.close()
        if self._kernels is not None:
            self._kernels.close()
        self._record.writer.close()
        self._sampler.close()
        self._sensors.close()
        self.events.close()
        self._system.close()

    def put_sheet(self, sheet: RunSheet) -> None:
        """Put a sheet on the bench, to be started. Raises EnvironmentFault while a run goes on."""
        self.conductor.put_sheet(sheet)

    def choose_sheet(self, name: str) -> None:
        """Put a sheet on the bench, one that ships or the shop's own.

        Raises InputError for an unknown name, EnvironmentFault during a run.
        """
        path = self.desk.sheet_path(name)
        if path is None:
            raise InputError("run sheet", [InputFault("name", f"there is no sheet {name!r}")])
        self.put_sheet(load_sheet(path))

    def put_proposed(self) -> None:
        """Put the sheet on the bench that fits best what is known now."""
        best = next(iter(self.intake().offers), None)
        if best is not None and not best.trouble:
            self.choose_sheet(best.name)

    def set_job(self, fields: dict[str, str]) -> None:
        """Keep fields of the job. Raises InputError for fields that a job does not have and for unknown symptoms."""
        faults = [InputFault(name, f"a job has {', '.join(FIELDS)}") for name in fields if name not in FIELDS]
        known = {symptom.text for symptom in self.verdicts.knowledge.symptoms}
        symptoms = tuple(each.text for each in parse_complaints(fields.get("symptoms", "")))
        faults += [InputFault("symptoms", f"{text!r} is not known") for text in symptoms if text not in known]
        faults += check_job_fields(fields)
        if faults:
            raise InputError("job", faults)
        changed = {name for name, value in fields.items() if self.job.get(name, "") != value}
        self.job = self.job | fields
        if "symptoms" in fields and symptoms != self._symptoms:
            self._symptoms = symptoms
            self._record.changed = True
        self._record.writer.set_job(fields)
        self._record.tell(JobEvent(self.job, self._symptoms))
        if "number" in changed:
            self._note_visit()
        if any(name.startswith("expected_") for name in changed):
            self._take_over()
            self._tell_doubts()
            self._tell_machine()
        elif changed & {"symptoms", "minutes"}:
            self._record.tell(IntakeEvent(self.intake()))

    def jobs(self) -> tuple[JobCard, ...]:
        """Return the jobs in the folder of this one, the current one first, then the newest."""
        writer = self._record.writer
        if not self.conductor.active:
            writer.settle(_SETTLE_S)  # so that the card shows what was typed a moment ago
        return list_jobs(writer.path.parent, writer.path)

    def new_job(self) -> str:
        """Make a new job beside this one for the same machine and return its path. Raises EnvironmentFault."""
        self._not_in_a_run("beginning another job")
        self._record.writer.settle(_SETTLE_S)
        path = self._record.writer.path
        fields = {name: self.job[name] for name in ("model", "machine") if self.job.get(name)}
        return str(new_job(path.parent, path, fields | {"symptoms": ""}))

    # ---- the intake

    def intake(self) -> Intake:
        """Return what the Intake shows beside the machine."""
        return self.desk.intake(self.job, self._symptoms)

    def set_limit(self, channel: str, side: LimitSide, value: float | None, reason: str) -> None:
        """Set the technician's limit on a channel, or take it away with None. Raises InputError, EnvironmentFault."""
        self._not_in_a_run("changing a limit")
        self.desk.set_limit(channel, side, value, reason)
        named = next(each for each in self.channels if each.key == channel)
        what = "taken away" if value is None else f"{side.value} {value:g} {named.unit}, {reason}"
        self._record.note(f"Limit of {named.name} changed", what)
        self._take_over()
        self._tell_machine()

    def set_trust(self, channel: str, believed: bool, reason: str) -> None:
        """Say whether a channel is to be believed. Raises InputError, EnvironmentFault."""
        self._not_in_a_run("changing which sensors are trusted")
        self.desk.set_trust(channel, believed, reason)
        named = next(each for each in self.channels if each.key == channel)
        word = "believed" if believed else "not believed"
        self._record.note(f"{named.name} {word}", reason or "by the technician's word; it stays with this machine")
        self._take_over()
        self._tell_machine()

    def set_shelf(self, parts: tuple[ShopPart, ...]) -> None:
        """Keep the shop's shelf. Raises InputError, EnvironmentFault."""
        self.desk.set_shelf(parts)
        self._record.tell(IntakeEvent(self.intake()))

    def keep_sheet(self, name: str) -> str:
        """Keep a copy of a sheet as the shop's own and return its path. Raises InputError, EnvironmentFault."""
        path = self.desk.keep_sheet(name)
        self._record.tell(IntakeEvent(self.intake()))
        return str(path)

    def freeze_verdict(self, note: str = "") -> FrozenVerdict:
        """Keep the verdict as it stands. Raises InputError when there is none."""
        if self._record.changed and self._last_tick is not None:
            self._diagnose(self._last_tick.at)
        return self.verdicts.freeze(self.verdict, len(self.books.book.trials), note)

    def read_prices(self) -> None:
        """Read the shop's price list anew, after it was changed in an editor."""
        before = len(self.desk.notes)
        self.desk.prices = self.desk.read_prices()
        for problem in self.desk.notes[before:]:
            self._record.note(problem.title, problem.detail, Severity.WARNING, problem.code)
        self._record.changed = True

    def read_sheets(self) -> None:
        """Read the shop's own sheets anew, after they were changed in an editor."""
        self.desk.read_sheets()
        self._record.tell(IntakeEvent(self.intake()))

    def begin_baseline(self, seconds: float) -> None:
        """Take idle readings from now on. Raises InputError, and EnvironmentFault while a run goes on."""
        self._not_in_a_run("taking idle readings")
        self.desk.begin_baseline(seconds)
        self._record.tell(IntakeEvent(self.intake()))

    def _not_in_a_run(self, tried: str) -> None:
        if self.conductor.active:
            raise EnvironmentFault(tried, "a run goes on", "Stop it first, or wait for its end.")

    def _take_over(self) -> None:
        """Let limits, trust and doubts as they are now count everywhere."""
        self.channels = self._watchers.channels = self._record.channels = self.desk.channels()
        self.inventory, _ = self.desk.inventory(self.job)
        self.conductor.inventory = self.inventory
        if self.inventory != self._machine_kept:
            self._machine_kept = self.inventory
            self._record.writer.add_mark(None, self._system.now(), "machine", self.inventory)

    def _tell_machine(self) -> None:
        self._record.tell(MachineEvent(self.inventory, self.channels, self.intake()))

    def _tell_doubts(self) -> None:
        """Write each doubt about the machine on the tape, once."""
        for doubt in self.inventory.doubts:
            if doubt not in self._doubts_told:
                self._doubts_told.add(doubt)
                detail = f"{doubt.part}: {doubt.detail}"
                self._record.note(doubt.title, detail, Severity.WARNING, doubt.code, doubt.kind)

    def _kernel_state(self) -> WarmUp:
        return self._kernels.poll() if self._kernels is not None else WarmUp(0, usable=False, detail="simulated")

    def _follow_kernels(self) -> None:
        """Say on the tape which form the loads have, once it is known."""
        if self._kernels is None or self._kernels_told:
            return
        state = self._kernels.poll()
        if state.usable is None:
            return
        self._kernels_told = kernels_sentence(state)
        if state.usable:
            self._record.note("Loads are ready", f"{self._kernels_told}, known answers given in {state.seconds:.1f} s")
        else:
            self._record.note("Compiled loads are not used", self._kernels_told, Severity.WARNING, "X-870")

    def _check_sensors(self, tick: Tick) -> None:
        """Stop believing channels that give themselves away."""
        doubts = self._sensors.look(tick)
        names = {channel.key: channel.name for channel in self.channels} if doubts else {}
        for doubt in doubts:
            if doubt.channel not in names or not self.desk.doubt(doubt):
                continue
            why = f"{names[doubt.channel]}: {doubt.detail}; not believed from now on"
            self._record.note(doubt.title, why, Severity.WARNING, doubt.code)
            body = {"channel": doubt.channel, "why": f"{doubt.title}: {doubt.detail}"}
            self._record.writer.add_mark(self._record.run_number(), tick.at, "distrust", body)
            self._take_over()
            self._tell_machine()

    def _keeping(self, action: Callable[[], T]) -> T | None:
        """Do something that keeps a file of the shop; when that fails the bench goes on and says why."""
        try:
            return action()
        except EnvironmentFault as error:
            self._record.note("The shop's files cannot be written", str(error), Severity.WARNING, "X-861")
            return None

    def _note_visit(self) -> None:
        self._keeping(lambda: self.desk.note_visit(self.job.get("number", "")))

    def _take_idle(self, tick: Tick) -> None:
        baseline = self._keeping(lambda: self.desk.take(tick))
        if baseline is None:
            return
        odd = f"{len(baseline.doubts)} odd" if baseline.doubts else "nothing odd"
        self._record.writer.add_mark(None, tick.at, "baseline", baseline)
        self._record.note(
            "Idle readings taken", f"{len(baseline.readings)} channels in {baseline.seconds:.0f} s, {odd}"
        )
        names = {channel.key: channel.name for channel in self.channels}
        for doubt in baseline.doubts:
            detail = f"{names.get(doubt.channel, doubt.channel)}: {doubt.detail}"
            self._record.note(doubt.title, detail, Severity.WARNING, doubt.code)
        self._take_over()
        self._tell_machine()

    def start(self) -> None:
        """Start the sheet on the bench. Raises EnvironmentFault."""
        if self.desk.drop_baseline():
            self._record.note("Idle readings given up", "a load begins", Severity.WARNING)
            self._record.tell(IntakeEvent(self.intake()))
        self.conductor.start(self.channels, self._boot_id)
        run = self._record.run_number()
        if run is not None:
            self.books.run_begins(run)

    def stop(self) -> str:
        """Stop the run at once and return how many workers have ended."""
        self.events.flush()
        sentence = self.conductor.stop()
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
            simulated = self._system.kind is SystemKind.BENCH_MODEL  # its clock stands while we work
            late = 0 if simulated else int((now - next_at) / self._interval)
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
        self._guarded(self.conductor.pace)
        tick = self._sampler.sample(late)
        self._record.tick = tick
        self._cost_s += tick.cost_s
        self._sampled_s += self._interval * (1 + late)
        self._last_tick = tick
        self._ticks.append((tick.at, pack_reading(tick.values)))
        self.events.follow(tick.at)
        self._take_idle(tick)
        self._check_sensors(tick)
        self._follow_kernels()
        findings, entries = self._watchers.look(tick, self.conductor.busy_cores())
        for finding in findings:
            self._record.find(finding)
        for entry in entries:
            self._record.write(entry)
        self._guarded(lambda: self.conductor.advance(tick))
        self._record.check_journal()
        self._settle()

    def _settle(self) -> None:
        """Tell the newest tick, and the verdict when evidence has changed it."""
        tick = self._last_tick
        if tick is None:
            return
        self._record.tell(TickEvent(tick, self.status(), self.health()))
        due = self.conductor.busy_cores() and tick.at - self._diagnosed_at >= _DIAGNOSE_EVERY_S
        if self._record.changed or due:
            self._diagnose(tick.at)

    def _guarded(self, action: Callable[[], None]) -> None:
        """Do something for the run; when the surroundings forbid it, end the run in order and say why."""
        try:
            action()
        except EnvironmentFault as error:
            self.conductor.cannot_go_on(error)

    def _diagnose(self, at: float) -> None:
        spent = (*self.conductor.exposures(), *self.outside.use)
        evidence = Evidence(self.findings, spent, self.inventory.core_count, self._symptoms, self.books.kept)
        self.verdict = diagnose(evidence, self.verdicts.knowledge, self.desk.prices, self.books.book)
        self._diagnosed_at = at
        self._record.changed = False
        self._record.tell(VerdictEvent(self.verdict))

    # ---- what is known now

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All findings of the job."""
        return tuple(self._record.findings)

    @property
    def told(self) -> int:
        """How many events have been told since the start."""
        return self._record.told

    def status(self) -> RunStatus:
        """Return where the run is."""
        return self.conductor.status()

    def health(self) -> EngineHealth:
        """Return how the engine does."""
        journal = self._record.writer.health()
        share = self._cost_s / self._sampled_s if self._sampled_s else 0.0
        access = "full access" if os.geteuid() == 0 else "as user, some sources need root"
        return EngineHealth(
            len(self.channels), self._interval, share, self._late_total, journal.age_s, journal.waiting,
            journal.trouble, access, kernels_sentence(self._kernels.poll()) if self._kernels is not None else "",
        )  # fmt: skip

    def snapshot(self) -> Snapshot:
        """Return everything that a window needs to begin with."""
        return Snapshot(
            version=PROTOCOL_VERSION, pid=os.getpid(), job=self.job, job_file=str(self._record.writer.path),
            machine=self.inventory, kind=self._system.kind.value, speed=self._system.speed, channels=self.channels,
            unknown=self.unknown, wall_offset=self._system.wall() - self._system.now(), sheet=self.conductor.sheet,
            run=self.status(),
            tape=tuple(self._record.tape), findings=self.findings, verdict=self.verdict, symptoms=self._symptoms,
            health=self.health(), told=self.told,
            symptom_choices=tuple(SymptomChoice(each.text, each.group) for each in self.verdicts.knowledge.symptoms),
            intake=self.intake(), earlier=self.events.earlier, sources=tuple(self.events.sources),
            book=self.books.book, questions=self.books.asked, decided=self.verdicts.event(),
        )  # fmt: skip

    def history(self, after: float, most: int) -> HistoryRows:
        """Return past ticks later than `after`."""
        rows = [row for row in self._ticks if row[0] > after]
        shown = rows[:most]
        return HistoryRows(tuple(at for at, _ in shown), tuple(packed for _, packed in shown), len(rows) > most)
