"""Making reports: composed from the stored job, sealed with the shop's key, written whole or not at all."""

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from thresher.app.stored_verdict import job_verdict, shop_of
from thresher.diagnosis.decision import read_prices
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.errors import InputError, InputFault, ThresherError
from thresher.model.job import JOB_FILE_ENDING
from thresher.model.regular_file import is_file
from thresher.model.verdict import Verdict
from thresher.model.whole_file import write_whole
from thresher.report.html import Contents, Printed, collect, render_contents
from thresher.report.pdf import pdf_of
from thresher.report.sealed_file import enclosed_of, signed_file
from thresher.report.sealed_text import sentences_of
from thresher.report.sections import Choice
from thresher.seal.keys import ShopKey, fingerprint, shop_key
from thresher.seal.seal import NewSeal, Seal, Sentence, add_seal, make_seal, sentences_digest
from thresher.seal.verify import covered_words
from thresher.shop.details import ShopDetails, read_details
from thresher.shop.store import prices_path

SEALED_ENDINGS = (".html", ".pdf")
_CHANGED = "the job has changed since the preview; look at it again before you hand it over"


@dataclass(frozen=True, slots=True)
class Composed:
    """A report before it is sealed: what is printed, its page without a seal, its sentences."""

    contents: Contents
    html: str
    sentences: tuple[Sentence, ...]

    @property
    def digest(self) -> str:
        """One digest of all sentences, to see whether a report is still the one that was looked at."""
        return sentences_digest(self.sentences)


def compose(
    stored: JobFile,
    choice: Choice,
    shop: Path,
    details: ShopDetails,
    verdict: Verdict | None = None,
    typed: dict[str, str] | None = None,
) -> Composed:
    """Compose the report of a job; `typed` are fields that a person has typed and that are not in the file yet.

    Raises InputError for a damaged job or shop file."""
    found = verdict or job_verdict(stored, shop)
    contents = collect(stored, found, choice, details, read_prices(prices_path(shop)), typed)
    html = render_contents(contents)
    return Composed(contents, html, sentences_of(html))


def write_handover(
    stored: JobFile,
    out: Path,
    choice: Choice,
    shop: Path | None = None,
    expected: str = "",
    sealed: bool = True,
    typed: dict[str, str] | None = None,
) -> NewSeal | None:
    """Write a report as HTML or PDF and return its seal, None where none was wanted.

    `expected` is the digest of the sentences that were looked at before. Raises InputError when they are others now,
    or for a damaged job or key, EnvironmentFault when the file cannot be written; no half file is left.
    """
    mine = shop or shop_of(stored)
    details = read_details(mine)
    composed = compose(stored, choice, mine, details, typed=typed)
    if expected and composed.digest != expected:
        raise InputError("report", [InputFault("job", _CHANGED)])
    if not sealed:
        _write(out, composed.html, None, None)
        return None
    key = shop_key(mine)
    new = make_seal(stored, composed.sentences, key, datetime.now(UTC).timestamp())
    seal = new.seal
    printed = Printed(
        seal.code, covered_words(seal.sealed), f"{key.public} ({fingerprint(key.public)})", enclosed_of(seal)
    )
    _write(out, render_contents(composed.contents, printed), seal, key)
    return new


def _write(out: Path, html: str, seal: Seal | None, key: ShopKey | None) -> None:
    enclosed = enclosed_of(seal) if seal is not None else ""
    data = pdf_of(html, enclosed) if out.suffix == ".pdf" else html.encode()
    if seal is not None and key is not None:
        data = signed_file(data, seal, key)
    write_whole(out, data, 0o644)


def keep_seal(job: Path, new: NewSeal) -> str:
    """Keep a seal with its job, unless a bench has it open; return why it was not kept, empty when it was."""
    try:
        writer = JournalWriter(job)
    except ThresherError as error:
        return str(error)
    add_seal(writer, new)
    closed = writer.close()
    return "" if closed.complete else "; ".join(closed.sentences)


def opened_job(folders: tuple[Path, ...], stem: str) -> JobFile | None:
    """Open the job file of a name in one of some folders, None where there is none. Raises ThresherError."""
    for folder in folders:
        path = folder / f"{stem}{JOB_FILE_ENDING}"
        if is_file(path):
            return JobFile(path, read_only=True)
    return None
