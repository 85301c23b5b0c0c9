"""A copy of a job file at one moment, also while something writes to it."""

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

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


def test_a_copy_that_has_no_room_is_an_error_and_no_torn_file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    job, target = tmp_path / "job.thresher", tmp_path / "there"
    target.mkdir()
    with sqlite3.connect(job) as made:
        made.execute("create table rows (text)")
        made.execute("insert into rows values (zeroblob(200000))")
    made.close()
    connect = sqlite3.connect

    def small(place: Path | str, timeout: float = 5.0, uri: bool = False) -> sqlite3.Connection:
        """Connect, with room for 8 pages in the copy."""
        opened: sqlite3.Connection = connect(place, timeout=timeout, uri=uri)
        if not uri:
            opened.execute("pragma max_page_count = 8")
        return opened

    monkeypatch.setattr("thresher.journal.copying.sqlite3.connect", small)
    with pytest.raises(OSError, match="no room for a copy"):
        copy_job(job, target)
    assert list(target.iterdir()) == []
