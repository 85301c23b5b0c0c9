"""Answers to commands that are more than one value: the snapshot, and rows of the history."""

import msgspec

from thresher.compose.sheet_faults import SheetFault
from thresher.decoding.groups import EventGroup
from thresher.model.channels import Channel
from thresher.model.checks import CheckResult
from thresher.model.endings import MachineEnding
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import Fact, Inventory
from thresher.model.sheet import RunSheet
from thresher.model.trials import EMPTY_BOOK, Book
from thresher.model.verdict import Verdict
from thresher.protocol.events import AccessEvent, DecisionsEvent, GoingOnEvent, QuestionEvent
from thresher.protocol.intake import Intake
from thresher.protocol.status import EngineHealth, RunStatus, ScanStatus, SourceState


class SymptomChoice(msgspec.Struct, frozen=True):
    """Something that a customer may say, and the group that it stands in."""

    text: str
    group: str


class Snapshot(msgspec.Struct, frozen=True):
    """Everything that a window needs to begin with. `wall_offset` is Unix time less machine time, in seconds.

    `last_event` is the number of the last event that it already holds. `draft` is the sheet that
    was being edited last, None when there is none. `earlier` is what log, counters and firmware
    reported of the time before, `sources` how each source of events does. `checks` are the results of this job's
    component checks, `checks_before` those of the machine's visits before, `asked` is the question that a person has to
    answer now. `endings` are how runs that nobody ended came to their end."""

    version: int
    pid: int
    job: dict[str, str]
    job_file: str
    machine: Inventory
    kind: str
    speed: float
    channels: tuple[Channel, ...]
    unknown: tuple[Fact, ...]
    wall_offset: float
    sheet: RunSheet | None
    run: RunStatus
    tape: tuple[TapeEntry, ...]
    findings: tuple[Finding, ...]
    verdict: Verdict | None
    symptoms: tuple[str, ...]
    health: EngineHealth
    last_event: int
    symptom_choices: tuple[SymptomChoice, ...] = ()
    intake: Intake = Intake()
    earlier: tuple[EventGroup, ...] = ()
    sources: tuple[SourceState, ...] = ()
    book: Book = EMPTY_BOOK
    questions: tuple[str, ...] = ()
    decided: DecisionsEvent = DecisionsEvent()
    draft: RunSheet | None = None
    scan: ScanStatus | None = None
    checks: tuple[CheckResult, ...] = ()
    checks_before: tuple[CheckResult, ...] = ()
    asked: QuestionEvent | None = None
    endings: tuple[MachineEnding, ...] = ()
    going_on: GoingOnEvent = GoingOnEvent()
    access: AccessEvent = AccessEvent()
    shop: str = ""


class SheetCheck(msgspec.Struct, frozen=True):
    """What the engine makes of a draft: all its faults, what is worth knowing, its length, and what is said before it
    starts. `choices` are what this machine offers for a field of blocks, such as its drives, by the field's name."""

    faults: tuple[SheetFault, ...]
    warnings: tuple[str, ...]
    length_s: float
    announcement: str
    choices: dict[str, tuple[str, ...]] = {}


class SheetFile(msgspec.Struct, frozen=True):
    """A run sheet with the file it is in; `digest` (SHA-256) distinguishes what the file held when it was read."""

    name: str
    own: bool
    sheet: RunSheet
    digest: str


class HistoryRows(msgspec.Struct, frozen=True):
    """Past ticks, oldest first: machine times, and each tick's values packed as in the job file (base64 in JSON).

    `more` says whether the next call has further ones.
    """

    at: tuple[float, ...]
    values: tuple[bytes, ...]
    more: bool
