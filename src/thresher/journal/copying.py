"""A copy of a job file as it is at one moment, also while an engine writes to it."""

import errno
import shutil
import sqlite3
import tempfile
from contextlib import closing
from itertools import zip_longest
from pathlib import Path

from thresher.journal.lock import lock_path
from thresher.model.regular_file import is_file

_MERGED = ("-wal", "-shm", "-journal")
"""What SQLite keeps beside a database; a backup has it merged."""


def same_job(one: Path, other: Path) -> bool:
    """Whether two job files hold the same rows, whatever their bytes; a file that cannot be read is like no other."""
    try:
        with closing(_read_only(one)) as first, closing(_read_only(other)) as second:
            tables = [
                name for (name,) in first.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY 1")
            ]
            for name in tables:
                query = f'SELECT * FROM "{name}" ORDER BY 1, 2'  # noqa: S608 (the file's own tables)
                pairs = zip_longest(first.execute(query), second.execute(query))
                if any(mine != theirs for mine, theirs in pairs):
                    return False
    except sqlite3.Error:
        return False
    return True


def _read_only(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=5.0)


def copy_job(job: Path, folder: Path) -> None:
    """Copy a job file and what lies beside it (black box, waiting rows) into a folder. Raises OSError.

    A file that is no database any more is copied as it is: somebody may still get something out of it. The copy is made
    in this computer's temporary folder first, since SQLite locks and syncs page by page: over a network share that can
    take minutes or fail.
    """
    target = folder / job.name
    with tempfile.TemporaryDirectory(prefix="thresher-copy-") as here:
        whole = Path(here) / job.name
        try:
            with (
                closing(_read_only(job)) as source,
                closing(sqlite3.connect(whole)) as copy,
            ):
                source.backup(copy)
            shutil.copyfile(whole, target)
        except sqlite3.Error as error:
            if error.sqlite_errorcode == sqlite3.SQLITE_FULL:
                raise OSError(errno.ENOSPC, "no room for a copy in the temporary folder", here) from error
            shutil.copyfile(job, target)
    for beside in sorted(job.parent.glob(f"{job.name}?*")):
        merged = beside.name.endswith(_MERGED)
        if is_file(beside) and not merged and beside != lock_path(job):
            shutil.copyfile(beside, folder / beside.name)
