"""What is typed about a block is understood, shown so that it can be typed again, and refused in words."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.compose.drafts import BLOCKS
from thresher.compose.details import FIELDS, MIXED, about, fields_of, shown_text
from thresher.compose.entry import (
    EntryError,
    cores_text,
    length_text,
    parse_amount,
    parse_cores,
    parse_hold,
    parse_length,
    parse_period,
)
from thresher.compose.ready_made import Wish, block_of, loads_of
from thresher.compose.sheet_words import LIMITS, limits_words, parse_limits
from thresher.loads.registry import LOADS
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, SheetLimits


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("10 min", 600),
        ("10m", 600),
        ("90 s", 90),
        ("1 h 05 min", 3900),
        ("1.5 h", 5400),
        ("0:40", 40),
        ("40:00", 2400),
        ("1:30:00", 5400),
        ("2 d", 172800),
        (" 1 Hour ", 3600),
    ],
)
def test_lengths_are_read_as_they_are_spoken(text: str, seconds: float) -> None:
    assert parse_length(text) == seconds


@pytest.mark.parametrize(
    ("seconds", "text"),
    [(45, "45 s"), (600, "10 min"), (260, "4 min 20 s"), (3900, "1 h 05 min"), (3600, "1 h"), (3605, "1 h 00 min 5 s")],
)
def test_lengths_are_shown_as_they_are_spoken(seconds: float, text: str) -> None:
    assert length_text(seconds) == text


@given(st.integers(1, 14 * 24 * 3600))
def test_a_length_that_is_shown_can_be_typed(seconds: int) -> None:
    assert parse_length(length_text(seconds)) == seconds


@given(st.sets(st.integers(0, 255)))
def test_cores_that_are_shown_can_be_typed(cores: set[int]) -> None:
    assert parse_cores(cores_text(tuple(cores))) == tuple(sorted(cores))


@pytest.mark.parametrize(
    ("text", "found"),
    [("0-3,8", (0, 1, 2, 3, 8)), ("5", (5,)), ("all", ()), ("", ()), ("3, 1 - 2", (1, 2, 3))],
)
def test_cores_are_typed_as_ranges(text: str, found: tuple[int, ...]) -> None:
    assert parse_cores(text) == found


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("80 %", (0.8, None)),
        ("4 GiB", (1.0, 4 << 30)),
        ("4g", (1.0, 4 << 30)),
        ("512 MiB", (1.0, 512 << 20)),
        ("all free", (1.0, None)),
    ],
)
def test_amounts_of_memory_are_typed_in_per_cent_or_bytes(text: str, found: tuple[float, int | None]) -> None:
    assert parse_amount(text) == found


def test_temperatures_and_periods() -> None:
    assert [parse_hold(text) for text in ("80 °C", "hold at 75 °C", "as cooling allows", "")] == [
        80.0,
        75.0,
        None,
        None,
    ]
    assert [parse_period(text) for text in ("20 ms", "0.5 s", "2 s")] == [0.02, 0.5, 2.0]


def test_limits_are_typed_in_any_combination() -> None:
    assert parse_limits("92 °C or 3 faults") == SheetLimits(92.0, 3)
    assert parse_limits("the first fault") == SheetLimits(None, 1)
    for words, limits in LIMITS.items():
        assert parse_limits(words) == limits
        assert limits_words(limits) == words


@given(st.text(max_size=20))
def test_anything_typed_is_understood_or_refused_in_words(text: str) -> None:
    for parse in (parse_length, parse_cores, parse_amount, parse_hold, parse_period, parse_limits):
        try:
            parse(text)
        except EntryError as error:
            assert "expected" in str(error) or "at most" in str(error)


@given(BLOCKS)
def test_every_field_takes_back_what_it_shows(block: Block) -> None:
    for field in fields_of((block,)):
        text = field.read(block)
        assert field.read(field.write(block, text)) == text, field.name


def test_blocks_that_differ_show_what_they_share() -> None:
    one = block_of(PartKind.PROCESSOR, Wish(300.0))
    two = block_of(PartKind.MEMORY, Wish(300.0))
    assert one is not None
    assert two is not None
    shared = {field.name: shown_text(field, (one, two)) for field in fields_of((one, two))}
    assert shared == {"load": MIXED, "start": "0:00:00", "length": "5 min"}


def test_every_load_says_what_it_strains_finds_and_misses() -> None:
    for load in LOADS.values():
        block = block_of(load.row, Wish(load=load.name))
        assert block is not None
        words = about(block, 142.0)
        assert words.startswith("Strains ")
        assert "Finds " in words
        assert "Misses " in words
        assert "package limit is 142 W" in words
    for kind in GateKind:
        assert about(Gate(kind, 0.0, 30.0, 120.0)).startswith("Waits until")


def test_the_choices_of_a_field_are_all_understood() -> None:
    for kind in (PartKind.PROCESSOR, PartKind.MEMORY):
        for load in loads_of(kind):
            block = block_of(kind, Wish(load=load.name))
            assert block is not None
            for field in FIELDS:
                for choice in field.choices(block) if field.has(block) else ():
                    field.write(block, choice)
