"""Making reports in a process of its own: a job file may be on a dying drive, and laying pages out takes seconds."""

import msgspec

from thresher.model.apart import Failure, ask_apart
from thresher.report.history import MachineHistory
from thresher.report.sections import Choice
from thresher.seal.seal import NewSeal

_AT_MOST_S = 600.0


class ReportRequest(msgspec.Struct, frozen=True):
    """What is wanted: a report of a choice written to `out`, sealed, or a preview of it, a PDF without a new seal.

    `typed` are fields that a person has typed and that may not be in the file yet; `expected` is the digest of the
    preview that a person has looked at. An `out` with another ending gets the readings, findings or lines of the bill.
    """

    job: str
    shop: str
    choice: Choice
    out: str
    preview: bool = False
    typed: dict[str, str] = {}
    expected: str = ""


class HistoryRequest(msgspec.Struct, frozen=True):
    """The history of the machine of a job."""

    job: str
    shop: str


class SealState(msgspec.Struct, frozen=True):
    """How the newest seal of a job stands: its code, what it covers, and what was changed; empty without a seal.

    `outdated` when runs or entries came after it.
    """

    code: str = ""
    covers: str = ""
    wall: float = 0.0
    faults: tuple[str, ...] = ()
    outdated: bool = False


class MadeReport(msgspec.Struct, frozen=True):
    """What came of it: the digest of the sentences, a note a section, the proposed texts, and the seal of a report."""

    digest: str = ""
    notes: dict[str, str] = {}
    proposed: dict[str, str] = {}
    seal: NewSeal | None = None
    state: SealState = SealState()


class ReportAnswer(msgspec.Struct, frozen=True):
    """A report or a history, or why there is none."""

    report: MadeReport | None = None
    history: MachineHistory | None = None
    failure: Failure | None = None


def make_report(request: ReportRequest) -> MadeReport:
    """Make a report or a preview. Raises InputError or EnvironmentFault."""
    answer = _ask("report", msgspec.json.encode(request), f"writing {request.out}")
    assert answer.report is not None
    return answer.report


def read_history(request: HistoryRequest) -> MachineHistory:
    """Read the history of a machine. Raises InputError or EnvironmentFault."""
    answer = _ask("history", msgspec.json.encode(request), "reading the machine's history")
    assert answer.history is not None
    return answer.history


def _ask(what: str, order: bytes, tried: str) -> ReportAnswer:
    answer = ask_apart(order, ReportAnswer, tried, _AT_MOST_S, "thresher.app.report_worker", what)
    if answer.failure is not None:
        raise answer.failure.error()
    return answer
