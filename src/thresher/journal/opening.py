"""Opening job files: made when they are not there, checked for being ours, migrated, or read without a change."""

import logging
import os
import sqlite3
from contextlib import closing
from pathlib import Path

from thresher.journal.foreign import distrust
from thresher.journal.migrations import migrate
from thresher.journal.schema import APPLICATION_ID, SCHEMA, VERSION
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.regular_file import is_file, is_there

_LOG = logging.getLogger(__name__)


def sentence_of(error: sqlite3.Error) -> str:
    """Say an SQLite error for a person."""
    name = getattr(error, "sqlite_errorname", "") or type(error).__name__
    words = {
        "SQLITE_FULL": "the disk is full",
        "SQLITE_BUSY": "another program holds the file",
        "SQLITE_READONLY": "the file may not be written",
        "SQLITE_CANTOPEN": "the file cannot be opened",
        "SQLITE_CORRUPT": "the file is damaged",
        "SQLITE_NOTADB": "it is not a job file",
        "SQLITE_IOERR_WRITE": "the drive reported a write error",
    }
    return words.get(name, f"{error} ({name})")


def connect(path: Path, create: bool) -> sqlite3.Connection:
    """Open a job file, creating it if asked. Raises EnvironmentFault or InputError with what to do."""
    if not create and not is_file(path):
        raise EnvironmentFault(f"opening the job file {path}", "there is no such file", "Check the name.")
    try:
        if create:  # readable for this user alone, before anything is in it
            os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600))
        connection = sqlite3.connect(path, isolation_level=None, timeout=5.0)
    except OSError as error:
        raise EnvironmentFault(
            f"opening the job file {path}", os.strerror(error.errno or 0), "Choose a folder that can be written."
        ) from error
    except sqlite3.Error as error:
        raise EnvironmentFault(
            f"opening the job file {path}", sentence_of(error), "Choose a folder that can be written."
        ) from error
    try:
        _prepare(connection, path)
    except sqlite3.Error as error:
        connection.close()
        if isinstance(error, sqlite3.DatabaseError) and "NOTADB" in (getattr(error, "sqlite_errorname", "") or ""):
            raise InputError(str(path), [InputFault("file", "it is not a Thresher job file")]) from error
        raise EnvironmentFault(f"opening the job file {path}", sentence_of(error), "Nothing was changed.") from error
    except InputError:
        connection.close()
        raise
    return connection


def _check_format(connection: sqlite3.Connection, path: Path) -> int:
    """Return the format of a job file. Raises InputError for another program's, a newer or a damaged one."""
    try:
        return _format_of(connection, path)
    except UnicodeDecodeError as error:
        raise InputError(str(path), [InputFault("schema", "the file is damaged: a name in it is no text")]) from error


def _format_of(connection: sqlite3.Connection, path: Path) -> int:
    (application,) = connection.execute("PRAGMA application_id").fetchone()
    (version,) = connection.execute("PRAGMA user_version").fetchone()
    (tables,) = connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
    if application != APPLICATION_ID and tables:
        raise InputError(
            str(path), [InputFault("file", "it is a database of another program, not a Thresher job file")]
        )
    distrust(connection, path)
    if tables and version < 1:
        raise InputError(str(path), [InputFault("format", f"format {version} is none that a Thresher has written")])
    if version > VERSION:
        message = f"it was written by a newer Thresher (format {version}, this one knows up to {VERSION}); update first"
        raise InputError(str(path), [InputFault("format", message)])
    return int(version)


def _prepare(connection: sqlite3.Connection, path: Path) -> None:
    version = _check_format(connection, path)
    (tables,) = connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = FULL")
    if tables and version < VERSION:
        _LOG.info("migrating %s from format %d to %d", path, version, VERSION)
        _keep_old(connection, path, version)
        migrate(connection, version, VERSION)
    if not tables:
        connection.execute("BEGIN IMMEDIATE")
        for statement in SCHEMA.split(";\n"):
            if statement.strip():
                connection.execute(statement)
        connection.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        connection.execute(f"PRAGMA user_version = {VERSION}")
        connection.execute("COMMIT")


def _keep_old(connection: sqlite3.Connection, path: Path, version: int) -> None:
    """Keep a copy of a job file in its old format beside it, unless there is one."""
    copy = path.with_name(f"{path.name}.format-{version}")
    if is_there(copy):
        return
    with closing(sqlite3.connect(copy)) as target:
        connection.backup(target)


def _open_read_only(path: Path) -> tuple[sqlite3.Connection, int]:
    """Open a job file read only and return its format; in a folder that cannot be written, as it lies there."""
    name = path.absolute().as_uri()
    connection = sqlite3.connect(f"{name}?mode=ro", uri=True, isolation_level=None, timeout=5.0)
    try:
        return connection, _check_format(connection, path)
    except sqlite3.OperationalError:
        # beside a write-ahead log SQLite wants to make a file of its own, which a read-only medium refuses
        connection.close()
        connection = sqlite3.connect(f"{name}?immutable=1", uri=True, isolation_level=None)
        return connection, _check_format(connection, path)


def connect_read_only(path: Path) -> sqlite3.Connection:
    """Open a job file without changing it: one of an older format is migrated in memory.

    Raises EnvironmentFault or InputError with what to do.
    """
    if not is_file(path):
        raise EnvironmentFault(f"opening the job file {path}", "there is no such file", "Check the name.")
    tried = f"opening the job file {path}"
    try:
        connection, version = _open_read_only(path)
        if version < 1:
            connection.close()
            raise InputError(str(path), [InputFault("file", "it is empty, not a Thresher job file")])
        if version < VERSION:
            copy = sqlite3.connect(":memory:", isolation_level=None)
            connection.backup(copy)
            connection.close()
            migrate(copy, version, VERSION)
            return copy
        connection.execute("PRAGMA query_only = ON")
        return connection
    except sqlite3.Error as error:
        if "NOTADB" in (getattr(error, "sqlite_errorname", "") or ""):
            raise InputError(str(path), [InputFault("file", "it is not a Thresher job file")]) from error
        raise EnvironmentFault(tried, sentence_of(error), "Nothing was changed.") from error
