"""Events: what the engine announces to whoever has subscribed. Described in docs/formats.md."""

import msgspec

from thresher.model.access import Access
from thresher.model.channels import Channel, Tick
from thresher.model.checks import CheckResult
from thresher.model.decisions import NO_DECISIONS, ClosedJob, Decisions, PriorChange
from thresher.model.endings import MachineEnding
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import Inventory
from thresher.model.questions import Question
from thresher.model.sheet import RunSheet
from thresher.model.trials import Book
from thresher.model.verdict import Verdict
from thresher.protocol.intake import Intake
from thresher.protocol.status import EngineHealth, RunStatus, ScanStatus


class TickEvent(msgspec.Struct, tag="tick", frozen=True):
    """A tick, with where run and engine are."""

    tick: Tick
    run: RunStatus
    health: EngineHealth


class TapeEvent(msgspec.Struct, tag="tape", frozen=True):
    """A new line of the tape."""

    entry: TapeEntry


class FindingEvent(msgspec.Struct, tag="finding", frozen=True):
    """A new finding."""

    finding: Finding


class CheckEvent(msgspec.Struct, tag="check", frozen=True):
    """A component check has ended."""

    result: CheckResult


class QuestionEvent(msgspec.Struct, tag="question", frozen=True):
    """A person is asked something; None when the question of that number is closed."""

    number: int
    question: Question | None


class FindingsEvent(msgspec.Struct, tag="findings", frozen=True):
    """All findings as they stand, after some were undone."""

    findings: tuple[Finding, ...]


class EndingsEvent(msgspec.Struct, tag="endings", frozen=True):
    """How runs that nobody ended came to their end: all of the job, oldest first."""

    endings: tuple[MachineEnding, ...]


TriedGroup = tuple[str, bool, float, tuple[int, ...]]
"""A group of a search in words, whether the machine ended under it, seconds, and its cores, none for all."""


class GoingOnEvent(msgspec.Struct, tag="going on", frozen=True):
    """A run that goes on by itself after a sudden end: what happened, what comes next and when, how far a search is.

    `due` is machine time in seconds, None when nothing is to be started; `given_up` is why not. `tried` are the groups
    of a search for the part, with whether the machine ended under them and after how many seconds; `named` is what it
    found.
    """

    happened: str = ""
    next_words: str = ""
    due: float | None = None
    ends: int = 0
    most: int = 0
    given_up: str = ""
    tried: tuple[TriedGroup, ...] = ()
    named: str = ""


class BookEvent(msgspec.Struct, tag="book", frozen=True):
    """The book of trials has changed. `questions` are where the machine's own inventory contradicts it."""

    book: Book
    questions: tuple[str, ...] = ()


class DecisionsEvent(msgspec.Struct, tag="decisions", frozen=True):
    """What was decided, what the shop's closed jobs are, and what these change in how common faults are."""

    decisions: Decisions = NO_DECISIONS
    closed: tuple[ClosedJob, ...] = ()
    changes: tuple[PriorChange, ...] = ()


class AccessEvent(msgspec.Struct, tag="access", frozen=True):
    """What the program may do has changed, or a person is being asked for more.

    `reopens` says that the engine opens the job again as soon as nothing is going on.
    """

    access: Access = Access()
    asking: bool = False
    reopens: bool = False


class VerdictEvent(msgspec.Struct, tag="verdict", frozen=True):
    """The verdict has changed."""

    verdict: Verdict


class PlanEvent(msgspec.Struct, tag="sheet", frozen=True):
    """Another run sheet is on the bench."""

    sheet: RunSheet
    run: RunStatus


class JobEvent(msgspec.Struct, tag="job", frozen=True):
    """The job's fields have changed."""

    job: dict[str, str]
    symptoms: tuple[str, ...]


class MachineEvent(msgspec.Struct, tag="machine", frozen=True):
    """Doubts, limits or trust have changed; the channels are the same ones in the same order."""

    machine: Inventory
    channels: tuple[Channel, ...]
    intake: Intake


class ScanEvent(msgspec.Struct, tag="scan", frozen=True):
    """A read scan of a drive has come further, or has ended."""

    scan: ScanStatus


class IntakeEvent(msgspec.Struct, tag="intake", frozen=True):
    """What the Intake shows beside the machine has changed."""

    intake: Intake


EngineEvent = (
    TickEvent
    | TapeEvent
    | FindingEvent
    | CheckEvent
    | QuestionEvent
    | FindingsEvent
    | EndingsEvent
    | GoingOnEvent
    | BookEvent
    | DecisionsEvent
    | VerdictEvent
    | PlanEvent
    | JobEvent
    | MachineEvent
    | IntakeEvent
    | ScanEvent
    | AccessEvent
)
