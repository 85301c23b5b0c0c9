"""Two programs on one job: the second is refused with who has it, and readers do not call the first one's run dead."""

import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.app.stored_verdict import job_verdict
from thresher.cli.app import main
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Tick
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import Inventory
from thresher.model.sheet import RunSheet
from thresher.report.html import render


@pytest.fixture
def open_job(tmp_path: Path, sheet: Callable[[float], RunSheet]) -> JournalWriter:
    """A job with a run in progress, held by this process."""
    writer = JournalWriter(tmp_path / "a.thresher")
    writer.begin_run(1, sheet(60.0), Inventory("bench", True, (), ()), (), "boot", 10.0, 1e9)
    writer.add_tick(1, Tick(21.0, 1e9, (), {}, 0))
    assert writer.settle(10.0)
    return writer


def test_a_second_program_is_refused_by_name_and_changes_nothing(open_job: JournalWriter) -> None:
    with pytest.raises(EnvironmentFault, match=f"process {os.getpid()} of user {os.geteuid()} has it open"):
        JournalWriter(open_job.path)
    run = [sys.executable, "-m", "thresher.cli", "run", "short-round", "--simulate", "ferry-office", "--job"]
    done = subprocess.run([*run, str(open_job.path)], check=False, capture_output=True, text=True, timeout=60)
    assert done.returncode == 2
    assert (
        "has it open. Close it there, wait until it ends, or look at it read only: thresher --look FILE." in done.stderr
    )
    open_job.end_run(1, 22.0, "finished", "")
    assert open_job.close().complete
    with JobFile(open_job.path) as stored:
        assert [run.ending for run in stored.runs()] == ["finished"]


def test_a_reader_says_in_progress_while_it_is_and_interrupted_when_it_was(
    open_job: JournalWriter, capsys: pytest.CaptureFixture[str]
) -> None:
    assert main(["verdict", str(open_job.path)]) == 0
    shown = capsys.readouterr().out
    assert f"Run 1: in progress (process {os.getpid()} of user {os.geteuid()} has the job open)" in shown
    assert "has come to 11 s" in shown
    with JobFile(open_job.path, read_only=True) as stored:
        assert "in progress" in render(stored, job_verdict(stored))
    open_job.close()
    main(["verdict", str(open_job.path)])
    assert "Run 1: interrupted after 11 s, while no load ran." in capsys.readouterr().out


def test_reading_disturbs_no_writer(open_job: JournalWriter) -> None:
    with JobFile(open_job.path, read_only=True) as stored:
        run = stored.runs()[0]
        for second in range(22, 40):
            open_job.add_tick(1, Tick(float(second), 1e9, (), {}, 0))
        assert open_job.settle(10.0)
        assert stored.last_tick_at(run) == 39.0
    assert open_job.close().complete
