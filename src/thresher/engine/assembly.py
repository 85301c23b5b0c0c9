"""Putting an engine together: what the machine is, what the job file holds, and the services that work on both."""

import logging
from dataclasses import dataclass
from pathlib import Path

from thresher.compose.after_crash import Reached
from thresher.decoding.recognise import load_tables
from thresher.diagnosis.knowledge import load_knowledge
from thresher.drives import channels as drive_channels
from thresher.endings.conclude import OpenEnd
from thresher.endings.traces import boot_id_of
from thresher.engine.card_jobs.access import CardAccess, FrameBoard
from thresher.engine.card_jobs.channels import frame_channels
from thresher.engine.drive_jobs.access import DriveAccess, ScanBoard
from thresher.engine.engine import Engine, EngineParts
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.context import RunContext
from thresher.engine.run.kernels import KernelReport, Kernels
from thresher.engine.run.questions import QuestionDesk
from thresher.engine.run.record import Record
from thresher.engine.run.team_findings import Storms
from thresher.engine.run.work_channel import WorkBoard, work_channel
from thresher.engine.services.access import AccessService
from thresher.engine.services.added_evidence import AddedEvidence
from thresher.engine.services.cards import CardService
from thresher.engine.services.check_results import CheckResults
from thresher.engine.services.decisions import DecisionService
from thresher.engine.services.drive_scans import ScanService
from thresher.engine.services.drives import DriveService
from thresher.engine.services.endings import EndingService
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.job import JobService
from thresher.engine.services.job_fields import JobFields
from thresher.engine.services.keeping import Keeping
from thresher.engine.services.machine import MachineService
from thresher.engine.services.open_ends import open_ends
from thresher.engine.services.sheets import SheetService
from thresher.engine.services.trials import TrialService
from thresher.engine.services.verdicts import VerdictService
from thresher.engine.watch.black_box import BlackBoxWatch
from thresher.engine.watch.errors import EventWatch
from thresher.engine.watch.readings import Watchers
from thresher.engine.watch.sensors import SensorWatch
from thresher.engine.watch.stalls import StallWatch
from thresher.inventory.machine import read_inventory
from thresher.inventory.names import Lookup
from thresher.inventory.processor import allowed_clock_ghz
from thresher.journal.black_box import box_path, read_box
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.checks import CheckResult
from thresher.model.decisions import Decisions
from thresher.model.endings import LastMoments, MachineEnding
from thresher.model.errors import InputError, InputFault
from thresher.model.findings import Finding, Severity
from thresher.model.keeping_port import Restart
from thresher.model.parts import Fact, Inventory, PartInstance
from thresher.model.port import System, SystemKind
from thresher.model.sheet import RunSheet
from thresher.model.trials import Book
from thresher.model.verdict import Exposure
from thresher.sensors.discovery import Discovery, discover
from thresher.sensors.sampler import Sampler

_LOG = logging.getLogger(__name__)
_SETTLE_S = 5.0


@dataclass(frozen=True, slots=True)
class _Stored:
    """What the job file already holds."""

    interrupted: list[str]
    open_ends: list[tuple[OpenEnd, Reached]]
    endings: list[MachineEnding]
    moments: list[LastMoments | None]
    runs: int
    findings: list[Finding]
    exposures: list[Exposure]
    exposures_outside: list[Exposure]
    fields: dict[str, str]
    instances: tuple[PartInstance, ...]
    book: Book | None
    decisions: Decisions
    draft: RunSheet | None
    checks: list[CheckResult]
    going_on: str


def _read_stored(path: Path, boot_id: str) -> _Stored:
    with JobFile(path) as stored:
        ends = open_ends(stored, read_box(box_path(path)), boot_id)
        interrupted = stored.recover()
        endings = stored.endings()
        runs = stored.runs()
        findings = [finding for run in runs for finding in stored.findings(run)]
        return _Stored(
            interrupted,
            ends,
            endings,
            [stored.last_moments(each) for each in endings],
            len(runs),
            findings + stored.findings_outside(),
            [exposure for run in runs for exposure in stored.exposures(run)],
            stored.exposures_outside(),
            stored.job(),
            stored.part_instances(),
            stored.book(),
            stored.decisions(),
            stored.draft(),
            [result for run in runs for result in stored.check_results(run)],
            stored.going_on(),
        )


def open_engine(
    system: System,
    job_path: Path,
    job: dict[str, str] | None = None,
    interval_s: float = 1.0,
    shop: Path | None = None,
    lookup: Lookup | None = None,
    elsewhere: Path | None = None,
    restart: Restart | None = None,
) -> Engine:
    """Read what the machine is, open the job file, and return an engine on both.

    `job` holds fields for a new job; what a job file already has comes before them. `shop` is the folder of what the
    shop keeps over its jobs, None to keep nothing. `lookup` names parts by the hardware database. `elsewhere` is a
    folder for rows that the drive of the job file no longer takes. `restart` lets the program go on by itself after the
    machine has started again, None where it cannot. Raises EnvironmentFault or InputError.
    """
    if not 0.1 <= interval_s <= 60.0:
        raise InputError("sampling", [InputFault("interval", f"expected 0.1 to 60 seconds, found {interval_s:g}")])
    writer = JournalWriter(job_path, elsewhere)
    _LOG.info("opening %s on %s (%s), every %g s", job_path, system.name, system.kind.value, interval_s)
    try:
        return _assemble(system, writer, job or {}, interval_s, shop, lookup, restart)
    except BaseException:
        writer.close()  # so that the job file is not left locked
        raise


