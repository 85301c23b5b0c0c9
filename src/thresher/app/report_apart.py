"""Making reports in a process of its own: a job file may be on a dying drive, and laying pages out takes seconds."""

import subprocess

import msgspec

from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.own_program import own_command
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
    headline: str = ""
    seal: NewSeal | None = None
    state: SealState = SealState()


class ReportAnswer(msgspec.Struct, frozen=True):
    """A report or a history, or why there is none: what was wrong, where, and what to do."""

    report: MadeReport | None = None
    history: MachineHistory | None = None
    tried: str = ""
    happened: str = ""
    remedy: str = ""
    faults: tuple[tuple[str, str], ...] = ()


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
    try:
        done = subprocess.run(
            own_command("thresher.app.report_worker", what),
            input=order,
            capture_output=True,
            timeout=_AT_MOST_S,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        remedy = "The drive with the job file may be failing: copy the job to another drive first."
        raise EnvironmentFault(tried, f"not done after {_AT_MOST_S:.0f} s", remedy) from error
    try:
        answer = msgspec.json.decode(done.stdout, type=ReportAnswer)
    except msgspec.DecodeError as error:
        said = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2]
        happened = said or f"its process ended with {done.returncode}"
        raise EnvironmentFault(tried, happened, "Try again; thresher log has more.") from error
    if answer.faults:
        raise InputError(answer.tried, [InputFault(*each) for each in answer.faults])
    if answer.happened:
        raise EnvironmentFault(answer.tried, answer.happened, answer.remedy)
    return answer
