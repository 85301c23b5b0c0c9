"""Migrations of the job file, one module each: from one format to the next.

Each runs inside one transaction together with the new version number, so that a job file has either the old format or
the new one. A new migration is a module with a `migrate` function and a row in `MIGRATIONS`.
"""

import sqlite3
from collections.abc import Callable

from thresher.journal.migrations import m0002_plain_names

MIGRATIONS: dict[int, Callable[[sqlite3.Connection], None]] = {1: m0002_plain_names.migrate}
"""By the format that is migrated from."""


def migrate(connection: sqlite3.Connection, version: int, target: int) -> None:
    """Bring a job file from a format to the present one. Raises sqlite3.Error; the file then stays as it was."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        for present in range(version, target):
            MIGRATIONS[present](connection)
        connection.execute(f"PRAGMA user_version = {target}")
        connection.execute("COMMIT")
    except BaseException:
        connection.execute("ROLLBACK")
        raise
