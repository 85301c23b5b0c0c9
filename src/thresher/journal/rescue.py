"""What a job file could not take, kept in files beside it until it can.

The rescue file is made when a job is opened, with room set aside on the disk. While the job file cannot be written,
all rows but the readings go there at once, and at the end whatever is left; so a full disk costs neither the end of a
run nor its findings. Opening the job again puts the rows where they belong. A row that the job file refuses, which is
a bug, goes into a file of its own, to be looked at.

Both are lines of JSON (`rows.py`). The first line of a rescue file names the writing that it belongs to; the job file
keeps that name with the number of the last row written, so that no row is put in twice.
"""

import logging
import os
import sqlite3
import uuid
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.journal.rows import STATEMENTS, WRITTEN, Row, Write, line_of_row, row_of_line
from thresher.model.errors import EnvironmentFault, InputError, InputFault, ThresherError
from thresher.model.private_folder import private_folder
from thresher.model.regular_file import is_file, read_regular

_LOG = logging.getLogger(__name__)

RESERVED_BYTES = 1 << 20
"""Room set aside: some thousand findings, or three hours of readings of a small machine."""

_MOST_BYTES = 256 << 20
_MOST_FILES = 50
ROW_ERRORS = (
    sqlite3.IntegrityError,
    sqlite3.DataError,
    sqlite3.ProgrammingError,
    sqlite3.InterfaceError,
    OverflowError,
)
"""Errors of one row, which writing again cannot heal."""


