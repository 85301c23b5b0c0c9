"""The rows of a job file as bytes that are the same on every computer, for a seal to cover them.

A row is a letter for its table and its columns: numbers as little-endian 64-bit, texts and readings with their length
before them. What is written here must not change while job files have format 2: seals were made over it.
"""

import sqlite3
import struct
from collections.abc import Iterator
from dataclasses import dataclass

import msgspec

from thresher.journal.rows import SEAL, SEALED_ROWS
from thresher.model.sheet import clock_text

_RUN_COLUMNS = (
    "run, title, sheet, machine, channels, simulated, boot_id, began_at, began_wall, ended_at, ending, ending_detail"
)


@dataclass(frozen=True, slots=True)
class CanonicalRow:
    """One row: its bytes, and what a person calls it."""

    data: bytes
    name: str


def run_rows(connection: sqlite3.Connection, run: int, last_mark: int) -> Iterator[CanonicalRow]:
    """Yield the rows of a run: the run itself, its readings by time, its marks up to `last_mark` in their order."""
    row = connection.execute(f"SELECT {_RUN_COLUMNS} FROM runs WHERE run = ?", (run,)).fetchone()  # noqa: S608 (a constant)
    if row is None:
        return
    began = float(row[7])
    yield CanonicalRow(b"R" + msgspec.json.encode(list(row)), "the run itself")
    ticks = connection.execute("SELECT at, wall, late, reading, missing FROM ticks WHERE run = ? ORDER BY at", (run,))
    for at, wall, late, reading, missing in ticks:
        head = struct.pack("<qddq", run, at, wall, late)
        name = f"the row of readings at {clock_text(at - began)}"
        yield CanonicalRow(b"T" + head + _text(bytes(reading)) + _text((missing or "").encode()), name)
    marks = connection.execute(
        "SELECT mark, at, kind, body FROM marks WHERE run = ? AND mark <= ? ORDER BY mark", (run, last_mark)
    )
    for mark, at, kind, body in marks:
        yield _mark(mark, run, at, kind, body, f"the entry “{kind}” at {clock_text(max(0.0, at - began))}")


def outside_rows(connection: sqlite3.Connection, last_mark: int) -> Iterator[CanonicalRow]:
    """Yield the marks that belong to no run, up to `last_mark`, without those of seals themselves."""
    marks = connection.execute(
        "SELECT mark, at, kind, body FROM marks WHERE run IS NULL AND mark <= ? AND kind NOT IN (?, ?) ORDER BY mark",
        (last_mark, SEAL, SEALED_ROWS),
    )
    for mark, at, kind, body in marks:
        yield _mark(mark, 0, at, kind, body, f"the entry “{kind}” (number {mark})")


def _mark(mark: int, run: int, at: float, kind: str, body: str, name: str) -> CanonicalRow:
    return CanonicalRow(b"M" + struct.pack("<qqd", mark, run, at) + _text(kind.encode()) + _text(body.encode()), name)


def _text(data: bytes) -> bytes:
    return struct.pack("<q", len(data)) + data
