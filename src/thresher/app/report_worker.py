"""Makes a report or reads a history: takes a request as JSON on standard input, writes the answer as JSON.

Usage: python -m thresher.app.report_worker report|history."""

import os
import sys
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # more threads would take time from a load that may be running

import msgspec

from thresher.app.handing_over import SEALED_ENDINGS, compose, write_handover
from thresher.app.report_apart import HistoryRequest, MadeReport, ReportAnswer, ReportRequest, SealState
from thresher.app.stored_verdict import job_verdict
from thresher.journal.jobfile import JobFile
from thresher.model.apart import failure_of
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.whole_file import write_whole
from thresher.report.files import ReportOptions, write_report
from thresher.report.handover import Handover
from thresher.report.history import history_of
from thresher.report.html import Contents
from thresher.report.pdf import pdf_of
from thresher.report.sections import Section
from thresher.seal.keys import keyring_of
from thresher.seal.seal import Seal, still_covers
from thresher.seal.verify import check_job
from thresher.shop.details import read_details


def report(request: ReportRequest) -> MadeReport:
    """Carry out a request. Raises InputError or EnvironmentFault."""
    out, shop = Path(request.out), Path(request.shop)
    with JobFile(Path(request.job), read_only=True) as stored:
        if out.suffix not in SEALED_ENDINGS:
            write_report(stored, out, ReportOptions(job_verdict(stored, shop), request.choice.serials, shop))
            return MadeReport()
        if not request.preview:
            return MadeReport(
                seal=write_handover(stored, out, request.choice, shop, request.expected, typed=request.typed)
            )
        composed = compose(stored, request.choice, shop, read_details(shop), typed=request.typed)
        write_whole(out, pdf_of(composed.html))
        page = composed.contents.values["h"]
        assert isinstance(page, Handover)
        return MadeReport(
            composed.digest,
            section_notes(composed.contents, page),
            page.proposed,
            state=seal_state(stored, shop),
        )


def section_notes(contents: Contents, page: Handover) -> dict[str, str]:
    """Return for each section, by its title, what it holds in a few words."""
    values, proof = contents.values, page.proof
    pages, findings, left = values["pages"], values["findings"], values["left_open"]
    assert isinstance(pages, list) and isinstance(findings, list) and isinstance(left, tuple)
    found = sum(len(each) for _, each in findings)
    suspects = getattr(values["verdict"], "suspects", ())
    parts = getattr(values["machine"], "parts", ())
    bill = page.bill
    return {
        Section.WRONG.value: _many(len(page.wrong), "sentence") + ", can be edited",
        Section.DONE.value: _many(len(page.done), "sentence") + ", can be edited",
        Section.PROOF.value: f"{proof.minutes:.0f} min, {'no errors' if not proof.findings else 'with errors'}"
        if proof.minutes
        else "no load has run yet",
        Section.WATCH.value: _many(len(page.watch), "note") + ", can be edited",
        Section.PRICE.value: (
            f"{'quote ' if bill.quote else ''}{bill.money(bill.total)}" if bill.lines else "nothing to charge"
        ),
        Section.WARRANTY.value: _many(len(proof.runs), "run"),
        Section.REASONS.value: _many(len(suspects), "suspect"),
        Section.RUNS.value: _many(len(pages), "run"),
        Section.FINDINGS.value: _many(found, "finding"),
        Section.MACHINE.value: _many(len(parts), "part")
        + (", serials shown" if contents.choice.serials else ", masked"),
        Section.LEFT_OPEN.value: _many(len(left), "entry", "entries"),
        Section.CODES.value: "what each code means",
    }


def _many(count: int, one: str, more: str = "") -> str:
    return f"{count} {one if count == 1 else more or one + 's'}"


def seal_state(stored: JobFile, shop: Path) -> SealState:
    """Return how the newest seal of a job stands."""
    seals = stored.seals(Seal)
    if not seals:
        return SealState()
    newest = check_job(stored, keyring_of(shop), most=1)[0]
    outdated = newest.valid and not still_covers(stored, seals[-1])
    return SealState(newest.code, newest.covers, newest.wall, newest.faults, outdated)


def main() -> int:
    """Answer one request, without taking time from a load that may be running."""
    os.nice(10)
    order = sys.stdin.buffer.read()
    try:
        if sys.argv[1] == "history":
            asked = msgspec.json.decode(order, type=HistoryRequest)
            answer = ReportAnswer(history=history_of(Path(asked.job), Path(asked.shop)))
        else:
            answer = ReportAnswer(report=report(msgspec.json.decode(order, type=ReportRequest)))
    except (InputError, EnvironmentFault) as error:
        answer = ReportAnswer(failure=failure_of(error))
    sys.stdout.buffer.write(msgspec.json.encode(answer))
    return 0


if __name__ == "__main__":
    sys.exit(main())
