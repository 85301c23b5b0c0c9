"""Opening a job file that somebody else may have made: its schema must be ours, and nothing in it may act.

A view or trigger in a database is code that runs when we read or write. A file that holds one, or a table that we do
not make, is refused by name before anything else is asked of it. What is damaged inside is said in words.
"""

import functools
import sqlite3
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import msgspec

from thresher.journal.schema import SCHEMA
from thresher.model.errors import InputError, InputFault, ThresherError

P = ParamSpec("P")
R = TypeVar("R")

_LONGEST_CHECK_S = 10.0
_STEPS_BETWEEN_LOOKS = 100_000
_MOST_NAMED = 3


def distrust(connection: sqlite3.Connection, path: Path) -> None:
    """Let nothing in a file act, and refuse one whose schema is not ours. Raises InputError, sqlite3.Error."""
    connection.execute("PRAGMA trusted_schema = OFF")
    until = time.monotonic() + _LONGEST_CHECK_S
    connection.set_progress_handler(lambda: time.monotonic() > until, _STEPS_BETWEEN_LOOKS)
    try:
        faults = list(_foreign(connection))
    finally:
        connection.set_progress_handler(None, 0)
    if faults:
        raise InputError(str(path), faults[:_MOST_NAMED])


def _foreign(connection: sqlite3.Connection) -> list[InputFault]:
    ours = _our_columns()
    faults = []
    for kind, name, sql in connection.execute("SELECT type, name, sql FROM sqlite_master").fetchall():
        shown = str(name)[:60]
        if kind not in ("table", "index"):
            faults.append(InputFault(f"{kind} {shown!r}", "Thresher makes none; the file may have been tampered with"))
        elif kind == "table" and name not in ours:
            if not str(name).startswith("sqlite_"):
                faults.append(InputFault(f"table {shown!r}", "this is no table of a job file"))
        elif kind == "table" and "VIRTUAL" in str(sql).upper().split("(")[0]:
            faults.append(InputFault(f"table {shown!r}", "it is a virtual table; Thresher makes none"))
    if not faults:
        faults = [
            InputFault(f"table {name!r}", "its columns are not those of a job file")
            for name, columns in ours.items()
            if (there := _columns(connection, name)) and there != columns
        ]
    return faults


def _columns(connection: sqlite3.Connection, table: str) -> list[tuple[str, str, int]]:
    """Return name, type and kind (0: plain) of every column of a table, none for one that is not there."""
    rows = connection.execute("SELECT name, type, hidden FROM pragma_table_xinfo(?)", (table,)).fetchall()
    return [(str(name), str(type_), int(hidden)) for name, type_, hidden in rows]


@functools.cache
def _our_columns() -> dict[str, list[tuple[str, str, int]]]:
    with closing(sqlite3.connect(":memory:")) as fresh:
        fresh.executescript(SCHEMA)
        names = [row[0] for row in fresh.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        return {name: _columns(fresh, name) for name in names}


DAMAGE = (sqlite3.Error, msgspec.MsgspecError, ValueError, TypeError, KeyError, OverflowError, RecursionError)
"""What reading a damaged job file raises."""


def says_damage(method: Callable[P, R]) -> Callable[P, R]:
    """Let a method of a job file (an object with a `path`) say in words that what it reads is damaged."""

    @functools.wraps(method)
    def reading(*arguments: P.args, **named: P.kwargs) -> R:
        try:
            return method(*arguments, **named)
        except ThresherError:
            raise
        except sqlite3.OperationalError as error:
            if (getattr(error, "sqlite_errorname", "") or "").startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
                raise
            raise damage_of(arguments[0], method.__name__, error) from error
        except DAMAGE as error:
            raise damage_of(arguments[0], method.__name__, error) from error

    return reading


def damage_of(file: Any, what: str, error: Exception) -> InputError:
    """Return the error of a job file (an object with a `path`) that is damaged in what is read of it."""
    words = str(error).partition("\n")[0][:120]
    where = what.replace("_", " ")
    return InputError(str(file.path), [InputFault(where, f"the file is damaged here ({words})")])


def all_say_damage(made: type[R]) -> type[R]:
    """Let every public method of a class say damage (`says_damage`)."""
    for name, member in list(vars(made).items()):
        if callable(member) and not name.startswith("_"):
            setattr(made, name, says_damage(member))
    return made
