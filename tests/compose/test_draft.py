"""Editing a sheet: each edit does what its name says, nothing gets out of bounds, everything can be undone."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.compose.drafts import BLOCKS, EDITS, Edit, carried_out
from thresher.compose.draft import (
    Draft,
    History,
    copies,
    draft_of,
    move,
    paste,
    put,
    put_gate,
    remove,
    split,
    stretch_end,
    stretch_start,
)
from thresher.compose.sheet_faults import sheet_faults
from thresher.compose.sheet_file import load_sheet, parse_sheet, shipped_sheets
from thresher.compose.sheet_text import sheet_text
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, WorkingSet


def block(start: float, length: float, row: PartKind = PartKind.PROCESSOR) -> Block:
    if row is PartKind.MEMORY:
        return Block(row, "memory", start, length, working_set=WorkingSet.MAIN_MEMORY, patterns=("march",))
    return Block(row, "matrix", start, length)


def spans(draft: Draft) -> list[tuple[float, float]]:
    return [(each.start_s, each.end_s) for each in draft.items]


def test_blocks_move_together_and_stop_at_the_beginning() -> None:
    draft, numbers = put(Draft(), (block(60, 30), block(100, 20, PartKind.MEMORY)))
    assert spans(move(draft, numbers, 15)) == [(75, 105), (115, 135)]
    assert spans(move(draft, numbers, -500)) == [(0, 30), (40, 60)]
    assert spans(move(draft, numbers[1:], -90)) == [(10, 30), (60, 90)]
    assert move(draft, numbers, 1e9).length_s <= 14 * 24 * 3600


def test_an_end_is_stretched_and_a_beginning_keeps_the_end() -> None:
    draft, (number,) = put(Draft(), (block(60, 30),))
    assert spans(stretch_end(draft, number, 200)) == [(60, 200)]
    assert spans(stretch_end(draft, number, 10)) == [(60, 61)]
    assert spans(stretch_start(draft, number, 20)) == [(20, 90)]
    assert spans(stretch_start(draft, number, 500)) == [(89, 90)]
    assert spans(stretch_start(draft, number, -5)) == [(0, 90)]


def test_a_block_is_split_where_both_parts_last_a_second() -> None:
    draft, (number,) = put(Draft(), (block(60, 30),))
    new, both = split(draft, number, 70)
    assert spans(new) == [(60, 70), (70, 90)]
    assert both[0] == number
    assert split(draft, number, 60.5) == (draft, (number,))
    assert split(draft, number, 95) == (draft, (number,))


def test_copies_stand_behind_as_a_group_and_pasted_ones_where_they_are_wanted() -> None:
    draft, numbers = put(Draft(), (block(60, 30), block(100, 20, PartKind.MEMORY)))
    new, added = copies(draft, numbers, 2)
    assert len(added) == 4
    assert spans(new) == [(60, 90), (100, 120), (120, 150), (160, 180), (180, 210), (220, 240)]
    items = tuple(each.item for each in draft.chosen(numbers))
    assert spans(paste(draft, items, 300)[0])[2:] == [(300, 330), (340, 360)]
    assert spans(remove(new, added)) == spans(draft)


def test_a_gate_cuts_what_runs_there_and_moves_what_follows() -> None:
    draft, _ = put(Draft(), (block(0, 100), block(120, 20, PartKind.MEMORY)))
    new, (gate,) = put_gate(draft, GateKind.COOL_DOWN, 60)
    placed = new.placed(gate)
    assert placed is not None
    assert isinstance(placed.item, Gate)
    assert spans(new) == [(0, 60), (60, 180), (180, 220), (240, 260)]
    assert not sheet_faults(new.sheet())


@pytest.mark.parametrize("name", sorted(shipped_sheets()))
def test_a_shipped_sheet_is_the_same_after_editing_and_as_a_file(name: str) -> None:
    sheet = load_sheet(shipped_sheets()[name])
    draft = draft_of(sheet)
    assert draft.sheet() == sheet
    assert parse_sheet(sheet_text(sheet), name) == sheet
    assert sheet_faults(sheet) == ()


@given(st.lists(BLOCKS, min_size=1, max_size=4))
def test_any_sheet_reads_back_as_it_was_written(blocks: list[Block]) -> None:
    sheet = put(Draft(), blocks)[0].sheet()
    try:
        again = parse_sheet(sheet_text(sheet), "x")
    except InputError:
        assert sheet_faults(sheet)
        return
    for one, other in zip(sheet.blocks, again.blocks, strict=True):
        assert other.load == one.load
        assert (other.start_s, other.length_s, other.cores) == (one.start_s, one.length_s, one.cores)
        assert (other.working_set, other.shape, other.hold_c) == (one.working_set, one.shape, one.hold_c)
        assert other.amount == one.amount
        assert other.share == (pytest.approx(one.share, rel=1e-4) if one.amount is None else 1.0)
        assert other.patterns == one.patterns


@settings(max_examples=120)
@given(st.lists(EDITS, max_size=14))
def test_any_edits_give_a_valid_sheet_or_one_that_says_why_and_are_undone_exactly(edits: list[Edit]) -> None:
    history = carried_out(edits)
    last = history.now
    faults = sheet_faults(last.sheet())
    try:
        parse_sheet(sheet_text(last.sheet()), "x")
        assert faults == ()
    except InputError:
        assert all(fault.message for fault in faults)
        assert faults
    assert all(each.start_s >= 0 and each.item.length_s >= 1 for each in last.items)
    assert len({each.number for each in last.items}) == len(last.items)
    starts = [each.start_s for each in last.items]
    assert starts == sorted(starts)
    states = [history]
    while states[-1].past:
        states.append(states[-1].undo())
    assert states[-1].now == Draft()
    for later in reversed(states[:-1]):
        states.append(states[-1].redo())
        assert states[-1].now == later.now
    assert states[-1].now == last


def test_a_new_edit_forgets_what_was_undone_and_nothing_is_no_edit() -> None:
    one = put(Draft(), (block(0, 10),))[0]
    history = History(Draft()).then(one)
    assert history.then(one) == history
    other = put(Draft(), (block(5, 10),))[0]
    assert history.undo().then(other).undone == ()
    assert history.redo() == history
    assert History(Draft()).undo() == History(Draft())
