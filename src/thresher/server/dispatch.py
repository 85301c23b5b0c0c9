"""Which command does what: one function a group of commands. They run on the engine's own thread."""

from collections.abc import Callable
from typing import assert_never

from thresher.compose.sheet_file import parse_sheet, trial_sheet
from thresher.engine.engine import Engine
from thresher.protocol.commands import (
    AddEvidence,
    AddNote,
    AddOutcome,
    AddPart,
    AddTime,
    AnswerEnding,
    AnswerQuestion,
    AppendBlock,
    AskAccess,
    AssignRun,
    Attend,
    BeginBaseline,
    BeginTrial,
    ChangeCommand,
    CheckCommand,
    ChooseSheet,
    CloseJob,
    ControlCommand,
    DeleteSheet,
    DeviceCommand,
    EditPrices,
    EndBlock,
    EndingCommand,
    EngineCommand,
    EvidenceCommand,
    FollowMachine,
    GetHistory,
    GetMoments,
    GetSnapshot,
    GoOn,
    GoOnNow,
    IntakeCommand,
    KeepDraft,
    KeepSeal,
    KeepSheet,
    KeepTrials,
    LeaveEngine,
    LeaveOut,
    ListJobs,
    LockVerdict,
    NewJob,
    OpenSheet,
    PutDraft,
    PutRound,
    PutSheet,
    PutTrialSheet,
    QuitEngine,
    ReloadPrices,
    ReloadSheets,
    RenameSheet,
    ReopenJob,
    ReportArtefact,
    RunCommand,
    SaveSheet,
    SetCounted,
    SetJob,
    SetLimit,
    SetRoom,
    SetShelf,
    SetTrust,
    SheetCommand,
    StartRun,
    StartScan,
    StopGoingOn,
    StopRun,
    StopScan,
    TrialCommand,
    UndoEvidence,
    UndoTrial,
    VerdictCommand,
)

_HISTORY_ROWS = 2_000


def carry_out(engine: Engine, command: EngineCommand) -> object:
    """Carry out a command and return its answer. Raises InputError, EnvironmentFault."""
    if isinstance(command, RunCommand):
        return _on_run(engine, command)
    if isinstance(command, ChangeCommand):
        return _on_change(engine, command)
    if isinstance(command, SheetCommand):
        return _on_sheets(engine, command)
    if isinstance(command, DeviceCommand | CheckCommand | EndingCommand):
        return _on_parts(engine, command)
    if isinstance(command, IntakeCommand):
        return _on_intake(engine, command)
    if isinstance(command, EvidenceCommand):
        return _on_evidence(engine, command)
    if isinstance(command, TrialCommand):
        return _on_trials(engine, command)
    if isinstance(command, VerdictCommand):
        return _on_verdict(engine, command)
    if isinstance(command, ControlCommand):
        return _on_control(engine, command)
    assert_never(command)


def _on_parts(engine: Engine, command: DeviceCommand | CheckCommand | EndingCommand) -> object:
    if isinstance(command, EndingCommand):
        return _on_endings(engine, command)
    return _on_checks(engine, command) if isinstance(command, CheckCommand) else _on_devices(engine, command)


def prepare(engine: Engine, command: ListJobs | NewJob) -> Callable[[], object]:
    """Return what carries out a command that opens other jobs, which may be damaged or on a dying drive.

    To be called on the engine's thread; what is returned belongs on any other.
    """
    match command:
        case ListJobs():
            engine.jobs.settle()
            return engine.jobs.cards
        case NewJob():
            return engine.jobs.prepare_new()
        case _:
            assert_never(command)


def _on_run(engine: Engine, command: RunCommand) -> object:
    match command:
        case StartRun(unwatched_limit):
            engine.start(unwatched_limit)
        case StopRun():
            return engine.stop()
        case PutSheet(toml, name):
            engine.sheets.put(parse_sheet(toml, name))
        case ChooseSheet(name):
            engine.sheets.choose(name)
        case PutTrialSheet(stints, title):
            engine.sheets.put(trial_sheet(stints, title))
        case PutDraft(sheet, name):
            engine.sheets.put(sheet, name)
        case _:
            assert_never(command)
    return engine.status()


def _on_change(engine: Engine, command: ChangeCommand) -> object:
    changes = engine.sheets.changes()
    match command:
        case AddTime(step, seconds):
            changes.add_time(step, seconds)
        case EndBlock(step):
            changes.end_block(step)
        case LeaveOut(step):
            changes.leave_out(step)
        case AppendBlock(block):
            changes.append(block)
        case GoOn(step):
            changes.go_on(step)
        case _:
            assert_never(command)
    return engine.status()


