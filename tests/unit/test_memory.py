"""The memory load: every pattern finds the faults that it is documented to find, on real words, in its first pass."""

from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.loads.memory.pages import PAGE, Region
from thresher.loads.memory.walk import (
    SIMULATED_CHUNK,
    SIMULATED_WORDS,
    Eviction,
    MemoryWalk,
    WrongCells,
    largest_cache_bytes,
)
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import make_exercise, shared_bytes
from thresher.loads.team.messages import Mismatch
from thresher.loads.team.status_table import StatusTable
from thresher.loads.warm_up import notices
from thresher.loads.worker.worker import SocketReporter
from thresher.model.findings import WordNature
from thresher.model.memory_patterns import LONG, PATTERNS, SHORT, StepKind, steps_of, value_at
from thresher.model.port import CellFault, CellFaultKind
from thresher.simulator.memory_cells import SimulatedCells

K = CellFaultKind
FAULTS: dict[str, tuple[CellFault, ...]] = {
    "stuck": tuple(CellFault(K.STUCK, 1234, 19, value) for value in (0, 1)),
    "transition": tuple(CellFault(K.TRANSITION, 700, 33, value) for value in (0, 1)),
    "coupled, inverting": tuple(
        CellFault(K.COUPLED_INVERTING, victim, 7, other_word=other, other_bit=7)
        for victim, other in ((900, 903), (903, 900), (2100, 100), (100, 2100))
    ),
    "coupled, forcing": tuple(
        CellFault(K.COUPLED_FORCING, victim, 50, value, other, 50)
        for victim, other in ((900, 903), (903, 900), (2100, 100))
        for value in (0, 1)
    ),
    "coupled, state": tuple(
        CellFault(K.COUPLED_STATE, victim, 3, value, other, 3)
        for victim, other in ((900, 903), (903, 900), (3000, 200))
        for value in (0, 1)
    ),
    "coupled within a word": tuple(CellFault(K.COUPLED_WITHIN, 55, 9, value, 55, 40) for value in (0, 1)),
    "address line": tuple(CellFault(K.ADDRESS_LINE, 0, line) for line in (3, 5, 9)),
    "retention": (CellFault(K.RETENTION, 77, 12, 0, seconds=20.0), CellFault(K.RETENTION, 77, 12, 1, seconds=20.0)),
}
"""For every kind of fault several, since which side a neighbour lies on matters."""


class Stretch:
    def __init__(self) -> None:
        self.words = np.zeros(SIMULATED_WORDS, np.uint64)
        self.address = int(self.words.ctypes.data)

    def physical(self, word: int) -> int | None:
        return 0x1_0000_0000 + word * 8


def one_pass(
    patterns: tuple[str, ...],
    faults: tuple[CellFault, ...],
    compiled: bool = False,
    memory_c: float = 45.0,
    most: int = 1 << 30,
) -> list[WrongCells]:
    """Walk once through patterns, or until so much is found; a beat takes a tenth of a second of the machine's time."""
    stretch, clock = Stretch(), [0.0]
    found: list[WrongCells] = []
    cells = SimulatedCells(stretch.words, faults)
    plan = LoadPlan("memory", 1, 1, compiled=compiled, patterns=patterns, wait_s=30.0)
    walk = MemoryWalk(plan, stretch, 4096, cells, lambda: clock[0])
    while not walk.passes and len(found) < most:
        clock[0] += 0.1
        cells.age(0.1, memory_c)
        if (wrong := walk.do_beat()) is not None:
            found.append(wrong)
    return found


@pytest.mark.parametrize("pattern", LONG)
def test_healthy_memory_is_never_accused(pattern: str) -> None:
    assert one_pass((pattern,), ()) == []


PROMISES = [(pattern, kind) for pattern in PATTERNS for kind in PATTERNS[pattern].finds]


@pytest.mark.parametrize(("pattern", "kind"), PROMISES)
def test_a_pattern_finds_in_its_first_pass_what_it_is_documented_to_find(pattern: str, kind: str) -> None:
    for fault in FAULTS[kind]:
        found = one_pass((pattern,), (fault,))
        assert found, f"{pattern} walked over {fault} and saw nothing"
        if fault.kind is not K.ADDRESS_LINE:
            places = {(cell.virtual, bit) for wrong in found for cell in wrong.shown for bit in cell.bits}
            assert {bit for _, bit in places} == {fault.bit}


