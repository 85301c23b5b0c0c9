"""`thresher stick` in text mode: where jobs are, keeping and saving them, and what it says elsewhere."""

from pathlib import Path

import pytest

from tests.conftest import Run
from thresher.app.keeping_jobs import Target
from thresher.stick.boot import StickState, write_state


@pytest.fixture
def on_a_stick(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A stick without a place for jobs, with one job in memory."""
    home = tmp_path / "home"
    jobs = home / "data/thresher/jobs"
    jobs.mkdir(parents=True)
    (jobs / "a.thresher").write_bytes(b"job")
    run = tmp_path / "run"
    run.mkdir()
    write_state(StickState(reason="this stick has no partition for jobs yet", drive="/dev/sdb", room=5), run)
    for name, value in (("RUN", run), ("HOME", home)):
        monkeypatch.setattr(f"thresher.cli.verbs.stick.{name}", value)
    return run


def test_elsewhere_it_says_that_this_is_no_stick(thresher: Run) -> None:
    done = thresher("stick", "status")
    assert done.returncode == 2
    assert "was not started from a stick" in done.stderr


def test_status_ends_with_1_while_jobs_are_in_memory(thresher: Run, on_a_stick: Path) -> None:
    done = thresher("stick", "status")
    assert (done.returncode, done.stdout) == (
        1,
        "1 job, kept in memory only: this stick has no partition for jobs yet\n",
    )
    write_state(StickState(lasting=True, drive="/dev/sdb", built=4e9), on_a_stick)
    done = thresher("stick", "status")
    assert done.returncode == 0
    assert "kept on this stick (/dev/sdb)" in done.stdout
    assert "The clock of this machine is wrong" in done.stdout


def test_jobs_are_kept_only_after_a_yes(thresher: Run, on_a_stick: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    made: list[str] = []
    monkeypatch.setattr("thresher.app.keeping_jobs.keep_on_stick", lambda: made.append("made"))
    assert thresher("stick", "keep", stdin="n\n").returncode == 1
    assert made == []
    assert thresher("stick", "keep", stdin="y\n").returncode == 0
    assert made == ["made"]


def test_saving_lists_places_and_takes_no_drive_of_the_machine(
    thresher: Run, on_a_stick: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = [Target("/dev/sdc1", "vfat", "BENCH", 16_000_000_000)]
    monkeypatch.setattr("thresher.app.keeping_jobs.find_targets", lambda _drive: found)
    monkeypatch.setattr("thresher.app.keeping_jobs.save_to", lambda target, jobs: f"{len(jobs)} to {target.device}")
    assert thresher("stick", "save").stdout == "BENCH, 16.0 GB, vfat, /dev/sdc1\n"
    assert thresher("stick", "save", "sdc1").stdout == "1 to /dev/sdc1\n"
    refused = thresher("stick", "save", "sda1")
    assert refused.returncode == 2
    assert "removable drive" in refused.stderr
