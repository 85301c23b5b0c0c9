"""A copy of a job file at one moment, also while something writes to it."""

import sqlite3
from contextlib import closing
from pathlib import Path

from thresher.journal.copying import copy_job
from thresher.journal.jobfile import JobFile
from thresher.journal.lock import locked


def test_a_job_is_copied_whole_while_it_is_written(finished_job: Path, tmp_path: Path) -> None:
    job, there = tmp_path / "a.thresher", tmp_path / "there"
    job.write_bytes(finished_job.read_bytes())
    there.mkdir()
    (tmp_path / "a.thresher.blackbox").write_bytes(b"the last minutes")
    with locked(job, "the job file"), closing(sqlite3.connect(job, isolation_level=None)) as writing:
        writing.execute("PRAGMA journal_mode = WAL")
        writing.execute("INSERT INTO job (name, value) VALUES ('note of the test', 'committed')")
        writing.execute("BEGIN IMMEDIATE")
        writing.execute("INSERT INTO job (name, value) VALUES ('another', 'not committed')")
        copy_job(job, there)
        writing.execute("ROLLBACK")
    assert sorted(path.name for path in there.iterdir()) == ["a.thresher", "a.thresher.blackbox"]
    with JobFile(there / "a.thresher", read_only=True) as stored:
        assert stored.job()["note of the test"] == "committed"
        assert "another" not in stored.job()
        assert len(stored.runs()) == 1


def test_a_second_copy_replaces_the_first(finished_job: Path, tmp_path: Path) -> None:
    for _ in range(2):
        copy_job(finished_job, tmp_path)
    with JobFile(tmp_path / finished_job.name, read_only=True) as stored:
        assert stored.runs()


def test_what_is_no_job_any_more_is_copied_as_it_is(tmp_path: Path) -> None:
    job, there = tmp_path / "a.thresher", tmp_path / "there"
    there.mkdir()
    job.write_bytes(b"damaged beyond reading" * 50)
    copy_job(job, there)
    assert (there / "a.thresher").read_bytes() == job.read_bytes()
