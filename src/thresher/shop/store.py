"""Reading and writing the shop's files. Each is replaced as a whole, so that a crash leaves the old or the new one."""

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from thresher.journal.lock import locked
from thresher.model.channels import Baseline
from thresher.model.decisions import ClosedJob
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.parts import Part, PartKind
from thresher.model.private_folder import made_folder
from thresher.model.regular_file import is_there, read_regular
from thresher.model.whole_file import write_whole
from thresher.sensors.limits import OwnLimit

T = TypeVar("T")

SHELF_FORMAT = "thresher-shelf/1"
MACHINE_FORMAT = "thresher-machine/2"
CLOSED_FORMAT = "thresher-closed-jobs/2"
_OLD_FORMATS = {MACHINE_FORMAT: "thresher-machine/1", CLOSED_FORMAT: "thresher-closed-jobs/1"}
_OLD_NAMES = {"believed": "trusted", "said": "predicted", "counts": "counted"}
_MOST_VISITS = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class ShopPart:
    """A part of the shop that is known to be good; `proved` is the date (ISO 8601) of its last proof, or empty."""

    tag: str
    kind: PartKind
    name: str
    proved: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Shelf:
    """The shop's known-good parts."""

    format: str = SHELF_FORMAT
    parts: tuple[ShopPart, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Trust:
    """Whether a channel of one machine is to be trusted, by the technician's word, with reason and date."""

    channel: str
    trusted: bool
    reason: str
    date: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Visit:
    """One time that a machine was on the bench: Unix time, the job, and the parts that were in it."""

    wall: float
    job: str
    number: str
    parts: tuple[Part, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class MachineFile:
    """What stays with a machine: its visits, the technician's limits and choices, its last idle readings."""

    format: str = MACHINE_FORMAT
    name: str = ""
    visits: tuple[Visit, ...] = ()
    limits: tuple[OwnLimit, ...] = ()
    trust: tuple[Trust, ...] = ()
    baseline: Baseline | None = None

    def visited(self, visit: Visit) -> "MachineFile":
        """Return the file with a visit added; a job has one, its newest."""
        others = tuple(each for each in self.visits if each.job != visit.job)
        return replace(self, visits=(*others, visit)[-_MOST_VISITS:])

    def before(self, job: str) -> Visit | None:
        """Return the last visit under another job."""
        return next((each for each in reversed(self.visits) if each.job != job), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class ClosedJobs:
    """What the shop's closed jobs actually were."""

    format: str = CLOSED_FORMAT
    jobs: tuple[ClosedJob, ...] = ()


class NewerFile(InputError):
    """A file that a newer Thresher has written: it is left as it is, and never written over."""


def _is_newer(found: object, expected_format: str) -> bool:
    """Whether a file's format is the expected one with a higher number."""
    name, _, number = expected_format.partition("/")
    given = found.get("format") if isinstance(found, dict) else None
    there, _, version = str(given).partition("/")
    if there != name or not re.fullmatch(r"[1-9][0-9]*", version):
        return False
    return len(version) > 9 or int(version) > int(number)


def read_file(path: Path, kind: type[T], expected_format: str) -> T | None:
    """Read a file; None when there is none. Raises InputError that names file and place."""
    try:
        data = read_regular(path)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise InputError(str(path), [InputFault("file", error.strerror or str(error))]) from error
    try:
        found = msgspec.json.decode(data)
        if isinstance(found, dict) and "format" in found and found["format"] == _OLD_FORMATS.get(expected_format):
            found = _present_names(found) | {"format": expected_format}
        if _is_newer(found, expected_format):
            message = "a newer Thresher wrote it; update this one to use it. Nothing in it is changed"
            raise NewerFile(str(path), [InputFault("format", message)])
        if not isinstance(found, dict) or found.get("format") != expected_format:
            reported = found.get("format") if isinstance(found, dict) else None
            raise InputError(str(path), [InputFault("format", f'expected "{expected_format}", found {reported!r}')])
        return msgspec.convert(found, kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(str(path), [InputFault("JSON", str(error)[:120])]) from error
    except RecursionError as error:
        raise InputError(str(path), [InputFault("JSON", "it is nested too deep")]) from error


def _present_names(value: object) -> Any:
    """Return a file of the format before this one with its fields under their present names."""
    if isinstance(value, dict):
        return {_OLD_NAMES.get(name, name): _present_names(each) for name, each in value.items()}
    return [_present_names(each) for each in value] if isinstance(value, list) else value


def change_file(path: Path, expected_format: str, empty: T, change: Callable[[T], T]) -> T:
    """Read a file, change it and replace it, durably and while no other program can do the same; return the new one.

    What another program has written since this one read it is therefore kept. Raises InputError for a file that
    cannot be read or whose new content `change` refuses, EnvironmentFault when it cannot be written; the old file then
    stays as it was.
    """
    made_folder(path.parent)
    with locked(path.parent, "the shop folder"):
        value = change(read_file(path, type(empty), expected_format) or empty)
        write_whole(path, msgspec.json.format(msgspec.json.encode(value), indent=1) + b"\n")
    return value


def put_aside(path: Path) -> Path:
    """Rename a file that cannot be read, so that nothing in it is lost, and return its new name."""
    number = 1
    while is_there(aside := path.with_name(f"{path.name}.unreadable-{number}")):
        number += 1
    try:
        path.replace(aside)
    except OSError as error:
        raise EnvironmentFault(f"moving {path} aside", error.strerror or str(error), "Move it by hand.") from error
    return aside


def machine_path(shop: Path, key: str) -> Path:
    """Return where a machine's own file is kept."""
    return shop / "machines" / f"{key}.json"


def read_machine(shop: Path, key: str) -> MachineFile:
    """Return a machine's own file, an empty one when it was never here. Raises InputError."""
    return read_file(machine_path(shop, key), MachineFile, MACHINE_FORMAT) or MachineFile()


def change_machine(shop: Path, key: str, change: Callable[[MachineFile], MachineFile]) -> MachineFile:
    """Change a machine's own file as it is now and return the new one. Raises InputError, EnvironmentFault."""
    return change_file(machine_path(shop, key), MACHINE_FORMAT, MachineFile(), change)


def shelf_path(shop: Path) -> Path:
    """Return where the shelf is kept."""
    return shop / "shelf.json"


def read_shelf(shop: Path) -> Shelf:
    """Return the shop's shelf, an empty one when there is none. Raises InputError."""
    return read_file(shelf_path(shop), Shelf, SHELF_FORMAT) or Shelf()


def change_shelf(shop: Path, known: Shelf, wanted: Shelf) -> Shelf:
    """Make the shelf what is wanted by someone who has seen it as `known`, and return it.

    Parts that another program has put there or changed meanwhile stay as that one left them, unless they are changed
    here too. Raises InputError for parts that cannot be distinguished, EnvironmentFault.
    """
    _check_shelf(wanted)
    before = {part.tag: part for part in known.parts}
    after = {part.tag: part for part in wanted.parts}

    def change(now: Shelf) -> Shelf:
        removed = before.keys() - after.keys()
        ours = {tag: part for tag, part in after.items() if before.get(tag) != part}
        there = {part.tag: part for part in now.parts if part.tag not in removed}
        # in the order that is wanted, then what others have added
        tags = [tag for tag in after if tag in there or tag in ours]
        tags += [tag for tag in there if tag not in after]
        return Shelf(parts=tuple(ours.get(tag) or there[tag] for tag in tags))

    return change_file(shelf_path(shop), SHELF_FORMAT, Shelf(), change)


def _check_shelf(shelf: Shelf) -> None:
    tags = [part.tag for part in shelf.parts]
    faults = [InputFault(tag, "two parts have this tag") for tag in sorted(set(tags)) if tags.count(tag) > 1]
    faults += [InputFault("tag", f"{part.name or 'a part'} has none") for part in shelf.parts if not part.tag.strip()]
    faults += [
        InputFault(part.tag, f"expected a date such as 2026-03-17, found {part.proved!r}")
        for part in shelf.parts
        if part.proved and not re.fullmatch(r"\d{4}-\d\d-\d\d", part.proved)
    ]
    if faults:
        raise InputError("shelf", faults)


def closed_jobs_path(shop: Path) -> Path:
    """Return where the closed jobs are kept."""
    return shop / "closed-jobs.json"


def read_closed_jobs(shop: Path) -> tuple[ClosedJob, ...]:
    """Return the shop's closed jobs, oldest first; none when there is no file. Raises InputError."""
    return (read_file(closed_jobs_path(shop), ClosedJobs, CLOSED_FORMAT) or ClosedJobs()).jobs


def change_closed_jobs(
    shop: Path, change: Callable[[tuple[ClosedJob, ...]], tuple[ClosedJob, ...]]
) -> tuple[ClosedJob, ...]:
    """Change the closed jobs as they are now and return the new ones. Raises InputError, EnvironmentFault."""
    file = change_file(
        closed_jobs_path(shop), CLOSED_FORMAT, ClosedJobs(), lambda now: ClosedJobs(jobs=change(now.jobs))
    )
    return file.jobs


def prices_path(shop: Path) -> Path:
    """Return where the shop's own price list is."""
    return shop / "prices.toml"


def sheets_folder(shop: Path) -> Path:
    """Return where the shop's own run sheets are."""
    return shop / "sheets"


def own_sheets(shop: Path) -> dict[str, Path]:
    """Return the shop's own run sheets by name."""
    return {path.stem: path for path in sorted(sheets_folder(shop).glob("*.toml"), key=lambda path: path.stem)}
