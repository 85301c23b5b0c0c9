"""Commands: everything that a window or the command line can ask of an engine, each with the type of its answer.

On the wire a command is a JSON-RPC request: the tag is the method, the fields are the params (`protocol/wire.py`).
What a command does is left to `thresher.server.dispatch`. Unknown fields and wrong types are refused there.
"""

from typing import Generic, TypeVar, get_args

import msgspec

from thresher.model.card_port import Artefact
from thresher.model.channels import LimitSide
from thresher.model.checks import Round
from thresher.model.decisions import ActualCause, Culprit, LockedVerdict
from thresher.model.endings import LastMoments, MachineEnding, SeenAtEnd
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import PartKind
from thresher.model.questions import Answer
from thresher.model.sheet import Block, RunSheet
from thresher.model.trials import Book, Configuration, Outcome, Stint, Trial
from thresher.protocol.answers import HistoryRows, SheetCheck, SheetFile, Snapshot
from thresher.protocol.events import AccessEvent
from thresher.protocol.intake import JobCard
from thresher.protocol.status import RunStatus, ScanStatus
from thresher.seal.seal import NewSeal
from thresher.shop.store import ShopPart

T = TypeVar("T")

BASELINE_S = 30.0
"""How long idle readings are taken if nothing else is asked, in seconds."""


class Command(msgspec.Struct, Generic[T], frozen=True, forbid_unknown_fields=True, tag_field="method"):
    """Something to be done, answered with a `T`."""


# ---- the run


class StartRun(Command[RunStatus], frozen=True, tag="run.start"):
    """Start the run sheet on the bench.

    Refused when its temperature limit cannot be watched, unless that is accepted as `unwatched_limit`."""

    unwatched_limit: bool = False


class StopRun(Command[str], frozen=True, tag="run.stop"):
    """Stop the run at once; answered with how many workers have ended."""


class AddTime(Command[RunStatus], frozen=True, tag="run.add_time"):
    """Let a block of the run in progress last longer, by seconds; what follows moves."""

    step: int
    seconds: float


class EndBlock(Command[RunStatus], frozen=True, tag="run.end_block"):
    """End a block of the run in progress and go on with what follows."""

    step: int


class LeaveOut(Command[RunStatus], frozen=True, tag="run.leave_out"):
    """Leave out a step of the run in progress that has not begun."""

    step: int


class AppendBlock(Command[RunStatus], frozen=True, tag="run.append"):
    """Put a block behind the last one of the run in progress; its start is ignored."""

    block: Block


class GoOn(Command[RunStatus], frozen=True, tag="run.go_on"):
    """Open a gate that waits."""

    step: int


class PutSheet(Command[RunStatus], frozen=True, tag="sheet.put"):
    """Put a run sheet, given as the text of its file, on the bench."""

    toml: str
    name: str = "run sheet"


class ChooseSheet(Command[RunStatus], frozen=True, tag="sheet.choose"):
    """Put a run sheet on the bench by name: one that ships, or one of the shop's own."""

    name: str


class PutTrialSheet(Command[RunStatus], frozen=True, tag="sheet.trial"):
    """Put a sheet of loads, one after the other for so many minutes each, on the bench, as a trial is proposed."""

    stints: tuple[Stint, ...]
    title: str = ""


class KeepDraft(Command[SheetCheck], frozen=True, tag="sheet.draft"):
    """Keep a run sheet that is being edited with the job, and check it. Nothing is carried out."""

    sheet: RunSheet


class PutDraft(Command[RunStatus], frozen=True, tag="sheet.put_draft"):
    """Put a run sheet on the bench that was edited; `name` is the shop's own sheet that it is, if it is one."""

    sheet: RunSheet
    name: str = ""


class OpenSheet(Command[SheetFile], frozen=True, tag="sheet.open"):
    """Read a run sheet by name, to begin with it."""

    name: str


class SaveSheet(Command[SheetFile], frozen=True, tag="sheet.save"):
    """Save a run sheet as the shop's own: as a new one, or without a change of name over the one that was opened.

    `digest` is that of the file when it was opened; one that was changed since is not written over.
    """

    sheet: RunSheet
    name: str = ""
    digest: str = ""


class RenameSheet(Command[SheetFile], frozen=True, tag="sheet.rename"):
    """Give one of the shop's own sheets another title."""

    name: str
    title: str


class DeleteSheet(Command[str], frozen=True, tag="sheet.delete"):
    """Delete one of the shop's own sheets; answered with where it was moved to."""

    name: str


class KeepSheet(Command[str], frozen=True, tag="sheet.keep"):
    """Copy a run sheet to the shop's own; answered with the path of the copy."""

    name: str


class ReloadSheets(Command[bool], frozen=True, tag="sheets.reload"):
    """Reload the shop's own run sheets, after they were changed in an editor."""


