"""Readings out as JSON Lines and Parquet, and logs from elsewhere in."""

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Heard
from thresher.app.stored_job import stored_history, stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.engine.engine import Engine
from thresher.importers.column_matching import changed_columns, recall, remember
from thresher.importers.csv_log import ColumnMatch, guess, match_log, parse_log, read_log
from thresher.importers.log_job import write_log_job
from thresher.journal.jobfile import JobFile
from thresher.model.channels import Quantity
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet
from thresher.report.html import render
from thresher.report.readings import json_lines, write_parquet
from thresher.report.table import column_titles, readings_csv
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
MakeSheet = Callable[[float], RunSheet]

LOG = """Date,Time,"CPU Package [°C]","Core #3 Clock (MHz)",+12V [V],Vcore (mV),GPU Clock [MHz],CPU Fan [RPM],Noise [dB]
17.03.2026,14:05:00,61,4200,12.10,1180,1480,900,31
17.03.2026,14:05:01,62,4210,11.20,1181,,900,31
17.03.2026,14:05:02,64,4190,11.10,N/A,1490,900,31
17.03.2026,14:05:03,64,4190,11.10,1180,1490,900,32
17.03.2026,14:05:04,64,4190,11.10,1180,1490,900,32
17.03.2026,14:05:05,64,4190,11.10,1180,1490,900,32
"""


@pytest.fixture
def job(make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet, tmp_path: Path) -> Path:
    engine, _ = make_engine(lighthouse)
    engine.run_to_end(sheet(20))
    engine.run_to_end(sheet(5))
    engine.close()
    return tmp_path / "job.thresher"


def test_json_lines_tell_channels_once_a_run_and_then_every_tick(job: Path) -> None:
    with JobFile(job) as stored:
        lines = [json.loads(line) for line in json_lines(stored)]
        runs = stored.runs()
        counts = [len(stored.readings(run).at) for run in runs]
    heads = [line for line in lines if "channels" in line]
    assert [head["run"] for head in heads] == [1, 2]
    assert len(lines) == 2 + sum(counts)
    assert heads[0]["simulated"] is True
    package = next(each for each in heads[0]["channels"] if each["name"] == "Package id 0")
    assert (package["unit"], package["limits"][0]["value"]) == ("°C", 100.0)
    assert all(len(line["values"]) == len(heads[0]["channels"]) for line in lines if "values" in line)


def test_parquet_holds_what_the_csv_holds(job: Path, tmp_path: Path) -> None:
    out = tmp_path / "readings.parquet"
    with JobFile(job) as stored:
        write_parquet(stored, out)
        rows = readings_csv(stored).splitlines()
        titles = column_titles(stored.runs()[0].channels)
        readings = stored.readings(stored.runs()[1])
    table = pq.read_table(out)
    assert table.num_rows == len(rows) - 1
    assert table.column_names == ["time", "run", "run time [s]", *titles]
    assert table.schema.field("+12V [V]").metadata[b"unit"] == b"V"
    column = np.array(table.column("Package id 0 [°C]").to_pylist()[-len(readings.at) :], dtype=np.float32)
    np.testing.assert_array_equal(column, readings.values[:, titles.index("Package id 0 [°C]")])
    with JobFile(job) as stored, pytest.raises(EnvironmentFault, match="writing"):
        write_parquet(stored, tmp_path / "nowhere" / "x.parquet")


def test_columns_are_guessed_from_their_units_and_words() -> None:
    found = {match.title: (match.quantity, match.part, match.factor) for match in guess(parse_log(LOG, "log.csv"))}
    assert found == {
        "CPU Package [°C]": ("temperature", PartKind.PROCESSOR, 1.0),
        "Core #3 Clock (MHz)": ("clock", PartKind.PROCESSOR, 1e-3),
        "+12V [V]": ("voltage", PartKind.POWER, 1.0),
        "Vcore (mV)": ("voltage", PartKind.PROCESSOR, 1e-3),
        "GPU Clock [MHz]": ("frequency", PartKind.GRAPHICS, 1.0),
        "CPU Fan [RPM]": ("fan", PartKind.COOLING, 1.0),
        "Noise [dB]": ("", PartKind.BOARD, 1.0),
    }


