"""Misspelt fields, numbers that are none, nesting without end, odd names: errors with their place, and nothing lost."""

import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from thresher.app.stored_verdict import job_verdict
from thresher.cli.app import main
from thresher.compose.sheet_file import load_sheet, parse_sheet
from thresher.importers.csv_log import guess, match_log, read_log
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.errors import InputError
from thresher.model.parts import Inventory, PartKind
from thresher.model.sheet import RunSheet
from thresher.report.html import render
from thresher.simulator.scenario import load_scenario, shipped_scenarios

SHEET = 'format = "thresher-sheet/1"\ntitle = "x"\n{limits}\n[[blocks]]\nrow = "processor"\nload = "matrix"\n{more}\n'


@pytest.mark.parametrize(
    ("limits", "more", "words"),
    [
        ("[limits]\ntemperature = 60", "start = 0\nlength = 10", "limits.temperature: nothing of this name"),
        (
            "",
            "start = 0\nlength = 10\ncoers = [1]",
            "blocks[0].coers: nothing of this name is known; did you mean cores?",
        ),
        (
            "[limits]\ntemperature_c = nan",
            "start = 0\nlength = 10",
            "limits.temperature_c: expected a number, found nan",
        ),
        ("", "start = 0\nlength = inf", "blocks[0].length: expected a number, found inf"),
    ],
)
def test_a_misspelt_or_impossible_field_is_named(limits: str, more: str, words: str) -> None:
    with pytest.raises(InputError) as refused:
        parse_sheet(SHEET.format(limits=limits, more=more), "s.toml")
    assert words in str(refused.value)


def test_a_misspelt_field_deep_in_a_scenario_is_named(tmp_path: Path) -> None:
    text = shipped_scenarios()["lighthouse-playout"].read_text(encoding="utf-8")
    path = tmp_path / "s.toml"
    path.write_text(text.replace("base_mhz", "base_mzh", 1), encoding="utf-8")
    with pytest.raises(InputError, match="did you mean base_mhz"):
        load_scenario(path)


def test_nesting_without_end_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "deep.toml"
    path.write_text('format = "thresher-sheet/1"\nx = ' + "[" * 50_000)
    with pytest.raises(InputError, match=r"deep|TOML"):
        load_sheet(path)


@pytest.mark.parametrize("content", [b"", b"THRS", b"SQLite format 3\0" + bytes(84), bytes(4096)])
def test_what_is_no_job_file_is_refused_and_left_as_it_was(
    tmp_path: Path, content: bytes, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "x.thresher"
    path.write_bytes(content)
    assert main(["verdict", str(path)]) == 2
    assert "bug" not in capsys.readouterr().err
    assert path.read_bytes() == content


def test_rows_of_the_same_second_are_all_kept_whatever_the_file_is_called(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    path = Path(os.fsdecode(os.fsencode(tmp_path) + b"/n\xe4me.csv"))
    path.write_text("time,Socket [°C]\n" + "".join(f"{n // 4},{60 + n}\n" for n in range(12)), encoding="utf-8")
    assert main(["import", str(path)]) == 0
    assert "12 rows" in capsys.readouterr().out
    (job,) = (tmp_path / "data/thresher/jobs").glob("*.thresher")
    with JobFile(job, read_only=True) as stored:
        readings = stored.readings(stored.runs()[0])
    assert readings.values[:, 0].tolist() == [60.0 + n for n in range(12)]
    assert np.all(np.diff(readings.at) > 0)


def test_rows_that_are_years_apart_are_no_log(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_text("Time,Core 0 [C]\n0,55\n1,56\n990000000000,57\n")
    log = read_log(path)
    with pytest.raises(InputError, match="row 4: more than a year after the first row"):
        match_log(log, guess(log))


def test_a_job_that_says_it_took_thirty_thousand_years_is_shown_and_proves_nothing(
    tmp_path: Path, sheet: Callable[[float], RunSheet]
) -> None:
    path = tmp_path / "long.thresher"
    machine = Inventory("bench", True, (), ())
    channels = (Channel("c/1", "Core 0", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/x", (), 0),)
    writer = JournalWriter(path)
    writer.begin_run(1, sheet(60.0), machine, channels, "boot", 10.0, 1e9)
    writer.add_mark(1, 10.0, "block begins", {"index": 0, "title": "m", "load": "matrix", "cpus": [0]})
    writer.add_mark(1, 10.0, "block checks", {"index": 0})
    for at in (11.0, 12.0, 1e12):
        writer.add_tick(1, Tick(at, at, (50.0,), {}, 0))
    writer.close()
    with JobFile(path, read_only=True) as stored:
        (run,) = stored.runs()
        assert sum(each.minutes for each in stored.exposures(run)) <= 2.1
        page = render(stored, job_verdict(stored))
    assert len(page) < 300_000, "a mark a day would be eleven millions of them"
