"""The rows that a job file is written with: each names its statement, so that a row can wait in another file."""

import base64
import binascii
from dataclasses import dataclass
from enum import StrEnum

import msgspec

from thresher.model.errors import InputError, InputFault

Value = str | int | float | bytes | None
"""What SQLite stores."""


SHEET_CHANGED = "sheet changed"
"""The kind of mark that says what was changed on the sheet of a run in progress."""
ENDS, BROKEN_OFF = "block ends", "broken off"
"""The kind of mark that says that a block has ended, and how such a mark says that it came to no end in order."""
ENDING, MOMENTS = "ending", "last moments"
KNOWN_WORDS = "last words before"
"""The kinds of marks that say how a run that nobody ended came to its end, and hold the last rows of the black box."""
ROOM = "room"
"""The kind of mark that holds the room temperature that a person typed in for a run."""
SEAL, SEALED_ROWS = "seal", "sealed rows"
"""The kinds of marks that hold a seal, and of each row of a sealed run the first bytes of its digest."""
GOING_ON = "going on"
"""The field of the job that says what goes on by itself after a sudden end."""
DRAFT = "draft sheet"
"""The field of the job that holds the run sheet which was being edited last."""

WRITTEN = "written up to, "
"""How the field of the job begins that says which row of a writing was written last; the writing's name follows."""


class Write(StrEnum):
    """What a row does to a job file."""

    FIELD = "field"
    BEGIN_RUN = "begin run"
    END_RUN = "end run"
    TICK = "tick"
    MARK = "mark"


STATEMENTS: dict[Write, str] = {
    Write.FIELD: "INSERT OR REPLACE INTO job VALUES (?, ?)",
    Write.BEGIN_RUN: (
        "INSERT INTO runs (run, title, sheet, machine, channels, simulated, boot_id, began_at, began_wall)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
    ),
    Write.END_RUN: "UPDATE runs SET ended_at = ?, ending = ?, ending_detail = ? WHERE run = ?",
    Write.TICK: "INSERT OR REPLACE INTO ticks VALUES (?, ?, ?, ?, ?, ?)",
    Write.MARK: "INSERT INTO marks (run, at, kind, body) VALUES (?, ?, ?, ?)",
}


@dataclass(frozen=True, slots=True)
class Row:
    """One row; `number` counts from 1 since the file was opened for writing."""

    number: int
    write: Write
    values: tuple[Value, ...]


class _Line(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    row: int
    write: Write
    values: tuple[str | int | float | dict[str, str] | None, ...]
    why: str = ""


def line_of_row(row: Row, why: str = "") -> bytes:
    """Return a row as a line of JSON; bytes become `{"base64": "…"}`."""
    values = tuple(
        {"base64": base64.b64encode(value).decode()} if isinstance(value, bytes) else value for value in row.values
    )
    return msgspec.json.encode(_Line(row.number, row.write, values, why)) + b"\n"


def row_of_line(line: bytes, place: str) -> Row:
    """Return the row of a line. Raises InputError that names `place`."""
    try:
        read = msgspec.json.decode(line, type=_Line)
        values = tuple(
            base64.b64decode(value["base64"], validate=True) if isinstance(value, dict) else value
            for value in read.values
        )
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError, binascii.Error, KeyError) as error:
        raise InputError(place, [InputFault("row", f"it is damaged: {error}")]) from error
    if len(values) != STATEMENTS[read.write].count("?"):
        raise InputError(place, [InputFault("row", f"a row {read.write!r} cannot have {len(values)} values")])
    return Row(read.row, read.write, values)