def test_a_log_becomes_a_job_that_is_judged_and_shown(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text(LOG, encoding="utf-8")
    log = read_log(tmp_path / "log.csv")
    matched = match_log(log, guess(log))
    assert matched.left_out == ("Noise [dB]",)
    assert [channel.core for channel in matched.channels][1] == 3
    assert matched.values[0, 1] == pytest.approx(4.2)
    assert np.isnan(matched.values[2, 3])
    path = tmp_path / "log.thresher"
    findings = write_log_job(matched, log.name, path)
    assert [finding.code for finding in findings] == ["S-410"], "12 V below its tolerance for more than three seconds"
    with pytest.raises(EnvironmentFault, match="there already"):
        write_log_job(matched, log.name, path)
    with JobFile(path) as stored:
        (run,) = stored.runs()
        assert not run.simulated
        assert stored.findings(run) == findings
        assert "left out: Noise [dB]" in stored.tape(run)[-1].detail + stored.tape(run)[0].detail
        snapshot = stored_snapshot(stored, job_verdict(stored))
        assert snapshot.run.ending == "finished"
        assert len(stored_history(stored).at) == 6
        assert "Rail +12V out of tolerance" in render(stored, job_verdict(stored))


def test_what_was_matched_by_hand_is_remembered_for_the_same_titles(tmp_path: Path) -> None:
    log = parse_log(LOG, "log.csv")
    assert recall(tmp_path, log) is None
    columns = changed_columns(guess(log), ["Vcore (mV)=voltage,board", "CPU Fan [RPM]="])
    remember(tmp_path, log, columns)
    assert recall(tmp_path, log) == columns
    assert recall(tmp_path, parse_log(LOG.replace("Noise", "Sound"), "log.csv")) is None
    assert "CPU Fan [RPM]" in match_log(log, columns).left_out
    with pytest.raises(InputError) as caught:
        changed_columns(columns, ["Vcore (mV)=loudness", "Nothing=voltage", "+12V [V]=voltage,boat", "x"])
    assert len(caught.value.faults) == 4


def test_semicolons_decimal_commas_and_times_over_midnight() -> None:
    text = "Zeit;CPU (°C);GPU, °C\n23:59:59;61,5;40,0\n00:00:00;62,5;41,0\n00:00:01;63,5;\n"
    log = parse_log(text, "nacht.csv")
    assert log.decimal_comma
    matched = match_log(log, guess(log))
    assert np.diff(matched.wall).tolist() == [1.0, 1.0]
    assert matched.values[:, 0].tolist() == [61.5, 62.5, 63.5]


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("nothing here", "line 1"),
        ("a,b\n1,2\n", "titles"),
        ("time,x [V]\n", "rows"),
        ("time,x [V]\nyesterday,1\n", "row 2"),
        ("time,x [V]\n1,hello\n", "row 2, x [V]"),
        ("time,x [V]\n1,1e999\n", "row 2, x [V]"),
        ("time,x [V]\n5,1\n4,1\n", "row 3"),
        ("time,x\n1,1\n", "columns"),
    ],
)
def test_what_is_wrong_in_a_log_is_reported_with_its_place(text: str, place: str) -> None:
    with pytest.raises(InputError) as caught:
        log = parse_log(text, "log.csv")
        match_log(log, guess(log))
    assert caught.value.faults[0].place == place


@given(st.text(max_size=300))
def test_no_text_crashes_the_reader_of_logs(text: str) -> None:
    try:
        log = parse_log(text, "log.csv")
        matched = match_log(log, guess(log))
    except InputError as error:
        assert error.faults
        return
    assert matched.values.shape == (len(log.rows), len(matched.channels))


@given(
    st.lists(
        st.tuples(*[st.one_of(st.just(float("nan")), st.floats(-1e4, 1e4, width=32)) for _ in range(3)]),
        min_size=1,
        max_size=20,
    )
)
def test_a_log_written_here_reads_back(rows: list[tuple[float, float, float]]) -> None:
    lines = ["time,A [°C],B [V],C [rpm]"]
    for number, row in enumerate(rows):
        cells = ["" if value != value else repr(float(value)) for value in row]
        lines.append(f"2026-03-17T14:05:{number:02d}+00:00," + ",".join(cells))
    log = parse_log("\n".join(lines) + "\n", "own.csv")
    matched = match_log(log, guess(log))
    np.testing.assert_allclose(matched.values, np.array(rows, dtype=np.float32), rtol=1e-6)
    assert [channel.quantity for channel in matched.channels] == [
        Quantity.TEMPERATURE,
        Quantity.VOLTAGE,
        Quantity.FAN,
    ]


def test_a_file_that_is_not_there_is_reported(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="No such file"):
        read_log(tmp_path / "none.csv")
    assert ColumnMatch("t", "n").quantity == ""