def _assemble(
    system: System,
    writer: JournalWriter,
    job: dict[str, str],
    interval_s: float,
    shop: Path | None,
    lookup: Lookup | None,
    restart: Restart | None,
) -> Engine:
    job_path = writer.path
    found = read_inventory(system, lookup)
    board, work = FrameBoard(), WorkBoard()
    discovery = _with_own_figures(system, found, discover(system, found), board, work)
    sampler = Sampler(system, discovery)
    watchers = Watchers(sampler.channels, allowed_clock_ghz(found))
    record = Record(system, writer, found, sampler.channels)
    access_service = AccessService(system, record)
    stored = _read_stored(job_path, boot_id_of(system))
    record.findings += stored.findings
    record.check_results += stored.checks
    # a simulated machine's workers are small and need no compiler; a directory of files runs no loads
    kernels = KernelReport(record, Kernels() if system.kind is SystemKind.LIVE else None)
    fields = JobFields(job | stored.fields)
    record.writer.set_job(fields.fields)
    intake = IntakeService(system, shop, found, sampler.channels, job_path.name, stored.instances)
    record.writer.set_part_instances(intake.instances)
    knowledge = load_knowledge()
    sensors = SensorWatch(system, record, sampler)
    machine = MachineService(system, record, watchers, sensors, intake, fields)
    added = AddedEvidence(system, record)
    added.use += stored.exposures_outside
    trials = TrialService(record, stored.book, intake.instances, intake.shelf.parts)
    decisions = DecisionService(system, record, stored.decisions, shop, knowledge)
    machine.apply()
    _report_put_back(record)
    _report_interrupted(record, stored.interrupted)
    events = EventWatch(system, record, machine.inventory, load_tables())
    drives = DriveService(system, record, intake, machine)
    access = DriveAccess(system, record, lambda: intake.found.parts, drives.health.get, shop, ScanBoard(record))
    storms = Storms()
    frames = job_path.with_name(f"{job_path.stem}-frames")
    cards = CardAccess(system, record, lambda: intake.found.parts, board, storms, frames)
    stalls = StallWatch(system, record)
    questions = QuestionDesk(record.publish)
    context = RunContext(
        system, record, watchers, storms, stalls, kernels.state, interval_s, access, cards, questions, work
    )
    conductor = Conductor(context, stored.runs)
    conductor.past_exposures += stored.exposures
    box = BlackBoxWatch(system, job_path, lambda: discover(system, found), sampler.channels, conductor.at_work)
    endings = EndingService(system, record, events, box, stored.endings, stored.moments)
    for end, reached in stored.open_ends:
        endings.look_into(end, reached)
    if stored.open_ends:
        writer.settle(_SETTLE_S)  # the old box is in the job file before a new one is written over it
    endings.begin_box()
    engine = Engine(
        EngineParts(
            system=system,
            record=record,
            sampler=sampler,
            watchers=watchers,
            sensors=sensors,
            events=events,
            drives=drives,
            scans=ScanService(access),
            cards=CardService(cards),
            kernels=kernels,
            conductor=conductor,
            intake=intake,
            machine=machine,
            jobs=JobService(record, fields, intake, machine, knowledge),
            sheets=SheetService(
                system, record, conductor, intake, machine, kernels, access, cards, stored.draft, questions
            ),
            added_evidence=added,
            trials=trials,
            decisions=decisions,
            verdicts=VerdictService(system, record, conductor, fields, added, trials, decisions, intake),
            questions=questions,
            checks=CheckResults(record, intake, job_path.name),
            endings=endings,
            keeping=Keeping(system, record, conductor),
            access=access_service,
            knowledge=knowledge,
            restart=restart,
            going_on=stored.going_on,
            unknown=(*machine.inventory.unknown, *discovery.unknown, *events.unknown),
            interval_s=interval_s,
        )
    )
    _report_opening(engine, record, system)
    return engine


def _with_own_figures(
    system: System, found: Inventory, discovery: Discovery, board: FrameBoard, work: WorkBoard
) -> Discovery:
    """Add the drives' own counters, the frame times of cards under load and the work done to the channels."""
    unknown: list[Fact] = []
    probes = (
        *drive_channels.find(system, found.parts, unknown),
        *frame_channels(system, found.parts, board),
        *work_channel(system, work),
    )
    return Discovery((*discovery.probes, *probes), (*discovery.unknown, *unknown))


def _report_put_back(record: Record) -> None:
    for each in record.writer.put_back:
        if each.trouble:
            detail = f"{each.trouble}; it stays where it is"
            record.note(f"Rows of this job cannot be read from {each.path}", detail, Severity.WARNING, "X-820")
        else:
            record.note(f"{each.rows} rows that had waited are in the job file", f"from {each.path}")
    if not record.writer.health().reserved:
        record.note(
            "The disk with the job file is nearly full", "no room could be set aside", Severity.WARNING, "X-820"
        )


def _report_interrupted(record: Record, sentences: list[str]) -> None:
    for sentence in sentences:
        record.note(sentence, "all up to its last row is in the job file", Severity.WARNING, "E-901")


def _report_opening(engine: Engine, record: Record, system: System) -> None:
    """Write on the tape what there is to say before the first tick."""
    label = "simulated; " if engine.inventory.simulated else ""
    unread = f"; {len(engine.unknown)} sources could not be read" if engine.unknown else ""
    interval = f"every {engine.health().interval_s:g} s"
    record.note(f"Bench open: {system.name}", f"{label}{len(engine.channels)} channels {interval}{unread}")
    engine.events.report_earlier()
    for problem in engine.intake.notes:
        record.note(problem.title, problem.detail, Severity.WARNING, problem.code)
    for question in engine.trials.asked:
        detail = f"{question}; correct the book of trials, or the machine's parts"
        record.note("The book of trials and the machine differ", detail, Severity.WARNING)
    engine.machine.report_doubts()
    engine.machine.note_visit()