def _on_sheets(engine: Engine, command: SheetCommand) -> object:
    sheets = engine.sheets
    match command:
        case KeepDraft(sheet):
            return sheets.keep_draft(sheet)
        case OpenSheet(name):
            return sheets.open(name)
        case SaveSheet(sheet, name, digest):
            return sheets.save(sheet, name, digest)
        case RenameSheet(name, title):
            return sheets.rename(name, title)
        case DeleteSheet(name):
            return sheets.delete(name)
        case KeepSheet(name):
            return sheets.keep(name)
        case ReloadSheets():
            sheets.reload()
        case _:
            assert_never(command)
    return True


def _on_devices(engine: Engine, command: DeviceCommand) -> object:
    match command:
        case StartScan(drive, quick, go_on, anyway, begin, end):
            return engine.scans.start(drive, quick, go_on, anyway, (begin, end))
        case StopScan():
            engine.scans.stop()
            return True
        case ReportArtefact(card, seen):
            return engine.cards.report(card, seen)
        case _:
            assert_never(command)


def _on_checks(engine: Engine, command: CheckCommand) -> object:
    match command:
        case PutRound(kind, parts, checks, times):
            engine.sheets.put_round(kind, parts, checks, times)
            return engine.status()
        case AnswerQuestion(number, answer):
            engine.questions.answer(number, answer)
        case Attend(attended):
            engine.questions.attended = attended
        case _:
            assert_never(command)
    return True


def _on_endings(engine: Engine, command: EndingCommand) -> object:
    match command:
        case AnswerEnding(number, seen):
            return engine.endings.answer(number, seen)
        case GetMoments(number):
            return engine.endings.moments(number)
        case StopGoingOn():
            engine.going_on.stop("stopped by hand")
            return True
        case GoOnNow():
            return engine.going_on.hurry()
        case _:
            assert_never(command)


def _on_intake(engine: Engine, command: IntakeCommand) -> object:
    match command:
        case SetJob(fields):
            engine.jobs.set_fields(fields)
            return engine.jobs.fields
        case ListJobs() | NewJob():
            return prepare(engine, command)()
        case SetLimit(channel, side, value, reason):
            engine.machine.set_limit(channel, side, value, reason)
        case SetRoom(run, celsius):
            engine.machine.set_room(run, celsius)
        case SetTrust(channel, trusted, reason):
            engine.machine.set_trust(channel, trusted, reason)
        case SetShelf(parts):
            engine.machine.set_shelf(parts)
        case BeginBaseline(seconds):
            engine.machine.begin_baseline(seconds)
        case _:
            assert_never(command)
    return True


def _on_evidence(engine: Engine, command: EvidenceCommand) -> object:
    match command:
        case AddEvidence(findings, origin, when, configuration, minutes, own_times):
            return engine.added_evidence.add(findings, origin, when, configuration, minutes, own_times)
        case UndoEvidence():
            return engine.added_evidence.undo()
        case AddNote(text):
            return engine.added_evidence.note(text)
        case _:
            assert_never(command)


def _on_trials(engine: Engine, command: TrialCommand) -> object:
    trials = engine.trials
    match command:
        case BeginTrial(title, configuration, kept):
            return trials.begin_trial(title, configuration, kept)
        case AddPart(tag, kind, name):
            trials.add_part(tag, kind, name)
        case AddOutcome(trial, outcome):
            trials.add_outcome(trial, outcome)
        case AssignRun(run, trial):
            trials.assign(run, trial)
        case UndoTrial():
            trials.undo()
        case FollowMachine():
            trials.follow_machine()
        case KeepTrials():
            trials.keep_as_recorded()
            return True
        case _:
            assert_never(command)
    return trials.book


def _on_verdict(engine: Engine, command: VerdictCommand) -> object:
    match command:
        case LockVerdict(note):
            return engine.verdicts.lock(note)
        case CloseJob(culprits, note):
            return engine.decisions.close(culprits, note, engine.jobs.fields.get("number", ""))
        case ReopenJob():
            engine.decisions.reopen()
        case KeepSeal(new):
            engine.decisions.keep_seal(new)
        case SetCounted(job, counted):
            engine.decisions.set_counted(job, counted)
        case EditPrices():
            return str(engine.intake.keep_prices())
        case ReloadPrices():
            engine.verdicts.reload_prices()
        case _:
            assert_never(command)
    return True


def _on_control(engine: Engine, command: ControlCommand) -> object:
    match command:
        case GetSnapshot():
            return engine.snapshot()
        case GetHistory(after):
            return engine.history(after, _HISTORY_ROWS)
        case AskAccess():
            return engine.access.ask()
        case LeaveEngine():
            # only the engine knows for sure whether a run is in progress, for which it stays
            if engine.conductor.active:
                return False
            engine.quit()
        case QuitEngine():
            engine.quit()
        case _:
            assert_never(command)
    return True
