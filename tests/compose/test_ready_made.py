"""Ready-made shapes of a run, from the parts that are picked."""

import pytest

from thresher.compose.details import FIELDS, about
from thresher.compose.ready_made import (
    READY_MADE,
    Pick,
    Wish,
    all_together,
    block_of,
    halves,
    ladder,
    loads_of,
    one_after_another,
    own_sheet,
)
from thresher.compose.sheet_faults import sheet_faults
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, Shape, ShapeKind, WorkingSet

BOTH = Pick((PartKind.PROCESSOR, PartKind.MEMORY))
CORES = tuple(range(8))


def test_the_usual_load_comes_first_and_a_part_without_loads_has_none() -> None:
    assert [loads_of(kind)[0].name for kind in BOTH.kinds] == ["matrix", "memory"]
    assert loads_of(PartKind.COOLING) == ()
    assert block_of(PartKind.COOLING, Wish()) is None


def test_a_wish_that_a_load_cannot_have_gives_its_usual_way() -> None:
    wish = Wish(300, "memory", WorkingSet.CORE, Shape(ShapeKind.PULSE, 1.0, 0.5), share=0.8)
    memory = block_of(PartKind.MEMORY, wish)
    processor = block_of(PartKind.PROCESSOR, wish, pick=Pick((), (1, 2)))
    assert memory is not None
    assert processor is not None
    assert (memory.load, memory.shape, memory.share) == ("memory", Shape(), 0.8)
    assert (processor.load, processor.working_set, processor.shape.kind) == ("matrix", WorkingSet.CORE, ShapeKind.PULSE)
    assert (processor.cores, memory.cores) == ((1, 2), ())


def test_all_together_and_one_after_another() -> None:
    together = all_together(BOTH, Wish(300))
    assert [(item.start_s, item.length_s) for item in together] == [(0, 300), (0, 300)]
    one, gate, two = one_after_another(BOTH, Wish(300))
    assert isinstance(gate, Gate)
    assert gate.kind is GateKind.COOL_DOWN
    assert (one.start_s, gate.start_s, two.start_s) == (0, 300, 420)


def test_halves_of_the_parts_or_of_the_cores() -> None:
    first, _, second = halves(BOTH, Wish(300), CORES)
    assert isinstance(first, Block)
    assert isinstance(second, Block)
    assert (first.row, second.row) == (PartKind.PROCESSOR, PartKind.MEMORY)
    first, _, second = halves(Pick((PartKind.PROCESSOR,)), Wish(300), CORES)
    assert isinstance(first, Block)
    assert isinstance(second, Block)
    assert (first.cores, second.cores) == ((0, 1, 2, 3), (4, 5, 6, 7))
    first, _, second = halves(Pick((PartKind.PROCESSOR,), (2, 5, 6)), Wish(300), CORES)
    assert isinstance(first, Block)
    assert isinstance(second, Block)
    assert (first.cores, second.cores) == ((2, 5), (6,))
    assert second.start_s == 420


def test_a_ladder_asks_before_each_longer_part_and_ends_at_the_first_fault() -> None:
    items = ladder(BOTH, Wish(60))
    assert [item.kind for item in items if isinstance(item, Gate)] == [GateKind.ASK, GateKind.ASK]
    lengths = [item.length_s for item in items if isinstance(item, Block) and item.row is PartKind.MEMORY]
    assert lengths == [1800, 10_800, 28_800]
    assert own_sheet("x", items, True).limits.stop_after_faults == 1


@pytest.mark.parametrize("shape", READY_MADE, ids=lambda shape: shape.title)
@pytest.mark.parametrize("pick", [BOTH, Pick((PartKind.PROCESSOR,), (3,)), Pick((PartKind.MEMORY,))], ids=str)
def test_every_ready_made_run_is_a_valid_sheet(shape: object, pick: Pick) -> None:
    made = next(each for each in READY_MADE if each is shape)
    assert sheet_faults(own_sheet("x", made.make(pick, Wish(300), CORES), made.first_fault_ends)) == ()


def test_checks_are_no_loads_and_are_exchanged_among_themselves() -> None:
    check = Block(PartKind.BATTERY, "battery wear", 0.0, 3.0, is_check=True)
    load = next(field for field in FIELDS if field.name == "load")
    assert load.choices(check) == ("battery wear", "adapter", "battery rate")
    changed = load.write(check, "battery rate")
    assert isinstance(changed, Block)
    assert (changed.load, changed.is_check, changed.length_s) == ("battery rate", True, 125.0)
    core_check = Block(PartKind.PROCESSOR, "cores", 0.0, 55.0, is_check=True)
    shown = [field.name for field in FIELDS if field.has(core_check)]
    assert set(shown) <= {"load", "start", "length"}, shown
    assert about(core_check).startswith("Every core of the processor works out things")
