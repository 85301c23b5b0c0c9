"""Where blocks stand, what is under the mouse, and what an edge snaps to."""

from thresher.compose.draft import Draft, put
from thresher.compose.geometry import Grip, Hit, SheetLayout, Snap, areas, hit, sheet_rows, snap
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, WorkingSet

# ten pixels a second, rows of 40 pixels from y = 20
LAYOUT = SheetLayout((PartKind.PROCESSOR, PartKind.MEMORY), 100, 1000, 20, 40, 0, 100)


def made(*items: Block | Gate) -> tuple[Draft, tuple[int, ...]]:
    return put(Draft(), items)


def test_rows_are_those_that_have_loads_and_those_in_use() -> None:
    assert sheet_rows() == (PartKind.PROCESSOR, PartKind.MEMORY, PartKind.GRAPHICS, PartKind.DRIVE)
    assert sheet_rows([PartKind.BATTERY])[-1] is PartKind.BATTERY


def test_time_and_pixels_belong_together() -> None:
    assert LAYOUT.x(25) == 350
    assert LAYOUT.seconds(350) == 25
    assert [LAYOUT.row_at(y) for y in (10, 25, 75, 120)] == [None, PartKind.PROCESSOR, PartKind.MEMORY, None]


def test_a_block_is_held_by_its_body_or_its_edges() -> None:
    draft, (number,) = made(Block(PartKind.PROCESSOR, "matrix", 10, 20))
    assert hit(draft, LAYOUT, 202, 40) == Hit(number, Grip.START)
    assert hit(draft, LAYOUT, 300, 40) == Hit(number, Grip.BODY)
    assert hit(draft, LAYOUT, 398, 40) == Hit(number, Grip.END)
    assert hit(draft, LAYOUT, 430, 40) is None
    assert hit(draft, LAYOUT, 300, 80) is None
    narrow, (small,) = made(Block(PartKind.PROCESSOR, "matrix", 10, 1))
    assert hit(narrow, LAYOUT, 201, 40) == Hit(small, Grip.BODY)


def test_blocks_side_by_side_share_the_row_and_others_have_it_whole() -> None:
    draft, (one, two, alone) = made(
        Block(PartKind.PROCESSOR, "matrix", 0, 20, cores=(0,)),
        Block(PartKind.PROCESSOR, "sieve", 10, 20, cores=(1,)),
        Block(PartKind.PROCESSOR, "matrix", 40, 10),
    )
    found = {placed.number: area for placed, area in areas(draft, LAYOUT)}
    assert found[one].height == found[two].height == found[alone].height / 2
    assert found[two].y == found[one].y + found[one].height
    assert hit(draft, LAYOUT, 250, found[one].y + 3) == Hit(one, Grip.BODY)
    assert hit(draft, LAYOUT, 250, found[two].y + 3) == Hit(two, Grip.BODY)


def test_a_gate_crosses_all_rows_and_a_block_over_it_comes_first() -> None:
    draft, (gate, block) = made(
        Gate(GateKind.SETTLE, 10, 10, 60),
        Block(PartKind.MEMORY, "memory", 15, 10, working_set=WorkingSet.MAIN_MEMORY),
    )
    assert hit(draft, LAYOUT, 250, 30) == Hit(gate, Grip.BODY)
    assert hit(draft, LAYOUT, 280, 75) == Hit(block, Grip.BODY)


def test_edges_snap_to_other_edges_before_round_times() -> None:
    draft, (_, moved) = made(
        Block(PartKind.PROCESSOR, "matrix", 13, 20),
        Block(PartKind.MEMORY, "memory", 50, 10, working_set=WorkingSet.MAIN_MEMORY),
    )
    assert snap(draft, 34, 2.5, (moved,)) == Snap(33, "end of matrix")
    assert snap(draft, 12, 2.5, (moved,)) == Snap(13, "start of matrix")
    assert snap(draft, 1, 2.5, (moved,)) == Snap(0, "the beginning")
    assert snap(draft, 41, 2.5, (moved,)) == Snap(40)
    assert snap(draft, 51, 0.5) == Snap(51)
