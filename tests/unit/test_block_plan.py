"""What workers are to do on this machine now, and what they need for it."""

from dataclasses import replace
from pathlib import Path

import pytest

from thresher.compose.sheet_file import parse_sheet
from thresher.diagnosis.knowledge import load_knowledge
from thresher.engine.run.block_plan import plan_block
from thresher.inventory.machine import read_inventory
from thresher.loads.check_loads import CHECK_LOADS
from thresher.loads.drive_loads import DRIVE_LOADS
from thresher.loads.memory.free import free_memory
from thresher.loads.memory.walk import CHUNK_WORDS
from thresher.loads.plan import FreeMemory
from thresher.loads.registry import LOADS, SHEET_LOADS
from thresher.machine.tree import TreeSystem
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.memory_patterns import LONG, SHORT
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Precision, Shape, ShapeKind, WorkingSet
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

GIB = 1 << 30
MEMORY = Block(PartKind.MEMORY, "memory", 0.0, 60.0, working_set=WorkingSet.MAIN_MEMORY, patterns=SHORT)


def machine(root: Path, total_gib: float, available_gib: float) -> TreeSystem:
    (root / "proc").mkdir(exist_ok=True)
    text = f"MemTotal: {int(total_gib * (1 << 20))} kB\nMemAvailable: {int(available_gib * (1 << 20))} kB\n"
    (root / "proc/meminfo").write_text(text)
    return TreeSystem(root)


def each_of(root: Path, block: Block, total: float, available: float, workers: int) -> int:
    system = machine(root, total, available)
    return plan_block(block, system, read_inventory(system), workers, compiled=False).bytes_each


def test_a_reserve_stays_for_the_running_system(tmp_path: Path) -> None:
    each = each_of(tmp_path, MEMORY, 24, 23, 2)
    assert 21.0 * GIB < 2 * each < 23 * GIB - 0.06 * 24 * GIB
    assert each % (CHUNK_WORDS * 8) == 0


def test_a_share_or_an_amount_is_what_is_taken_but_never_more_than_there_is(tmp_path: Path) -> None:
    half = each_of(tmp_path, replace(MEMORY, share=0.5), 24, 23, 2)
    whole = each_of(tmp_path, MEMORY, 24, 23, 2)
    assert half == pytest.approx(whole / 2, rel=0.01)
    assert each_of(tmp_path, replace(MEMORY, amount=4 * GIB), 24, 23, 2) == 2 * GIB
    assert each_of(tmp_path, replace(MEMORY, amount=400 * GIB), 24, 23, 2) == whole


def test_too_little_memory_is_reported_with_what_is_kept(tmp_path: Path) -> None:
    with pytest.raises(EnvironmentFault, match="MiB are kept for the running system"):
        each_of(tmp_path, MEMORY, 2, 0.5, 4)


def test_a_kernel_that_reports_no_memory_is_reported(tmp_path: Path) -> None:
    (tmp_path / "proc").mkdir()
    (tmp_path / "proc/meminfo").write_text("MemTotal: many kB\n")
    system = TreeSystem(tmp_path)
    assert free_memory(system) == FreeMemory(None, None)
    with pytest.raises(EnvironmentFault, match="does not report how much memory is free"):
        plan_block(MEMORY, system, read_inventory(system), 1, compiled=False)


@pytest.mark.parametrize("load", [name for name in LOADS if name != "memory"])
def test_every_load_has_a_plan_on_a_simulated_machine_and_words_to_spoil(load: str) -> None:
    model = SimulatedMachine(load_scenario(shipped_scenarios()["ferry-office"]), 0.0)
    plan = plan_block(Block(PartKind.PROCESSOR, load, 0.0, 60.0), model, read_inventory(model), 2, compiled=True)
    assert not plan.compiled
    assert LOADS[load].words_in_beat(plan) >= 1


def test_every_way_of_being_faulty_knows_every_load() -> None:
    of_drives = {load.name for load in DRIVE_LOADS.values()}
    # a check counts only for the ways of being faulty that name it
    everywhere = set(SHEET_LOADS) - set(CHECK_LOADS) - of_drives
    for mode in load_knowledge().modes:
        if mode.checked:  # no load shows it
            assert mode.loads
            assert set(mode.loads) <= set(CHECK_LOADS), mode.name
            continue
        assert set(mode.loads) - set(CHECK_LOADS) in (everywhere, everywhere | of_drives), mode.name