# ---- the job and its intake


class SetJob(Command[dict[str, str]], frozen=True, tag="job.set"):
    """Set fields of the job; answered with all its fields."""

    fields: dict[str, str]


class ListJobs(Command[tuple[JobCard, ...]], frozen=True, tag="jobs.list"):
    """List the jobs on the bench."""


class NewJob(Command[str], frozen=True, tag="jobs.new"):
    """Make a new job for the same machine; answered with its path."""


class SetLimit(Command[bool], frozen=True, tag="limit.set"):
    """Set the technician's limit on a channel, in the channel's unit; without a value, remove it."""

    channel: str
    side: LimitSide
    value: float | None = None
    reason: str = ""


class SetRoom(Command[bool], frozen=True, tag="run.room"):
    """Keep the room temperature during a run, in °C, as somebody read it."""

    run: int
    celsius: float


class SetTrust(Command[bool], frozen=True, tag="trust.set"):
    """Trust or ignore a sensor."""

    channel: str
    trusted: bool
    reason: str = ""


class SetShelf(Command[bool], frozen=True, tag="shelf.set"):
    """Replace the list of known-good parts on the shop's shelf."""

    parts: tuple[ShopPart, ...]


class BeginBaseline(Command[bool], frozen=True, tag="baseline.begin"):
    """Take idle readings for so many seconds."""

    seconds: float = BASELINE_S


# ---- drives


class StartScan(Command[ScanStatus], frozen=True, tag="drive.scan"):
    """Read a drive through, by its kernel name; nothing is written. `go_on` continues the last scan of it.

    With `end` beyond `begin` (bytes) only that region is read. Refused for a drive that is dying, unless `anyway`.
    """

    drive: str
    quick: bool = False
    go_on: bool = False
    anyway: bool = False
    begin: int = 0
    end: int = 0


class StopScan(Command[bool], frozen=True, tag="drive.stop_scan"):
    """Stop the read scan; where it was is kept."""


# ---- graphics cards


class ReportArtefact(Command[Finding], frozen=True, tag="card.artefact"):
    """Record what a person sees on the display while the scene is drawn on a card, by the card's kernel name."""

    card: str
    seen: Artefact


# ---- evidence from elsewhere


class AddEvidence(Command[tuple[Finding, ...]], frozen=True, tag="evidence.add"):
    """Add findings from elsewhere, with where they came from.

    `when` is the Unix time they belong to (None: unknown), `configuration` what was installed then, `minutes` how much
    everyday use they came in. With `own_times` each finding's `at` is the Unix time that it belongs to.
    """

    findings: tuple[Finding, ...]
    origin: str
    when: float | None = None
    configuration: str = ""
    minutes: float = 0.0
    own_times: bool = False


class UndoEvidence(Command[tuple[Finding, ...]], frozen=True, tag="evidence.undo"):
    """Undo the last evidence added; answered with its findings."""


class AddNote(Command[TapeEntry], frozen=True, tag="evidence.note"):
    """Write a note on the tape."""

    text: str


# ---- the book of trials


class BeginTrial(Command[Trial], frozen=True, tag="trials.begin"):
    """Save a configuration; new runs are logged to it. `kept` for a permanent change."""

    title: str
    configuration: Configuration
    kept: bool = False


class AddPart(Command[Book], frozen=True, tag="trials.add_part"):
    """Add a part that was bought for this job."""

    tag: str
    kind: PartKind
    name: str = ""


class AddOutcome(Command[Book], frozen=True, tag="trials.add_outcome"):
    """Add a result from elsewhere to a trial: other bench, customer, no POST."""

    trial: int
    outcome: Outcome


class AssignRun(Command[Book], frozen=True, tag="trials.assign_run"):
    """Move a run to the trial it was made in."""

    run: int
    trial: int


class UndoTrial(Command[Book], frozen=True, tag="trials.undo"):
    """Undo the last change of the book of trials."""


class FollowMachine(Command[Book], frozen=True, tag="trials.follow_machine"):
    """Record what the machine itself reports as installed."""


class KeepTrials(Command[bool], frozen=True, tag="trials.keep_as_recorded"):
    """Keep the book of trials as recorded: the machine misreports its parts."""


# ---- verdict, closing, prices


class LockVerdict(Command[LockedVerdict], frozen=True, tag="verdict.lock"):
    """Lock the verdict as it is now, with date and reasons."""

    note: str = ""


class CloseJob(Command[ActualCause], frozen=True, tag="job.close"):
    """Close the job with its actual cause; no culprits means that nothing was faulty."""

    culprits: tuple[Culprit, ...]
    note: str = ""


class KeepSeal(Command[bool], frozen=True, tag="seal.keep"):
    """Keep the seal of a report with the job."""

    new: NewSeal


