"""What the engine tells: events to whoever listens, and the answers of its JSON-RPC methods.

JSON-RPC 2.0, one object a line, over a Unix socket. Described in docs/formats.md.
"""

from typing import Any

import msgspec

from thresher.decoding.groups import EventGroup
from thresher.engine.intake import Intake
from thresher.engine.states import Outcome, RunState
from thresher.model.channels import Channel, Tick
from thresher.model.decisions import NO_DECISIONS, ClosedJob, Decisions, PriorChange
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.model.sheet import RunSheet
from thresher.model.trials import EMPTY_BOOK, Book
from thresher.model.verdict import Verdict

VERSION = 1

PARSE_ERROR, INVALID_REQUEST, NO_SUCH_METHOD, INVALID_PARAMS = -32700, -32600, -32601, -32602
ENVIRONMENT_FAULT, INPUT_FAULT = 1, 2


class SourceState(msgspec.Struct, frozen=True):
    """One source of events and how it does, in words; `reads` is False for one that cannot be read."""

    name: str
    reads: bool
    words: str


class PlanItem(msgspec.Struct, frozen=True):
    """A gate or block as it stands on the time axis of the run; `state` is coming, running or done.

    `story` says in words what a block strains and finds.
    """

    gate: bool
    row: PartKind | None
    title: str
    start_s: float
    end_s: float
    state: str
    story: str = ""


class RunStatus(msgspec.Struct, frozen=True):
    """Where the run is. Times are seconds; `run_at` counts from the run's start."""

    state: str = RunState.IDLE.value
    title: str = ""
    run: int | None = None
    run_at: float = 0.0
    began_at: float | None = None
    length_s: float = 0.0
    plan: tuple[PlanItem, ...] = ()
    workers_started: int = 0
    workers_running: int = 0
    beats: int = 0
    mismatches: int = 0
    faults: int = 0
    corrected: int = 0
    loaded_s: float = 0.0
    ending: str = ""
    ending_detail: str = ""
    outcome: str = Outcome.NOT_FINISHED.value
    busy_cores: tuple[int, ...] = ()
    memory: "MemoryStatus | None" = None
    round_off: float = 0.0
    round_trips: tuple[tuple[int, int, float], ...] = ()
    allowed: float = 1.0


class MemoryStatus(msgspec.Struct, frozen=True):
    """How far a memory load has come. Bytes: taken by workers now, walked through in all passes so far, in the machine.

    `covered` is None where the kernel does not tell which pages were had; `pass_s` what the last pass took.
    """

    taken: int
    covered: int | None
    total: int
    passes: int
    pass_s: float
    locked: bool


class EngineHealth(msgspec.Struct, frozen=True):
    """How the engine does: sampling cost as a share of one core, the age of the last row, what waits."""

    channels: int
    interval_s: float
    sampling_share: float
    late: int
    row_age_s: float | None
    rows_waiting: int
    trouble: str | None
    access: str
    kernels: str = ""


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


class FindingsEvent(msgspec.Struct, tag="findings", frozen=True):
    """All findings as they stand, after some were taken back."""

    findings: tuple[Finding, ...]


class BookEvent(msgspec.Struct, tag="book", frozen=True):
    """The book of trials has changed. `questions` are where the machine's own inventory contradicts it."""

    book: Book
    questions: tuple[str, ...] = ()


class DecisionsEvent(msgspec.Struct, tag="decisions", frozen=True):
    """What was decided, what the shop's closed jobs are, and what these change in how common faults are."""

    decisions: Decisions = NO_DECISIONS
    closed: tuple[ClosedJob, ...] = ()
    changes: tuple[PriorChange, ...] = ()


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


class IntakeEvent(msgspec.Struct, tag="intake", frozen=True):
    """What the Intake shows beside the machine has changed."""

    intake: Intake


EngineEvent = (
    TickEvent
    | TapeEvent
    | FindingEvent
    | FindingsEvent
    | BookEvent
    | DecisionsEvent
    | VerdictEvent
    | PlanEvent
    | JobEvent
    | MachineEvent
    | IntakeEvent
)


class SymptomChoice(msgspec.Struct, frozen=True):
    """Something that a customer may say, and the group that it stands in."""

    text: str
    group: str


class Snapshot(msgspec.Struct, frozen=True):
    """Everything that a window needs to begin with. `wall_offset` is Unix time less machine time, in seconds.

    `told` is the number of the last event that it already holds. `earlier` is what log, counters and firmware told of
    the time before, `sources` how each source of events does.
    """

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
    told: int
    symptom_choices: tuple[SymptomChoice, ...] = ()
    intake: Intake = Intake()
    earlier: tuple[EventGroup, ...] = ()
    sources: tuple[SourceState, ...] = ()
    book: Book = EMPTY_BOOK
    questions: tuple[str, ...] = ()
    decided: DecisionsEvent = DecisionsEvent()


class HistoryRows(msgspec.Struct, frozen=True):
    """Past ticks, oldest first: machine times, and each tick's values packed as in the job file (base64 in JSON).

    `more` tells that the next call has further ones.
    """

    at: tuple[float, ...]
    values: tuple[bytes, ...]
    more: bool


class Request(msgspec.Struct, frozen=True):
    """A JSON-RPC request; without `id` a notification that gets no answer."""

    jsonrpc: str
    method: str
    params: dict[str, Any] = {}
    id: int | str | None = None


class RpcError(msgspec.Struct, frozen=True):
    """A JSON-RPC error."""

    code: int
    message: str


def answer(request_id: int | str | None, result: object) -> bytes:
    """Return a response line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request_id, "result": result}) + b"\n"


def refusal(request_id: int | str | None, code: int, message: str) -> bytes:
    """Return an error line."""
    return msgspec.json.encode({"jsonrpc": "2.0", "id": request_id, "error": RpcError(code, message)}) + b"\n"


class Notice(msgspec.Struct, frozen=True):
    """The params of a notification: an event and its number, counted from the engine's start."""

    number: int
    event: EngineEvent


def notice(event: EngineEvent, number: int) -> bytes:
    """Return a notification line for an event."""
    return msgspec.json.encode({"jsonrpc": "2.0", "method": "event", "params": Notice(number, event)}) + b"\n"


class Incoming(msgspec.Struct, frozen=True):
    """A line from the engine: an answer (with `id`) or a notification (with `method`)."""

    id: int | str | None = None
    method: str = ""
    params: msgspec.Raw = msgspec.Raw(b"null")
    result: msgspec.Raw = msgspec.Raw(b"null")
    error: RpcError | None = None


INCOMING: msgspec.json.Decoder[Incoming] = msgspec.json.Decoder(Incoming)
NOTICES: msgspec.json.Decoder[Notice] = msgspec.json.Decoder(Notice)
