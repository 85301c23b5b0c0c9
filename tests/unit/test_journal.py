"""The job file: what is put in comes out, and what it refuses."""

import sqlite3
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from thresher.journal.jobfile import JobFile, pack_reading
from thresher.journal.schema import APPLICATION_ID, VERSION
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import Finding, FindingKind, Severity, TapeEntry
from thresher.model.parts import Inventory, LogicalCpu, Part, PartKind
from thresher.model.sheet import RunSheet

MACHINE = Inventory("bench", True, (Part("processor", PartKind.PROCESSOR, "Tern"),), (LogicalCpu(0, 0, 0),))
CHANNELS = (
    Channel(
        "c/1", "Core 0", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/x", (Limit(100.0, LimitSide.BELOW, "chip"),), 0
    ),
    Channel("f/1", "Fan", Quantity.FAN, PartKind.COOLING, "/y"),
)
FINDING = Finding(
    "P-104", FindingKind.WRONG_RESULT, Severity.FAULT, PartKind.PROCESSOR, 12.0, "Wrong", "detail", core=0
)


@pytest.fixture
def filled(tmp_path: Path, sheet: Callable[[float], RunSheet]) -> Path:
    path = tmp_path / "a.thresher"
    writer = JournalWriter(path)
    writer.set_job({"number": "0417", "machine": "Playout"})
    writer.begin_run(1, sheet(60.0), MACHINE, CHANNELS, "boot-1", 10.0, 1e9)
    writer.add_mark(1, 11.0, "block begins", {"index": 0, "title": "matrix", "load": "matrix", "cpus": [0]})
    for second in range(5):
        values = (50.0 + second, None if second == 2 else 900.0)
        writer.add_tick(1, Tick(11.0 + second, 1e9 + second, values, {1: "gone"} if second == 2 else {}, late=second))
    writer.add_mark(1, 12.0, "finding", FINDING)
    writer.add_mark(1, 12.0, "tape", TapeEntry(12.0, 2.0, "Wrong", "detail", Severity.FAULT, "P-104"))
    assert writer.settle(5.0)
    assert writer.close().complete
    return path


def test_what_was_put_in_comes_out(filled: Path, sheet: Callable[[float], RunSheet]) -> None:
    with JobFile(filled) as stored:
        (run,) = stored.runs()
        assert stored.job() == {"number": "0417", "machine": "Playout"}
        assert (run.sheet, run.machine, run.channels) == (sheet(60.0), MACHINE, CHANNELS)
        assert (run.boot_id, run.simulated, run.ending) == ("boot-1", True, None)
        readings = stored.readings(run)
        assert readings.at.tolist() == [11.0, 12.0, 13.0, 14.0, 15.0]
        assert readings.values[:, 0].tolist() == [50.0, 51.0, 52.0, 53.0, 54.0]
        assert np.isnan(readings.values[2, 1])
        assert readings.late == 10
        assert stored.findings(run) == [replace(FINDING, run=run.number)]
        assert [entry.title for entry in stored.tape(run)] == ["Wrong"]


def test_time_under_load_is_summed_from_the_rows(filled: Path) -> None:
    with JobFile(filled) as stored:
        exposures = stored.exposures(stored.runs()[0])
    assert sum(exposure.minutes for exposure in exposures) == pytest.approx(4 / 60)
    assert {exposure.temperature_c for exposure in exposures} == {52.5}


def test_a_run_without_an_end_is_interrupted_with_what_ran_and_for_how_long(filled: Path) -> None:
    with JobFile(filled) as stored:
        assert stored.interruption(stored.runs()[0]) == "interrupted after 5 s, while matrix ran"
        (sentence,) = stored.recover()
        assert sentence == "Run 1, Test sheet: interrupted after 5 s, while matrix ran"
        run = stored.runs()[0]
        assert (run.ending, run.ended_at) == ("interrupted", 15.0)
        assert stored.recover() == []


def test_the_file_states_what_it_is_and_is_whole(filled: Path) -> None:
    connection = sqlite3.connect(filled)
    try:
        assert connection.execute("PRAGMA application_id").fetchone() == (APPLICATION_ID,)
        assert connection.execute("PRAGMA user_version").fetchone() == (VERSION,)
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert connection.execute("PRAGMA journal_mode").fetchone() == ("wal",)
    finally:
        connection.close()


def test_a_file_of_a_newer_thresher_is_refused_with_a_sentence(filled: Path) -> None:
    connection = sqlite3.connect(filled)
    connection.execute(f"PRAGMA user_version = {VERSION + 1}")
    connection.close()
    with pytest.raises(InputError, match="newer Thresher"):
        JobFile(filled)


def test_files_of_others_are_left_alone(tmp_path: Path) -> None:
    foreign = tmp_path / "foreign.db"
    connection = sqlite3.connect(foreign)
    connection.execute("CREATE TABLE t (x)")
    connection.commit()
    connection.close()
    before = foreign.read_bytes()
    with pytest.raises(InputError, match="another program"):
        JournalWriter(foreign)
    assert foreign.read_bytes() == before
    text = tmp_path / "text.thresher"
    text.write_text("not a database at all, but longer than a header of one hundred bytes " * 4)
    with pytest.raises(InputError, match="not a Thresher job file"):
        JobFile(text)


def test_a_missing_file_and_a_folder_that_cannot_be_written_are_reported(tmp_path: Path) -> None:
    with pytest.raises(EnvironmentFault, match="no such file"):
        JobFile(tmp_path / "none.thresher")
    with pytest.raises(EnvironmentFault, match="No such file or directory"):
        JournalWriter(tmp_path / "no" / "folder" / "a.thresher")


def test_another_writer_holding_the_file_delays_rows_and_loses_none(tmp_path: Path) -> None:
    path = tmp_path / "held.thresher"
    writer = JournalWriter(path)
    other = sqlite3.connect(path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    for second in range(20):
        writer.add_mark(None, float(second), "note", {"second": second})
    assert not writer.settle(0.3)
    assert writer.health().waiting == 20
    other.execute("COMMIT")
    assert writer.settle(15.0)
    other.close()
    assert writer.close().complete
    connection = sqlite3.connect(path)
    assert connection.execute("SELECT count(*) FROM marks").fetchone() == (20,)
    connection.close()


def test_readings_are_packed_as_four_bytes_a_channel() -> None:
    assert len(pack_reading((1.0, None, 3.0))) == 12
    assert np.isnan(np.frombuffer(pack_reading((None,)), "<f4")[0])