class ReopenJob(Command[bool], frozen=True, tag="job.reopen"):
    """Reopen a closed job; its actual cause is removed."""


class SetCounted(Command[bool], frozen=True, tag="closed_jobs.set_counted"):
    """Count a closed job in how common faults are, or leave it out."""

    job: str
    counted: bool


class EditPrices(Command[str], frozen=True, tag="prices.edit"):
    """Make the shop's price list if there is none; answered with its path, for an editor."""


class ReloadPrices(Command[bool], frozen=True, tag="prices.reload"):
    """Reload the shop's price list, after it was changed in an editor."""


# ---- the engine itself


class GetSnapshot(Command[Snapshot], frozen=True, tag="snapshot"):
    """Ask for everything that a window needs to begin with."""


class GetHistory(Command[HistoryRows], frozen=True, tag="history"):
    """Ask for ticks later than a machine time in seconds."""

    after: float


class LeaveEngine(Command[bool], frozen=True, tag="engine.leave"):
    """Say that a window closes: without a run the engine ends too, and the answer is true."""


class QuitEngine(Command[bool], frozen=True, tag="engine.quit"):
    """End the engine; a run is stopped first."""


class Subscribe(Command[bool], frozen=True, tag="subscribe"):
    """Send this connection every event from now on."""


RunCommand = StartRun | StopRun | PutSheet | ChooseSheet | PutTrialSheet | PutDraft


class PutRound(Command[RunStatus], frozen=True, tag="round.put"):
    """Put a round on the bench: one of the rounds over parts of some kinds (all without), or checks by name.

    It goes over them so many `times`, 0 for until somebody stops it.
    """

    kind: Round = Round.SHORT
    parts: tuple[PartKind, ...] = ()
    checks: tuple[str, ...] = ()
    times: int = 1


class AnswerQuestion(Command[bool], frozen=True, tag="question.answer"):
    """Answer the question of a number: the word of the choice, and what was measured meanwhile."""

    number: int
    answer: Answer


class Attend(Command[bool], frozen=True, tag="question.attend"):
    """Say whether a person is there to answer questions."""

    attended: bool


class AnswerEnding(Command[MachineEnding], frozen=True, tag="ending.answer"):
    """Say what was seen of an end, by its number from 0."""

    number: int
    seen: SeenAtEnd


class GetMoments(Command[LastMoments | None], frozen=True, tag="ending.moments"):
    """Ask for the last rows of the black box before an end, by its number from 0."""

    number: int


class StopGoingOn(Command[bool], frozen=True, tag="going_on.stop"):
    """Start nothing any more by itself after a sudden end."""


class GoOnNow(Command[bool], frozen=True, tag="going_on.now"):
    """Start at once what is to be started by itself."""


class AskAccess(Command[AccessEvent], frozen=True, tag="access.ask"):
    """Have a person asked for full access to the machine; what comes of it is announced."""


EndingCommand = AnswerEnding | GetMoments | StopGoingOn | GoOnNow
CheckCommand = PutRound | AnswerQuestion | Attend
ChangeCommand = AddTime | EndBlock | LeaveOut | AppendBlock | GoOn
SheetCommand = KeepDraft | OpenSheet | SaveSheet | RenameSheet | DeleteSheet | KeepSheet | ReloadSheets
IntakeCommand = SetJob | ListJobs | NewJob | SetLimit | SetRoom | SetTrust | SetShelf | BeginBaseline
DeviceCommand = StartScan | StopScan | ReportArtefact
EvidenceCommand = AddEvidence | UndoEvidence | AddNote
TrialCommand = BeginTrial | AddPart | AddOutcome | AssignRun | UndoTrial | FollowMachine | KeepTrials
VerdictCommand = LockVerdict | CloseJob | ReopenJob | KeepSeal | SetCounted | EditPrices | ReloadPrices
ControlCommand = GetSnapshot | GetHistory | LeaveEngine | QuitEngine | AskAccess
BenchCommand = RunCommand | ChangeCommand | SheetCommand | IntakeCommand | DeviceCommand
EngineCommand = (
    BenchCommand | CheckCommand | EndingCommand | EvidenceCommand | TrialCommand | VerdictCommand | ControlCommand
)
AnyCommand = EngineCommand | Subscribe

METHODS: dict[str, type[AnyCommand]] = {str(kind.__struct_config__.tag): kind for kind in get_args(AnyCommand)}
"""Every command by its method."""


def method_of(command: Command[T]) -> str:
    """Return the method of a command."""
    return str(command.__struct_config__.tag)


def answer_type(command: Command[T]) -> type[T]:
    """Return the type of the answer to a command."""
    (base,) = type(command).__orig_bases__  # type: ignore[attr-defined]  # typing keeps the base as it was written
    found: type[T] = get_args(base)[0]
    return found
