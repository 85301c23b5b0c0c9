"""Overwriting fields of a job so that what stood there is gone from the file, not only from view."""

import sqlite3
from contextlib import closing
from pathlib import Path

from thresher.journal.lock import acquire
from thresher.journal.opening import connect, sentence_of
from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_there


def forget_fields(path: Path, fields: dict[str, str]) -> None:
    """Overwrite fields of a job that nobody has open. Raises EnvironmentFault, InputError.

    Freed space is filled with zeros, the write-ahead log is emptied, and copies of the file in an older format, which
    still have the old text, are removed.
    """
    lock = acquire(path, "the job file")
    try:
        with closing(connect(path, create=False)) as connection:
            connection.execute("PRAGMA secure_delete = ON")
            connection.execute("BEGIN IMMEDIATE")
            connection.executemany("INSERT OR REPLACE INTO job VALUES (?, ?)", fields.items())
            connection.execute("COMMIT")
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            connection.execute("VACUUM")
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        for number in range(1, 10):
            older = path.with_name(f"{path.name}.format-{number}")
            if is_there(older):
                older.unlink()
    except sqlite3.Error as error:
        raise EnvironmentFault(f"changing {path}", sentence_of(error), "Nothing was removed.") from error
    except OSError as error:
        raise EnvironmentFault(f"changing {path}", error.strerror or str(error), "Remove it by hand.") from error
    finally:
        lock.close()
