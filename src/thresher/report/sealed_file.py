"""A sealed report as a file: its last line signs every byte before it, so that no bit can change unnoticed.

The line is `thresher-seal 1 CODE SHA256 SIGNATURE KEY PAGES`, as a comment of the format: behind `%` in a PDF, between
`<!--` and `-->` in HTML. PAGES has eight hex digits of the SHA-256 of each page's content stream in a PDF, `-`
elsewhere or for more than forty pages. The signature (Ed25519, base64) is over `CODE SHA256 PAGES`.
"""

import base64
import binascii
import hashlib
import io
import logging
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeVar

import msgspec
import pypdf

from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError, InputFault, ThresherError
from thresher.model.regular_file import read_regular
from thresher.report.pdf import ENCLOSED
from thresher.report.sealed_text import sentences_of
from thresher.seal.keys import Keyring, ShopKey, is_signed
from thresher.seal.seal import Seal
from thresher.seal.verify import Checked, check_signature, job_faults, sentence_faults, signer_of

_MOST_PAGES = 40
_LINE = re.compile(
    rb"\n(?:%|<!-- )thresher-seal 1 (?P<code>[A-Z2-7-]{19}) (?P<digest>[0-9a-f]{64}) (?P<signature>[A-Za-z0-9+/=]{88})"
    rb" (?P<public>[A-Za-z0-9+/=]{44}) (?P<pages>-|[0-9a-f,]+)(?: -->)?\n\Z"
)
_ENCLOSED = re.compile(r'<div hidden id="thresher-seal">([A-Za-z0-9+/=]*)</div>')
T = TypeVar("T")


class _DamagedPdf(ValueError):
    """A PDF that cannot be parsed."""


def _parsed(data: bytes, read: Callable[[pypdf.PdfReader], T]) -> T:
    """Return what `read` makes of a PDF. Raises _DamagedPdf, whatever the parser meets."""
    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    try:
        return read(pypdf.PdfReader(io.BytesIO(data)))
    except Exception as error:
        raise _DamagedPdf(str(error) or type(error).__name__) from error


def enclosed_of(seal: Seal) -> str:
    """Return a seal as it is enclosed in a report, for a program."""
    return base64.b64encode(msgspec.json.encode(seal)).decode()


def signed_file(data: bytes, seal: Seal, key: ShopKey) -> bytes:
    """Return a file with the line that signs it."""
    is_pdf = data.startswith(b"%PDF")
    pages = _page_digests(data) if is_pdf else "-"
    digest = hashlib.sha256(data).hexdigest()
    signature = key.sign(f"{seal.code} {digest} {pages}".encode())
    line = f"thresher-seal 1 {seal.code} {digest} {signature} {key.public} {pages}"
    return data + (f"\n%{line}\n" if is_pdf else f"\n<!-- {line} -->\n").encode()


def _page_digests(data: bytes) -> str:
    return _parsed(data, _digests_of)


def _digests_of(reader: pypdf.PdfReader) -> str:
    if len(reader.pages) > _MOST_PAGES:
        return "-"
    drawn = (page.get_contents() for page in reader.pages)
    return ",".join(hashlib.sha256(each.get_data() if each is not None else b"").hexdigest()[:8] for each in drawn)


@dataclass(frozen=True, slots=True)
class _Line:
    code: str
    digest: str
    signature: str
    public: str
    pages: str


def check_report(path: Path, keys: Keyring, find_job: Callable[[str], JobFile | None]) -> Checked:
    """Check a report file, and its job where `find_job` finds it by name.

    Raises InputError for a file that is no sealed report, EnvironmentFault when it cannot be read.
    """
    try:
        data = read_regular(path)
    except OSError as error:
        raise InputError(str(path), [InputFault("file", error.strerror or str(error))]) from error
    found = _LINE.search(data)
    if found is None:
        raise InputError(str(path), [InputFault("seal", _no_seal(data))])
    line = _Line(**{name: value.decode() for name, value in found.groupdict().items()})
    content = data[: found.start()]
    signer = signer_of(line.public, keys)
    if not is_signed(f"{line.code} {line.digest} {line.pages}".encode(), line.signature, line.public):
        return Checked(line.code, 0.0, signer, ("the line that signs the file: it was changed or made up",), ())
    seal, trouble = _enclosed_seal(content)
    faults: list[str] = []
    if hashlib.sha256(content).hexdigest() != line.digest:
        faults += _where_changed(content, line, seal) or ["the file was changed, outside of the sealed sentences"]
    if seal is None:
        return Checked(line.code, 0.0, signer, tuple(faults or [trouble]), ())
    checked = check_signature(seal, keys)
    if seal.code != line.code:
        faults.append(f"the seal inside is {seal.code}, the file was signed with {line.code}")
    if seal.public != line.public:
        # a genuine seal in a file that somebody else has changed and signed
        faults.append("the file was signed with another key than the seal inside")
    faults += checked.faults
    notes = list(checked.notes)
    if checked.valid:
        more, note = _job_of(seal, find_job)
        faults += more
        notes.append(note)
    return replace(checked, code=line.code, faults=tuple(dict.fromkeys(faults)), notes=tuple(notes))


def _no_seal(data: bytes) -> str:
    if b"thresher-seal 1 " in data[-2_000:]:
        return "its last line, which signs the file, was changed"
    return "it has none: it is a report without a seal, or its end is missing"


def _job_of(seal: Seal, find_job: Callable[[str], JobFile | None]) -> tuple[tuple[str, ...], str]:
    """Return what differs in the job of a report, and what is to be said about it."""
    sealed = seal.sealed
    try:
        stored = find_job(sealed.job)
    except ThresherError as error:
        return (), f"the job {sealed.job} could not be read: {error}"
    if stored is None:
        return (), f"the job {sealed.job} is not here: only the report itself was checked (name it with --job)"
    with stored:
        return job_faults(stored, sealed), f"compared with the job {stored.path.name}"


def _enclosed_seal(content: bytes) -> tuple[Seal | None, str]:
    """Return the seal inside a report, or why there is none."""
    try:
        if content.startswith(b"%PDF"):
            text = _parsed(content, lambda reader: reader.attachments[ENCLOSED][0].decode("ascii"))
        else:
            found = _ENCLOSED.search(content.decode("utf-8", "replace"))
            text = found[1] if found is not None else ""
        return msgspec.json.decode(base64.b64decode(text, validate=True), type=Seal), ""
    except (binascii.Error, msgspec.MsgspecError, ValueError) as error:
        return None, f"the seal inside cannot be read ({str(error)[:60] or type(error).__name__})"


def _where_changed(content: bytes, line: _Line, seal: Seal | None) -> list[str]:
    """Return which sentences or pages of a file that was changed differ, none where that cannot be said."""
    if not content.startswith(b"%PDF"):
        if seal is None or not is_signed(seal.body.encode(), seal.signature, seal.public):
            return []
        return list(sentence_faults(sentences_of(content.decode("utf-8", "replace")), seal.sealed))
    if line.pages == "-":
        return []
    try:
        now = _page_digests(content).split(",")
    except _DamagedPdf:
        return ["the PDF is damaged"]
    then = line.pages.split(",")
    if len(now) != len(then):
        return [f"the PDF has {len(now)} pages, {len(then)} were sealed"]
    return [f"page {n} was changed" for n, (a, b) in enumerate(zip(now, then, strict=True), 1) if a != b]
