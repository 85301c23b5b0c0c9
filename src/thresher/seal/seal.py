"""Making a seal: what it covers as canonical JSON, its short code, and the shop's signature.

A seal covers every run that has ended, with all its rows, what belongs to no run, and the sentences of one report, each
as a SHA-256 digest. Personal data is in it only as digests with a random salt, so that a customer's name can be removed
later. What is added to the job after it, such as a note, has a later number and breaks nothing.
"""

import base64
import hashlib
import secrets
from collections.abc import Iterable, Sequence

import msgspec

from thresher.journal.jobfile import JobFile
from thresher.journal.rows import SEAL, SEALED_ROWS
from thresher.journal.writer import JournalWriter
from thresher.seal.keys import ShopKey

FORMAT = "thresher-seal/1"
ROW_MARK = 4
"""Bytes of a row's digest that are kept with the job, to name the row that was changed."""

Sentence = tuple[str, str]
"""A sentence of a report: what it is called, and its text."""


class SealedRun(msgspec.Struct, frozen=True):
    """What a seal says of one run (0: of what belongs to none): how many rows, and the digest of all (hex)."""

    run: int
    title: str
    rows: int
    digest: str


class SealedText(msgspec.Struct, frozen=True):
    """What a seal says of one sentence: its name and the digest of salt and text (hex)."""

    name: str
    digest: str


class Sealed(msgspec.Struct, frozen=True):
    """Everything that a seal covers. `job` is the job file's stem, `wall` Unix time, `last_mark` the newest entry."""

    job: str
    number: str
    wall: float
    last_mark: int
    salt: str
    runs: tuple[SealedRun, ...]
    sentences: tuple[SealedText, ...]
    findings: int
    simulated: bool
    format: str = FORMAT

    @property
    def rows(self) -> int:
        """How many rows of readings and entries it covers."""
        return sum(each.rows for each in self.runs)


class Seal(msgspec.Struct, frozen=True):
    """A seal as it is kept: `body` is `Sealed` as JSON, signed as it stands there; key and signature are in base64."""

    body: str
    signature: str
    public: str

    @property
    def code(self) -> str:
        """The short code: 80 bits of the body's SHA-256 in base32, in groups of four."""
        signs = base64.b32encode(hashlib.sha256(self.body.encode()).digest()[:10]).decode()
        return "-".join(signs[place : place + 4] for place in range(0, 16, 4))

    @property
    def sealed(self) -> Sealed:
        """What it covers. Raises msgspec.DecodeError for a body that is none."""
        return msgspec.json.decode(self.body, type=Sealed)


class NewSeal(msgspec.Struct, frozen=True):
    """A seal that was just made, and for the runs that had none before the marks of their rows."""

    seal: Seal
    row_marks: tuple[tuple[int, bytes], ...]


def digest_of_run(stored: JobFile, run: int, last_mark: int) -> tuple[int, str, bytes]:
    """Return of a run (0: of what belongs to none) how many rows there are, the digest of all, and the rows' marks."""
    whole, marks, rows = hashlib.sha256(), bytearray(), 0
    for row in stored.canonical_rows(run, last_mark):
        digest = hashlib.sha256(row.data).digest()
        whole.update(digest)
        marks += digest[:ROW_MARK]
        rows += 1
    return rows, whole.hexdigest(), bytes(marks)


def digest_of_text(salt: str, text: str) -> str:
    """Return the digest of a sentence; how its words are broken into lines does not count."""
    return hashlib.sha256(f"{salt}\n{' '.join(text.split())}".encode()).hexdigest()


def make_seal(stored: JobFile, sentences: Sequence[Sentence], key: ShopKey, wall: float) -> NewSeal:
    """Seal a job as it is now together with the sentences of a report. Raises InputError for a damaged job."""
    last_mark = stored.last_mark()
    runs = [run for run in stored.runs() if run.ending is not None]
    known = stored.sealed_rows()
    sealed, new = [], []
    for number, title in ((0, "outside of runs"), *((run.number, run.title) for run in runs)):
        rows, digest, marks = digest_of_run(stored, number, last_mark)
        sealed.append(SealedRun(number, title, rows, digest))
        if number and number not in known:
            new.append((number, marks))
    findings = sum(len(stored.findings(run)) for run in runs) + len(stored.findings_outside())
    salt = secrets.token_hex(16)
    body = Sealed(
        job=stored.path.stem,
        number=stored.job().get("number", ""),
        wall=wall,
        last_mark=last_mark,
        salt=salt,
        runs=tuple(sealed),
        sentences=tuple(SealedText(name, digest_of_text(salt, text)) for name, text in sentences),
        findings=findings,
        simulated=any(run.simulated for run in runs),
    )
    text = msgspec.json.encode(body).decode()
    return NewSeal(Seal(text, key.sign(text.encode()), key.public), tuple(new))


def add_seal(writer: JournalWriter, new: NewSeal) -> None:
    """Add a seal, and the marks of rows that had none yet, to a job."""
    for run, marks in new.row_marks:
        writer.add_mark(None, 0.0, SEALED_ROWS, (run, marks))
    writer.add_mark(None, 0.0, SEAL, new.seal)


def still_covers(stored: JobFile, seal: Seal) -> bool:
    """Whether nothing has come to the job since a seal was made that a new one would cover."""
    sealed = seal.sealed
    ended = {run.number for run in stored.runs() if run.ending is not None}
    return not stored.entries_after(sealed.last_mark) and ended == {each.run for each in sealed.runs if each.run}


def sentences_digest(sentences: Iterable[Sentence]) -> str:
    """Return one digest of all sentences, to see whether a report is still the one that was looked at."""
    return hashlib.sha256(msgspec.json.encode(list(sentences))).hexdigest()
