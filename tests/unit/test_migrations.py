"""Files of earlier versions, kept as they were written: job files and shop files open with everything in them."""

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from thresher.app.stored_verdict import job_verdict
from thresher.engine.assembly import open_engine
from thresher.journal.jobfile import JobFile
from thresher.journal.migrations import MIGRATIONS
from thresher.journal.schema import VERSION
from thresher.journal.writer import JournalWriter
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.shop.store import closed_jobs_path, machine_path, read_closed_jobs, read_machine
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

OLD = Path(__file__).parent.parent / "data" / "format-1"


@pytest.fixture
def old_job(tmp_path: Path) -> Path:
    return Path(shutil.copy(OLD / "job.thresher", tmp_path / "job.thresher"))


def version_of(path: Path) -> int:
    with closing(sqlite3.connect(path)) as connection:
        return int(connection.execute("PRAGMA user_version").fetchone()[0])


def check_contents(stored: JobFile) -> None:
    book = stored.book()
    assert book is not None
    first, second = book.trials
    assert len(second.configuration.tags) == len(first.configuration.tags) - 1
    assert second.outcomes[0].kind is FindingKind.CORE_HANG
    assert not any(part.known_good for part in book.parts)
    decisions = stored.decisions()
    assert decisions.locked[0].note == "for the customer"
    assert decisions.actual_cause is not None
    assert decisions.actual_cause.culprits[0].kind is PartKind.PROCESSOR
    (added,) = stored.findings_outside()
    assert (added.kind, added.configuration) == (FindingKind.CORE_HANG, "with the old module")
    assert [run.ending for run in stored.runs()] == ["finished"]


def test_every_format_before_the_present_one_has_a_migration() -> None:
    assert sorted(MIGRATIONS) == list(range(1, VERSION))


def test_a_job_of_format_1_is_migrated_and_a_copy_kept(old_job: Path) -> None:
    assert version_of(old_job) == 1
    with JobFile(old_job) as stored:
        check_contents(stored)
        assert job_verdict(stored).sentence
    assert version_of(old_job) == VERSION
    assert version_of(old_job.with_name("job.thresher.format-1")) == 1


def test_read_only_shows_an_old_job_and_changes_nothing(old_job: Path) -> None:
    before = old_job.read_bytes()
    with JobFile(old_job, read_only=True) as stored:
        check_contents(stored)
    assert old_job.read_bytes() == before
    assert [path.name for path in old_job.parent.iterdir()] == ["job.thresher"]


def test_read_only_opens_what_may_not_be_written(old_job: Path) -> None:
    old_job.chmod(0o400)
    old_job.parent.chmod(0o500)
    try:
        with JobFile(old_job, read_only=True) as stored:
            check_contents(stored)
    finally:
        old_job.parent.chmod(0o700)


def test_a_migration_that_fails_leaves_the_old_file(old_job: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(connection: sqlite3.Connection) -> None:
        connection.execute("DELETE FROM marks")
        raise sqlite3.OperationalError("disk I/O error")

    monkeypatch.setitem(MIGRATIONS, 1, fail)
    with pytest.raises(EnvironmentFault, match="Nothing was changed"):
        JobFile(old_job)
    monkeypatch.undo()
    with JobFile(old_job) as stored:
        check_contents(stored)


def test_an_engine_goes_on_with_an_old_job(old_job: Path, lighthouse: Scenario) -> None:
    engine = open_engine(SimulatedMachine(lighthouse, 0.0), old_job)
    try:
        assert engine.jobs.fields["number"] == "0417"
        assert len(engine.trials.book.trials) == 2
        engine.watch(2)
        assert engine.verdict is not None
    finally:
        engine.close()


def test_shop_files_of_format_1_are_read(tmp_path: Path) -> None:
    closed = closed_jobs_path(tmp_path)
    shutil.copy(OLD / "closed-jobs.json", closed)
    (job,) = read_closed_jobs(tmp_path)
    assert (job.number, job.counted) == ("0417", True)
    assert job.predicted is not None
    assert job.predicted > 0.9
    machine = machine_path(tmp_path, "key")
    machine.parent.mkdir()
    shutil.copy(OLD / "machine.json", machine)
    (trust,) = read_machine(tmp_path, "key").trust
    assert (trust.trusted, trust.reason) == (False, "loose")


def test_two_engines_cannot_have_one_job(tmp_path: Path, ferry: Scenario) -> None:
    job = tmp_path / "job.thresher"
    first = open_engine(SimulatedMachine(ferry, 0.0), job)
    try:
        with pytest.raises(EnvironmentFault, match=r"process \d+ of user \d+ has it open"):
            open_engine(SimulatedMachine(ferry, 0.0), job)
        with JobFile(job, read_only=True) as stored:
            assert stored.runs() == []
    finally:
        first.close()
    open_engine(SimulatedMachine(ferry, 0.0), job).close()


def test_a_job_whose_engine_could_not_open_is_not_left_locked(tmp_path: Path) -> None:
    job = tmp_path / "job.thresher"
    job.write_bytes(b"not a database" * 100)
    for _ in range(2):
        with pytest.raises(Exception, match="not a Thresher job file"):
            JournalWriter(job)
