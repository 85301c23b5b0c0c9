"""A finished job with a shop of its own, and reports of it."""

import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from tests.heat.conftest import sail_loft
from thresher.app.handing_over import keep_seal, write_handover
from thresher.journal.jobfile import JobFile
from thresher.report.sections import Choice, Reader, usual_choice

__all__ = ["sail_loft"]
MakeReport = Callable[..., Path]


@pytest.fixture
def shop(tmp_path: Path) -> Path:
    return tmp_path / "shop"


@pytest.fixture
def job(finished_job: Path, tmp_path: Path) -> Path:
    return Path(shutil.copy(finished_job, tmp_path / "0417-lighthouse.thresher"))


@pytest.fixture
def report(job: Path, shop: Path, tmp_path: Path) -> MakeReport:
    """Write a sealed report of the job and keep its seal there."""

    def make(name: str = "report.html", choice: Choice | None = None) -> Path:
        out = tmp_path / name
        with JobFile(job, read_only=True) as stored:
            written = write_handover(stored, out, choice or usual_choice(Reader.CUSTOMER), shop)
        assert written is not None
        assert keep_seal(job, written) == ""
        return out

    return make


def change(job: Path, statement: str, *values: object) -> None:
    """Change a job file behind the program's back."""
    with closing(sqlite3.connect(job)) as connection:
        connection.execute(statement, values)
        connection.commit()