def test_the_table_in_the_docs_is_what_the_patterns_do() -> None:
    """`docs/memory-patterns.md` says for each pattern and fault whether the first pass finds all, some or none."""
    lines = ["| pattern | " + " | ".join(FAULTS) + " |", "|---|" + "---|" * len(FAULTS)]
    for pattern in PATTERNS:
        cells = []
        for kind, faults in FAULTS.items():
            if (pattern, kind) in PROMISES:  # held to it by the test above
                cells.append("all")
                continue
            seen = [bool(one_pass((pattern,), (fault,), most=1)) for fault in faults]
            cells.append("all" if all(seen) else "some" if any(seen) else "–")
        lines.append(f"| {pattern} | " + " | ".join(cells) + " |")
    text = (Path(__file__).parents[2] / "docs" / "memory-patterns.md").read_text(encoding="utf-8")
    assert "\n".join(lines) in text, "\n".join(lines)


def test_the_short_form_finds_every_kind_but_slow_ones_and_those_inside_a_word() -> None:
    for kind, faults in FAULTS.items():
        if kind not in ("retention", "coupled within a word"):
            assert all(one_pass(SHORT, (fault,), most=1) for fault in faults), kind


def test_heat_makes_cells_forget_sooner() -> None:
    fault = CellFault(K.RETENTION, 77, 12, 0, seconds=100.0)
    assert one_pass(("retention",), (fault,), memory_c=45.0) == []
    assert one_pass(("retention",), (fault,), memory_c=75.0)


def test_a_stuck_cell_is_reported_with_address_bit_and_steady_readings() -> None:
    (first, *_) = one_pass(("fixed",), (CellFault(K.STUCK, 1234, 19, 1),))
    (cell,) = first.shown
    assert (cell.physical, cell.bits, cell.nature) == (0x1_0000_0000 + 1234 * 8, (19,), WordNature.STUCK)
    assert (cell.expected, cell.found) == ("0" * 16, f"{1 << 19:016x}")
    assert len(cell.again) == 3


