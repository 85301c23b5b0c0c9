"""What is wrong with a sheet is said with the block that it is about."""

from dataclasses import replace

from thresher.compose.sheet_faults import Bench, SheetFault, sheet_faults
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, RunSheet, Shape, ShapeKind, SheetLimits, WorkingSet

GIB = 1 << 30
BENCH = Bench(frozenset(range(8)), 16, 24 * GIB, {"relay": "one core only"})
GOOD = Block(PartKind.PROCESSOR, "matrix", 0, 60)
MEMORY = Block(PartKind.MEMORY, "memory", 0, 60, working_set=WorkingSet.MAIN_MEMORY, patterns=("march",))


def faults(*blocks: Block, gates: tuple[Gate, ...] = ()) -> tuple[SheetFault, ...]:
    return sheet_faults(RunSheet("x", blocks, gates), BENCH)


def test_a_good_sheet_has_none() -> None:
    assert faults(GOOD, replace(MEMORY, amount=4 * GIB)) == ()


def test_what_is_beyond_the_machine_is_named() -> None:
    (core,) = faults(GOOD, replace(GOOD, start_s=60, cores=(3, 12)))
    assert (core.block, core.field) == (1, "cores")
    assert "no core 12; it has 0-7" in core.message
    (amount,) = faults(replace(MEMORY, amount=40 * GIB))
    assert "24.0 GiB of memory, not 40" in amount.message
    (threads,) = faults(replace(GOOD, threads=17))
    assert "16 threads, not 17" in threads.message
    (load,) = faults(replace(GOOD, load="relay", working_set=WorkingSet.SHARED_CACHE))
    assert "relay cannot run on this machine: one core only" in load.message


def test_lengths_of_nothing_and_of_weeks_are_refused() -> None:
    assert [(each.block, each.field) for each in faults(replace(GOOD, length_s=0.0))] == [(0, "length")]
    assert [(each.block, each.field) for each in faults(replace(GOOD, length_s=400 * 3600.0))] == [(0, "length")]


def test_blocks_of_one_row_share_only_with_cores_of_their_own() -> None:
    (clash,) = faults(replace(GOOD, cores=(0, 1)), replace(GOOD, start_s=30, cores=(1, 2)))
    assert clash.block == 1
    assert "overlaps matrix" in clash.message
    assert "different cores" in clash.message
    assert faults(replace(GOOD, cores=(0, 1)), replace(GOOD, start_s=30, cores=(2, 3))) == ()
    assert faults(GOOD, MEMORY) == ()
    (long_one,) = faults(replace(GOOD, length_s=300), replace(MEMORY, start_s=10), replace(GOOD, start_s=100))
    assert long_one.block == 2


def test_nothing_runs_in_a_gate_and_the_gate_is_named() -> None:
    (fault,) = faults(GOOD, gates=(Gate(GateKind.SETTLE, 30, 10, 60),))
    assert (fault.gate, fault.block) == (0, None)


def test_shapes_and_limits_and_an_empty_sheet() -> None:
    (pulse,) = faults(replace(GOOD, shape=Shape(ShapeKind.PULSE, 0.001, 0.5)))
    assert (pulse.block, pulse.field) == (0, "period")
    (limit,) = sheet_faults(RunSheet("x", (GOOD,), (), SheetLimits(temperature_c=900)), BENCH)
    assert limit.block is None
    assert "30 to 130" in limit.message
    (empty,) = faults()
    assert "at least one" in empty.message
