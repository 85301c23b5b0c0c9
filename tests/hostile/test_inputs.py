"""Misspelt fields, numbers that are none, nesting without end, odd names: errors with their place, and nothing lost."""

import os
from pathlib import Path

import numpy as np
import pytest

from thresher.cli.app import main
from thresher.engine.run.sheet_file import load_sheet, parse_sheet
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
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
