"""A copy of a job file as it is at one moment, also while an engine writes to it."""

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from thresher.journal.lock import lock_path
from thresher.model.regular_file import is_file

_MERGED = ("-wal", "-shm", "-journal")
"""What SQLite keeps beside a database; a backup has it merged."""


def copy_job(job: Path, folder: Path) -> None:
    """Copy a job file and what lies beside it (black box, waiting rows) into a folder. Raises OSError.

    A file that is no database any more is copied as it is: somebody may still get something out of it.
    """
    target = folder / job.name
    try:
        with closing(sqlite3.connect(f"{job.absolute().as_uri()}?mode=ro", uri=True, timeout=5.0)) as source:
            target.unlink(missing_ok=True)
            with closing(sqlite3.connect(target)) as copy:
                source.backup(copy)
    except sqlite3.Error:
        shutil.copyfile(job, target)
    for beside in sorted(job.parent.glob(f"{job.name}?*")):
        merged = beside.name.endswith(_MERGED)
        if is_file(beside) and not merged and beside != lock_path(job):
            shutil.copyfile(beside, folder / beside.name)
