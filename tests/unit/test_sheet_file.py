"""Run sheet files: what is right is taken, what is wrong is reported all at once with its place."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.compose.sheet_file import load_sheet, parse_sheet, parse_time, shipped_sheets, trial_sheet
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.sheet import GateKind, WorkingSet, clock_text

GOOD = """
format = "thresher-sheet/1"
title = "A sheet"

[limits]
temperature_c = 95
stop_after_faults = 3

[[gates]]
kind = "settle"
start = "0:00"
length = "0:30"
at_most = "2:00"

[[blocks]]
row = "processor"
load = "matrix"
start = "10:00"
length = 120
threads = 4
working_set = "main memory"

[[blocks]]
row = "processor"
load = "matrix"
start = "0:30"
length = "1:02:03"
"""


def faults_of(text: str) -> dict[str, str]:
    with pytest.raises(InputError) as caught:
        parse_sheet(text, "a.toml")
    assert str(caught.value).startswith("a.toml cannot be used:")
    return {fault.place: fault.message for fault in caught.value.faults}


def test_a_good_sheet_is_read_with_blocks_in_their_order() -> None:
    text = GOOD.replace('"1:02:03"', '"9:30"')
    sheet = parse_sheet(text, "a.toml")
    assert sheet.title == "A sheet"
    assert [block.start_s for block in sheet.blocks] == [30.0, 600.0]
    second = sheet.blocks[1]
    assert (second.row, second.threads, second.working_set) == (PartKind.PROCESSOR, 4, WorkingSet.MAIN_MEMORY)
    assert second.title == "matrix, main memory"
    assert (sheet.gates[0].kind, sheet.gates[0].at_most_s) == (GateKind.SETTLE, 120.0)
    assert (sheet.limits.temperature_c, sheet.limits.stop_after_faults) == (95, 3)
    assert sheet.length_s == 720.0


def test_all_faults_are_reported_at_once_with_their_places() -> None:
    text = """
format = "thresher-sheet/1"
title = 7
colour = "red"

[limits]
temperature_c = 300

[[gates]]
kind = "settle"
start = "0:00"
length = "1:00"
at_most = "0:30"
within_k = 0
to_c = 300

[[blocks]]
row = "memory"
load = "matrix"
start = "1:75"
length = 0

[[blocks]]
row = "processor"
load = "juggling"
start = "5:00"
length = "1:00"
threads = "many"
shape = "wobbly"
"""
    faults = faults_of(text)
    assert faults["title"].startswith("expected a text")
    assert "nothing of this name" in faults["colour"]
    assert "30 to 130" in faults["limits.temperature_c"]
    assert "shorter than length" in faults["gates[0].at_most"]
    assert "above 0" in faults["gates[0].within_k"]
    assert "-30 to 110" in faults["gates[0].to_c"]
    assert "matrix loads the processor, not the memory" in faults["blocks[0].row"]
    assert "'1:75'" in faults["blocks[0].start"]
    assert "at least 1 second" in faults["blocks[0].length"]
    assert "no load 'juggling'; known are matrix" in faults["blocks[1].load"]
    assert "'many'" in faults["blocks[1].threads"]
    assert "'wobbly'" in faults["blocks[1].shape"]


def test_wrong_types_name_the_entry_and_the_key() -> None:
    faults = faults_of(
        'format="thresher-sheet/1"\ntitle="x"\n[[blocks]]\nrow="lawn"\nload="matrix"\nstart=0\nlength=5\n'
    )
    assert any(place.startswith("blocks[0]") and "row" in place for place in faults)


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("this is = = not toml", "TOML", "at line 1"),
        ('title = "x"', "format", "expected format"),
        ('format = "thresher-sheet/9"', "format", "found 'thresher-sheet/9'"),
        ('format = "thresher-sheet/1"\ntitle = "x"', "blocks", "at least one"),
        ('format = "thresher-sheet/1"\ntitle = "x"\nblocks = 3', "blocks", "array of tables"),
    ],
)
def test_broken_files_say_what_and_where(text: str, place: str, words: str) -> None:
    assert words in faults_of(text)[place]


def test_blocks_of_one_row_may_not_overlap_and_nothing_runs_in_a_gate() -> None:
    faults = faults_of(GOOD + '\n[[gates]]\nkind = "cool down"\nstart = "11:00"\nlength = 30\n')
    assert "overlaps matrix, shared cache" in faults["blocks[0].start"]
    assert "overlaps matrix" in faults["gates[1].start"]


def test_a_file_that_is_not_there_or_not_text_is_reported(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="No such file"):
        load_sheet(tmp_path / "none.toml")
    (tmp_path / "binary.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(InputError, match=r"binary\.toml"):
        load_sheet(tmp_path / "binary.toml")


def test_every_sheet_that_ships_is_sound() -> None:
    sheets = shipped_sheets()
    assert {"reset-hunt-short", "short-round"} <= set(sheets)
    for path in sheets.values():
        assert load_sheet(path).blocks


@given(st.integers(0, 14 * 24 * 3600))
def test_times_read_back_what_is_written(seconds: int) -> None:
    faults: list[InputFault] = []
    assert parse_time(clock_text(seconds), "t", faults) == seconds
    assert parse_time(seconds, "t", faults) == seconds
    assert faults == []


@given(st.one_of(st.text(max_size=20), st.floats(), st.integers()))
def test_no_time_raises(value: str | int | float) -> None:
    faults: list[InputFault] = []
    seconds = parse_time(value, "t", faults)
    assert 0 <= seconds <= 14 * 24 * 3600
    assert len(faults) <= 1


def test_a_trial_s_sheet_has_its_one_load_for_its_minutes() -> None:
    memory = trial_sheet((("memory", 15.0),), 'M-1 "alone"')
    (block,) = memory.blocks
    assert (block.load, block.row, block.length_s) == ("memory", PartKind.MEMORY, 900.0)
    assert block.patterns
    assert memory.title == "M-1 'alone', 15 min of memory"
    assert trial_sheet((("relay", 45.0),), "").blocks[0].row is PartKind.PROCESSOR
    both = trial_sheet((("matrix", 30.0), ("memory", 20.0)), "As it is handed back")
    assert both.title == "As it is handed back, 30 min of matrix, 20 min of memory"
    assert [(each.load, each.start_s, each.length_s) for each in both.blocks] == [
        ("matrix", 0.0, 1800.0),
        ("memory", 1800.0, 1200.0),
    ]
    with pytest.raises(InputError, match="no load 'everyday use'"):
        trial_sheet((("everyday use", 60.0),), "x")
    with pytest.raises(InputError, match="at least one load"):
        trial_sheet((), "x")
