"""An index of all jobs of a bench, so that one is found while somebody types: number, customer, words, parts, codes.

It is a file of the shop that is made again from the jobs whenever it is lost. A job is read again when its file has
changed; what cannot be read is listed with its reason.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from thresher.journal.jobfile import JobFile, read_job
from thresher.model.errors import ThresherError
from thresher.model.job import JOB_FILE_ENDING, parse_complaints
from thresher.shop.store import NewerFile, change_file, read_file

FORMAT = "thresher-job-index/1"
MOST_SHOWN = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class IndexedJob:
    """One job: the stem and state of its file, what is shown of it, and what it is found by (`text`, case folded).

    `wall` is when its file was changed last (Unix time), `trouble` why it could not be read.
    """

    stem: str
    size: int
    changed_ns: int
    number: str = ""
    machine: str = ""
    customer: str = ""
    about: str = ""
    text: str = ""
    trouble: str = ""

    @property
    def wall(self) -> float:
        """When the file was changed last, in Unix time."""
        return self.changed_ns / 1e9


@dataclass(frozen=True, slots=True, kw_only=True)
class JobIndex:
    """All jobs of a bench."""

    format: str = FORMAT
    jobs: tuple[IndexedJob, ...] = field(default=())


def index_path(shop: Path) -> Path:
    """Return where the index of a shop is kept."""
    return shop / "job-index.json"


def stored_index(shop: Path) -> JobIndex:
    """Return the index as it was kept last, an empty one where there is none or it cannot be read: it is made again."""
    try:
        return read_file(index_path(shop), JobIndex, FORMAT) or JobIndex()
    except NewerFile:
        raise
    except ThresherError:
        return JobIndex()


def refreshed_index(jobs: Path, shop: Path, progress: Callable[[int, int], None] | None = None) -> JobIndex:
    """Read what has changed among the job files of a folder, keep the index and return it.

    `progress` gets how many files were read of how many. A shop folder that cannot be written only costs time.
    """
    known = {each.stem: each for each in stored_index(shop).jobs}
    there: list[IndexedJob] = []
    changed: list[tuple[Path, int, int]] = []
    for path in sorted(jobs.glob(f"*{JOB_FILE_ENDING}")):
        try:
            state = path.stat()
        except OSError:
            continue  # deleted between listing and looking
        entry = known.get(path.stem)
        if entry is not None and (entry.size, entry.changed_ns) == (state.st_size, state.st_mtime_ns):
            there.append(entry)
        else:
            changed.append((path, state.st_size, state.st_mtime_ns))
    for count, (path, size, changed_ns) in enumerate(changed, 1):
        there.append(_entry_of(path, size, changed_ns))
        if progress is not None:
            progress(count, len(changed))
    index = JobIndex(jobs=tuple(sorted(there, key=lambda each: -each.changed_ns)))
    if changed or len(there) != len(known):
        try:
            change_file(index_path(shop), FORMAT, JobIndex(), lambda _: index)
        except ThresherError:
            return index  # found all the same; it is read again next time
    return index


def _entry_of(path: Path, size: int, changed_ns: int) -> IndexedJob:
    try:
        return read_job(path, lambda stored: _read(stored, path, size, changed_ns))
    except ThresherError as error:
        return IndexedJob(
            stem=path.stem, size=size, changed_ns=changed_ns, text=path.stem.casefold(), trouble=str(error)
        )


def _read(stored: JobFile, path: Path, size: int, changed_ns: int) -> IndexedJob:
    fields = stored.job()
    machine = stored.machine()
    complaints = parse_complaints(fields.get("symptoms", ""))
    book = stored.book()
    words = [path.stem, *(fields.get(name, "") for name in ("number", "machine", "customer", "contact", "words"))]
    words += [f"{each.text} {each.when} {each.note}" for each in complaints]
    words += [trial.title for trial in book.trials] if book is not None else []
    for part in machine.parts if machine is not None else ():
        words += [part.tag, part.name, *(fact.value for fact in part.facts if "serial" in fact.name)]
    words += stored.finding_codes()
    about = ", ".join(each.text for each in complaints) or " ".join(fields.get("words", "").split())[:80]
    return IndexedJob(
        stem=path.stem,
        size=size,
        changed_ns=changed_ns,
        number=fields.get("number", ""),
        machine=fields.get("machine", ""),
        customer=fields.get("customer", ""),
        about=about,
        text="\n".join(word for word in words if word).casefold(),
    )


def find_jobs(jobs: Iterable[IndexedJob], query: str) -> tuple[IndexedJob, ...]:
    """Return the jobs in which every word of a query occurs: that of this very number first, then the newest."""
    words = query.casefold().split()
    if not words:
        found = list(jobs)
    else:
        # the longest word is the rarest as a rule: most jobs are left after one look
        words.sort(key=len, reverse=True)
        first, others = words[0], words[1:]
        found = [each for each in jobs if first in each.text and all(word in each.text for word in others)]
    exact = query.strip().casefold()
    found.sort(key=lambda each: (each.number.casefold() != exact, -each.changed_ns))
    return tuple(found)