class _Head(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    rescue: str
    job: str


def written_mark(writing: str, number: int) -> tuple[str, str]:
    """Return the field that says up to which row a writing has come."""
    return WRITTEN + writing, str(number)


def _rescue_path(path: Path, number: int) -> Path:
    return path.with_name(f"{path.name}.rescue" + (f"-{number}" if number > 1 else ""))


def rescue_files(path: Path, elsewhere: Path | None = None) -> list[Path]:
    """Return the rescue files that there are for a job file, oldest first; `elsewhere` is a folder to look in too."""
    places = [path] + ([elsewhere / path.name] if elsewhere is not None else [])
    found = (_rescue_path(place, number) for place in places for number in range(1, _MOST_FILES))
    return [each for each in found if is_file(each)]


def waiting_files(path: Path) -> list[Path]:
    """Return the rescue files beside a job file that hold rows; that of a bench in good order holds none."""
    found = []
    for file in rescue_files(path):
        with suppress(OSError), file.open("rb") as stream:
            head, _, rest = stream.read(4096).partition(b"\n")
            if head and rest[:1] not in (b"", b"\0"):
                found.append(file)
    return found


@dataclass(slots=True)
class RescueFile:
    """The rescue file of one writing, open with room set aside; `used` counts its bytes."""

    path: Path
    descriptor: int
    head: bytes
    used: int
    reserved: bool

    def keep(self, rows: Iterable[Row]) -> int:
        """Add rows, durably; return how many found room."""
        kept = 0
        try:
            for row in rows:
                line = line_of_row(row)
                if os.pwrite(self.descriptor, line, self.used) < len(line):
                    os.pwrite(self.descriptor, b"\0", self.used)  # half a row is none
                    break
                self.used += len(line)
                kept += 1
            os.fsync(self.descriptor)
        except OSError as error:
            _LOG.warning("cannot write %s: %s", self.path, error)
        return kept

    def empty(self) -> None:
        """Forget the rows, because the job file has them; the room stays set aside."""
        with suppress(OSError):  # the job file says which rows it has
            os.pwrite(self.descriptor, bytes(self.used - len(self.head)), len(self.head))
        self.used = len(self.head)

    def close(self) -> bool:
        """Close the file and remove it when nothing is in it; return whether it stays."""
        try:
            if self.used > len(self.head):
                os.ftruncate(self.descriptor, self.used)
                return True
            self.path.unlink(missing_ok=True)
            return False
        except OSError as error:
            _LOG.warning("cannot close %s: %s", self.path, error)
            return self.used > len(self.head)
        finally:
            os.close(self.descriptor)


def make_rescue_file(path: Path, writing: str) -> RescueFile:
    """Make the rescue file of a job file. Raises EnvironmentFault when no file can be made there.

    On a disk with too little room it is made all the same, with none set aside.
    """
    number = 1
    while True:
        place = _rescue_path(path, number)
        try:
            descriptor = os.open(place, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
            break
        except FileExistsError:
            number += 1
            if number >= _MOST_FILES:
                raise EnvironmentFault(
                    f"making {place}", f"{_MOST_FILES} rescue files wait there", "Make room, then open the job."
                ) from None
        except OSError as error:
            raise EnvironmentFault(
                f"making {place}", os.strerror(error.errno or 0), "Choose a folder that can be written."
            ) from error
    head = msgspec.json.encode(_Head(writing, path.name)) + b"\n"
    reserved, used = True, 0
    try:
        os.posix_fallocate(descriptor, 0, RESERVED_BYTES)
    except OSError:
        reserved = False
    with suppress(OSError):  # on a full disk `keep` reports that no row found room
        used = os.pwrite(descriptor, head, 0)
        os.fsync(descriptor)
    return RescueFile(place, descriptor, head, used, reserved)


def new_writing() -> str:
    """Return a name for one opening of a job file for writing."""
    return uuid.uuid4().hex


def keep_elsewhere(folder: Path, path: Path, writing: str, rows: list[Row]) -> tuple[Path | None, int]:
    """Keep rows in another folder, because the drive of the job file takes none; return where, and how many."""
    try:
        file = make_rescue_file(private_folder(folder) / path.name, writing)
    except ThresherError as error:
        _LOG.warning("cannot keep rows elsewhere: %s", error)
        return None, 0
    kept = file.keep(rows)
    return (file.path if file.close() else None), kept


def keep_refused(path: Path, rows: list[tuple[Row, str]]) -> Path | None:
    """Add refused rows, with the reason of each, to a file beside the job file; return it, None when that failed."""
    place = path.with_name(f"{path.name}.refused.jsonl")
    try:
        descriptor = os.open(place, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            stream.writelines(line_of_row(row, why) for row, why in rows)
            stream.flush()
            os.fsync(stream.fileno())
    except OSError as error:
        _LOG.warning("cannot write %s: %s", place, error)
        return None
    return place


@dataclass(frozen=True, slots=True)
class PutBack:
    """What became of one rescue file: how many rows are in the job file again, or what is in the way."""

    path: Path
    rows: int
    trouble: str = ""


def put_back(connection: sqlite3.Connection, path: Path, elsewhere: Path | None = None) -> list[PutBack]:
    """Put the rows of all rescue files into the job file, remove the files, and say what became of each.

    A file that cannot be read or whose rows the job file does not take stays where it is.
    """
    found = []
    for file in rescue_files(path, elsewhere):
        try:
            count = _put_back_one(connection, path, file)
        except (sqlite3.Error, OSError, InputError) as error:
            found.append(PutBack(file, 0, str(error)))
            continue
        if count:
            found.append(PutBack(file, count))
    if not rescue_files(path, elsewhere):  # nothing waits that could be put in twice
        connection.execute("DELETE FROM job WHERE substr(name, 1, ?) = ?", (len(WRITTEN), WRITTEN))
    return found


def _put_back_one(connection: sqlite3.Connection, path: Path, file: Path) -> int:
    writing, rows = _read(file)
    last = _written_up_to(connection, writing)
    refused: list[tuple[Row, str]] = []
    count = 0
    connection.execute("BEGIN IMMEDIATE")
    try:
        for row in rows:
            if row.number <= last:
                continue
            try:
                connection.execute(STATEMENTS[row.write], row.values)
                count += 1
            except ROW_ERRORS as error:
                refused.append((row, str(error)))
        connection.execute("COMMIT")
    except BaseException:
        if connection.in_transaction:
            connection.execute("ROLLBACK")
        raise
    if not refused or keep_refused(path, refused) is not None:
        file.unlink(missing_ok=True)
    return count


def _read(file: Path) -> tuple[str, list[Row]]:
    """Return the name of the writing and the rows of a rescue file; half a row at its end is left out."""
    data = read_regular(file, _MOST_BYTES).split(b"\0", 1)[0]
    if not data:
        return "", []  # made on a full disk, with no room for its first line
    head, *lines = data.split(b"\n")
    try:
        writing = msgspec.json.decode(head, type=_Head).rescue
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(str(file), [InputFault("line 1", f"it is no rescue file: {error}")]) from error
    return writing, list(_rows(lines, file))


def _rows(lines: list[bytes], file: Path) -> Iterator[Row]:
    for number, line in enumerate(lines[:-1], start=2):  # what follows the last line end is half a row
        yield row_of_line(line, f"{file}, line {number}")


def _written_up_to(connection: sqlite3.Connection, writing: str) -> int:
    found = connection.execute("SELECT value FROM job WHERE name = ?", (WRITTEN + writing,)).fetchone()
    number = str(found[0] if found else "")
    return int(number) if number.isdecimal() else 0


def is_reading(row: Row) -> bool:
    """Whether a row is one of readings, which are many and come last where room is short."""
    return row.write is Write.TICK