def test_what_a_bus_spoils_once_is_right_when_read_again() -> None:
    stretch = Stretch()
    walk = MemoryWalk(LoadPlan("memory", 1, 1, patterns=("fixed",)), stretch, 0, SimulatedCells(stretch.words, ()))

    def spoil(words: np.ndarray[tuple[int], np.dtype[np.uint64]]) -> None:
        words[5] ^= np.uint64(1 << 40)

    for _ in range(SIMULATED_WORDS // SIMULATED_CHUNK):
        assert walk.do_beat() is None
    wrong = walk.do_beat(spoil)
    assert wrong is not None
    (cell,) = wrong.shown
    assert (cell.bits, cell.nature) == ((40,), WordNature.ON_THE_WAY)
    assert int(stretch.words[5]) == 0


@pytest.mark.parametrize("compiled", [False, True])
@pytest.mark.parametrize("name", ["march", "address", "random", "checkerboard"])
def test_kernels_write_and_expect_what_the_definition_states(name: str, compiled: bool) -> None:
    stretch = Stretch()
    plan = LoadPlan("memory", 1, 1, compiled=compiled, patterns=(name,))
    walk = MemoryWalk(plan, stretch, 640)
    first = steps_of(name, plan.seed)[0]
    walk.do_beat()
    assert [int(word) for word in stretch.words] == [value_at(first, 640 + n) for n in range(len(stretch.words))]
    stretch.words[100] ^= np.uint64(1 << 63)
    wrong = walk.do_beat()
    assert wrong is not None
    assert [cell.bits for cell in wrong.shown] == [(63,)]
    assert wrong.shown[0].physical == 0x1_0000_0000 + 800
    while not walk.passes:
        assert walk.do_beat() is None


def test_marches_go_truly_downwards() -> None:
    """A fault that only a march from above can see: the victim lies below and is spoilt after it was read upwards."""
    fault = CellFault(K.COUPLED_FORCING, 900, 50, 1, 903, 50)
    found = one_pass(("march",), (fault,))
    assert any("downwards" in wrong.step or "check, " in wrong.step or "upwards" in wrong.step for wrong in found)
    kinds = [step.kind for step in steps_of("march")]
    assert kinds == [
        StepKind.FILL,
        StepKind.TURN_UP,
        StepKind.TURN_UP,
        StepKind.TURN_DOWN,
        StepKind.TURN_DOWN,
        StepKind.CHECK,
    ]
    assert [step.turned for step in steps_of("march")] == [False, False, True, False, True, False]


@settings(max_examples=40, deadline=None)
@given(st.sampled_from(LONG), st.integers(0, SIMULATED_WORDS - 1), st.integers(0, 63), st.integers(0, 1))
def test_a_stuck_cell_anywhere_is_found_by_every_pattern(pattern: str, word: int, bit: int, value: int) -> None:
    found = one_pass((pattern,), (CellFault(K.STUCK, word, bit, value),))
    assert {cell.physical for wrong in found for cell in wrong.shown} == {0x1_0000_0000 + word * 8}
    assert {bit for wrong in found for cell in wrong.shown for bit in cell.bits} == {bit}


def test_a_region_is_real_memory_with_addresses_for_root() -> None:
    region = Region(8 * PAGE + 100)
    assert region.taken.size == 8 * PAGE
    assert len(region.words) * 8 == 8 * PAGE
    region.words[:] = 7
    assert int(region.words[-1]) == 7
    if region.taken.has_frames:
        assert region.frames is not None
        address = region.physical(PAGE // 8 + 3)
        assert address is not None
        assert address % PAGE == 24
    else:
        assert region.physical(3) is None
    region.release()
    assert len(region.words) == 0


def test_seeds_make_every_pass_another_and_the_same_seed_the_same() -> None:
    one, other = steps_of("random", 1)[0], steps_of("random", 2)[0]
    assert value_at(one, 17) != value_at(other, 17)
    assert value_at(one, 17) == value_at(steps_of("random", 1)[0], 17)


@pytest.mark.parametrize("compiled", [False, True])
@pytest.mark.parametrize("pattern", ["fixed", "march", "random", "address"])
def test_a_flipped_word_is_no_stuck_cell_in_any_step(pattern: str, compiled: bool) -> None:
    stretch = Stretch()
    walk = MemoryWalk(LoadPlan("memory", 1, 1, compiled=compiled, patterns=(pattern,)), stretch)
    kinds, number = set(), 0
    while not walk.passes:
        if number:  # something has been written by now
            stretch.words[321] ^= np.uint64(1 << 33)
        number += 1
        wrong = walk.do_beat()
        if wrong is not None:
            (cell,) = wrong.shown
            assert cell.bits == (33,)
            kinds.add(cell.nature)
    assert kinds
    assert WordNature.STUCK not in kinds
    assert WordNature.ON_THE_WAY not in kinds


def test_pushing_a_line_out_reads_real_memory_of_twice_the_caches() -> None:
    def resident() -> int:
        return int(Path("/proc/self/statm").read_text().split()[1]) * PAGE

    evict = Eviction()
    before = resident()
    evict(0)
    assert evict.words is not None
    assert evict.words.nbytes >= min(256 << 20, max(32 << 20, 2 * largest_cache_bytes()))
    assert resident() - before > 0.9 * evict.words.nbytes, "every page is its own, not one page of zeros"


def test_a_kernel_that_never_reports_a_difference_fails_the_check_before_use() -> None:
    plan = LoadPlan("matrix", 32, 1)
    memory = memoryview(bytearray(shared_bytes(plan) + 64))
    exercise = make_exercise(plan, memory)
    exercise.make()
    exercise.confirm()
    assert notices(exercise, memory, 0)

    class Blind:
        def __getattr__(self, name: str) -> object:
            return getattr(exercise, name)

        def compute(self, beat: int) -> bool:
            exercise.compute(beat)
            return True

    assert not notices(Blind(), memory, 0)  # type: ignore[arg-type]


class Wire:
    """Stands for the socket to the engine and keeps what was sent."""

    def __init__(self) -> None:
        self.sent: list[bytes] = []

    def send(self, packet: bytes) -> None:
        self.sent.append(packet)


def test_a_storm_of_mismatches_is_limited_and_every_one_is_counted() -> None:
    wire, status = Wire(), StatusTable(bytearray(StatusTable.size(1)), 1)  # type: ignore[arg-type]
    reporter = SocketReporter(wire, status, 0)  # type: ignore[arg-type]
    for beat in range(5000):
        if count := reporter.count_to_report():
            reporter.send(Mismatch(beat, 1, 8, (), 0, 0, count))
    reporter.report_rest()
    counts = [msgspec.json.decode(packet)["count"] for packet in wire.sent]
    assert sum(counts) == 5000
    assert len(counts) < 100