# ---- what a sheet may ask for

HEAD = 'format = "thresher-sheet/1"\ntitle = "x"\n[[blocks]]\nstart = 0\nlength = 60\n'


def block(text: str) -> Block:
    return parse_sheet(HEAD + text, "test").blocks[0]


def faults(text: str) -> dict[str, str]:
    with pytest.raises(InputError) as caught:
        parse_sheet(HEAD + text, "test")
    return {fault.place: fault.message for fault in caught.value.faults}


PROCESSOR = 'row = "processor"\nload = "matrix"\n'


def test_shapes_are_read_with_their_times() -> None:
    inside = PROCESSOR + 'working_set = "inside the core"\n'
    assert block(inside + 'shape = "pulse"\nperiod = 0.02\nduty = 0.25').shape == Shape(ShapeKind.PULSE, 0.02, 0.25)
    assert block(inside + 'shape = "hop"\nperiod = "0:10"').shape == Shape(ShapeKind.HOP, 10.0, 0.5)
    assert block(inside + 'shape = "ramp"\nperiod = 60').shape == Shape(ShapeKind.RAMP, 60.0, 1.0)
    assert block(PROCESSOR).shape == Shape()


def test_short_pulses_need_a_load_of_short_beats_inside_the_core() -> None:
    slow = 'row = "processor"\nload = "solve"\nworking_set = "inside the core"\nshape = "pulse"\nperiod = 0.05'
    assert "matrix, integer, branchy or precision" in faults(slow)["blocks[0].period"]
    far = PROCESSOR + 'working_set = "main memory"\nshape = "pulse"\nperiod = 0.05'
    assert "inside the core" in faults(far)["blocks[0].period"]


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        (PROCESSOR + 'shape = "pulse"\nperiod = 0.001', "period", "expected 0.02 to 60"),
        (PROCESSOR + 'shape = "pulse"\nperiod = 1\nduty = 2', "duty", "0.02 to 1"),
        (PROCESSOR + "period = 1", "period", "a steady load has none"),
        (PROCESSOR + "hold_c = 20", "hold_c", "40 to 110"),
        (PROCESSOR + "cores = [1]\nthreads = 2", "cores", "no number of threads beside them"),
        ('row = "processor"\nload = "relay"\nshape = "hop"\nperiod = 1', "shape", "relay is steady"),
        ('row = "processor"\nload = "sieve"\nworking_set = "main memory"', "working_set", "shared cache"),
        ('row = "processor"\nload = "solve"\nprecision = "single"', "precision", "solve offers double"),
        ('row = "memory"\nload = "memory"\namount = "lots"', "amount", '"80 %" or "4 GiB"'),
        ('row = "memory"\nload = "memory"\namount = "120 %"', "amount", "found '120 %'"),
        ('row = "memory"\nload = "memory"\npatterns = "sideways"', "patterns", "short, long, beside"),
        ('row = "memory"\nload = "memory"\npatterns = ["march", "jig"]', "patterns", "found jig"),
    ],
)
def test_what_a_load_does_not_offer_is_refused_by_name(text: str, place: str, words: str) -> None:
    assert words in faults(text)[f"blocks[0].{place}"]


def test_memory_blocks_are_read_whole() -> None:
    read = block('row = "memory"\nload = "memory"\namount = "40 %"\npatterns = "long"\nwait = "2:00"')
    assert (read.share, read.amount, read.patterns, read.wait_s) == (0.4, None, LONG, 120.0)
    assert block('row = "memory"\nload = "memory"\namount = "1.5 GiB"').amount == 3 << 29
    assert block('row = "memory"\nload = "memory"\npatterns = ["march"]').title == "memory, march"


def test_titles_say_what_is_unusual() -> None:
    single = PROCESSOR + 'precision = "single"\nworking_set = "mixed"\nshape = "stagger"\nperiod = 2'
    read = block(single)
    assert read.precision is Precision.SINGLE
    assert read.title == "matrix, mixed, single, stagger 2 s"
