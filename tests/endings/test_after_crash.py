"""What goes on after a sudden end: what was left, how groups are divided, and when it stops; worked out by hand."""

from dataclasses import replace

import pytest

from thresher.compose.after_crash import (
    Continuation,
    Group,
    Reached,
    after_clean,
    after_end,
    divide,
    next_words,
    what_is_left,
)
from thresher.compose.entry import EntryError
from thresher.compose.sheet_file import parse_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.compose.sheet_words import crash_words, parse_crash
from thresher.endings.compare import compare
from thresher.engine.services.going_on import reached_by
from thresher.model.endings import EndingKind, KindChance, MachineEnding
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import AfterCrash, Block, CrashPlan, Gate, GateKind, RunSheet, WorkingSet

MATRIX = Block(PartKind.PROCESSOR, "matrix", 0.0, 600.0, working_set=WorkingSet.CORE)
MEMORY = Block(PartKind.MEMORY, "memory", 0.0, 600.0, working_set=WorkingSet.MAIN_MEMORY, patterns=("fixed",))
LATER = Block(PartKind.PROCESSOR, "branchy", 720.0, 300.0, working_set=WorkingSet.CORE)
COOL = Gate(GateKind.COOL_DOWN, 600.0, 120.0, 240.0)
SHEET = RunSheet("Night", (MATRIX, LATER), (COOL,), crash=CrashPlan(AfterCrash.GO_ON, most=3))
CORES = (0, 1, 2, 3)


def alike(_group: Group) -> float:
    """No group is more suspect than another."""
    return 0.0


def test_a_block_goes_on_for_what_it_had_left_and_the_rest_follows() -> None:
    left = what_is_left(SHEET, Reached(((MATRIX, 200.0),), (COOL, LATER)))
    assert left is not None
    assert [(each.load, each.start_s, each.length_s) for each in left.blocks] == [
        ("matrix", 0.0, 400.0),
        ("branchy", 520.0, 300.0),
    ]
    assert [(gate.start_s, gate.length_s) for gate in left.gates] == [(400.0, 120.0)]


def test_what_is_left_of_a_sheet_that_repeats_is_done_once_and_then_the_whole() -> None:
    sheet = replace(SHEET, repeat=True)
    reached = Reached(((MATRIX, 100.0),), (COOL, LATER))
    state = after_end(Continuation(sheet, sheet), reached, 100.0, CORES, alike, of_machine=True)
    assert state.next_sheet is not None
    assert not state.next_sheet.repeat
    assert next_words(state).startswith("what is left of ")
    again = after_clean(state, 500.0)
    assert (again.next_sheet, again.given_up, again.ends) == (sheet, "", 1)
    assert next_words(again).startswith("the whole of ")
    nothing_left = after_end(again, Reached((), ()), 600.0, CORES, alike, of_machine=True)
    assert nothing_left.next_sheet == sheet


def test_nothing_left_is_nothing() -> None:
    assert what_is_left(SHEET, Reached((), ())) is None
    assert what_is_left(SHEET, Reached((), (COOL,))) is None


def test_at_least_a_minute_is_done_again_and_a_check_from_its_beginning() -> None:
    check = Block(PartKind.PROCESSOR, "accuracy", 0.0, 45.0, is_check=True)
    left = what_is_left(SHEET, Reached(((MATRIX, 595.0), (check, 40.0)), ()))
    assert left is not None
    assert [each.length_s for each in left.blocks] == [60.0, 45.0]


def test_how_far_a_run_had_come_follows_from_its_steps() -> None:
    # in the order of their start: matrix, the gate, branchy
    reached = reached_by(SHEET, {0: 77.0}, {0})
    assert reached == Reached(((MATRIX, 77.0),), (COOL, LATER))
    assert reached_by(SHEET, {}, {0}) == Reached((), (COOL, LATER))
    assert reached_by(SHEET, {2: 5.0}, {0, 2}) == Reached(((LATER, 5.0),), ())


def test_a_group_is_divided_by_loads_then_devices_then_halves_of_cores() -> None:
    both = divide(Group((MATRIX, MEMORY)), CORES)
    assert [group.words for group in both] == ["matrix", "memory"]
    halves = divide(both[0], CORES)
    assert [group.blocks[0].cores for group in halves] == [(0, 1), (2, 3)]
    assert [group.blocks[0].cores for group in divide(halves[1], CORES)] == [(2,), (3,)]
    assert divide(Group((replace(MATRIX, cores=(3,)),)), CORES) == ()
    drives = Block(PartKind.DRIVE, "read sample", 0.0, 60.0, drives=("sda", "sdb", "nvme0n1"))
    assert [group.blocks[0].drives for group in divide(Group((drives,)), CORES)] == [("sda", "sdb"), ("nvme0n1",)]
    cards = Block(PartKind.GRAPHICS, "raster", 0.0, 60.0, cards=("card0", "card1"))
    assert [group.words for group in divide(Group((cards,)), CORES)] == ["raster on card0", "raster on card1"]


def search(ends_on: int, chance: object = alike) -> tuple[Continuation, int]:
    """Search on a machine that ends whenever a core works, after 40 s; return the state at the end and the runs."""
    sheet = replace(SHEET, blocks=(MATRIX,), gates=(), crash=CrashPlan(AfterCrash.ISOLATE, most=20))
    state = Continuation(sheet, sheet)
    runs = 0
    while not state.given_up:
        runs += 1
        assert state.next_sheet is not None
        (block,) = state.next_sheet.blocks
        if not block.cores or ends_on in block.cores:
            state = after_end(state, Reached(((block, 40.0),), ()), 40.0, CORES, chance, of_machine=True)  # type: ignore[arg-type]
        else:
            state = after_clean(state, block.length_s)
        assert runs < 20
    return state, runs


@pytest.mark.parametrize("core", CORES)
def test_a_search_names_the_core_that_the_machine_ends_on(core: int) -> None:
    state, runs = search(core)
    assert state.isolation is not None
    assert state.isolation.named == f"matrix on core {core}"
    assert runs <= 1 + 2 * 2
    assert {each.ended for each in state.isolation.tried} >= {True}


def test_what_is_most_suspected_is_tried_first() -> None:
    def last_half(group: Group) -> float:
        return float(sum(group.blocks[0].cores))

    _, runs = search(3, last_half)
    assert runs == 3  # the whole, then twice the right half at once


def test_what_no_half_ends_under_needs_all_of_it() -> None:
    sheet = replace(SHEET, blocks=(MATRIX,), gates=(), crash=CrashPlan(AfterCrash.ISOLATE))
    state = after_end(Continuation(sheet, sheet), Reached(((MATRIX, 40.0),), ()), 40.0, CORES, alike, of_machine=True)
    assert state.next_sheet is not None
    assert state.next_sheet.blocks[0].length_s == 180.0  # four times 40 s, and three minutes at least
    assert "cores 0-1" in next_words(state)
    state = after_clean(state, 180.0)
    state = after_clean(state, 180.0)
    assert state.isolation is not None
    assert state.isolation.named == "only all of it together: matrix"


def test_an_end_without_a_load_leaves_nothing_to_divide() -> None:
    sheet = replace(SHEET, crash=CrashPlan(AfterCrash.ISOLATE))
    state = after_end(Continuation(sheet, sheet), Reached((), ()), 0.0, CORES, alike, of_machine=True)
    assert "nothing to divide" in state.given_up


def test_after_so_many_ends_nothing_is_started_any_more() -> None:
    state = Continuation(SHEET, SHEET)
    reached = Reached(((MATRIX, 100.0),), (COOL, LATER))
    for number in (1, 2):
        state = after_end(state, reached, 100.0, CORES, alike, of_machine=True)
        assert (state.ends, state.given_up) == (number, "")
    state = after_end(state, reached, 100.0, CORES, alike, of_machine=True)
    assert state.given_up == "that was end 3 of 3"
    waits = replace(SHEET, crash=CrashPlan())
    assert after_end(Continuation(waits, waits), reached, 1.0, CORES, alike, of_machine=True).given_up


def test_the_file_of_a_sheet_holds_what_happens_after_an_end() -> None:
    text = sheet_text(replace(SHEET, crash=CrashPlan(AfterCrash.ISOLATE, 8, 90.0, watchdog=True)))
    assert parse_sheet(text, "sheet").crash == CrashPlan(AfterCrash.ISOLATE, 8, 90.0, watchdog=True)
    for wrong, place in (("most = 8", "most = 0"), ("between_s = 90.0", "between_s = 5.0")):
        with pytest.raises(InputError, match="after_crash"):
            parse_sheet(text.replace(wrong, place), "sheet")
    with pytest.raises(InputError, match="after_crash"):
        parse_sheet(text.replace('"find the part"', '"explode"'), "sheet")


@pytest.mark.parametrize(
    "text", ["stop and wait", "go on", "find the part", "go on, with watchdog", "find the part, with watchdog"]
)
def test_the_field_says_and_takes_what_happens(text: str) -> None:
    assert crash_words(parse_crash(text)) == text


def test_the_field_leaves_alone_what_its_words_do_not_name() -> None:
    assert parse_crash("go on", CrashPlan(AfterCrash.ISOLATE, 9, 300.0)) == CrashPlan(AfterCrash.GO_ON, 5, 300.0)


def test_the_field_takes_another_number_of_ends() -> None:
    assert parse_crash("Go on, 9 times at most") == CrashPlan(AfterCrash.GO_ON, 9)
    assert crash_words(CrashPlan(AfterCrash.GO_ON, 9)) == "go on, 9 times at most"
    for wrong in ("later", "go on, 0 times at most", "go on, 900 times at most"):
        with pytest.raises(EntryError):
            parse_crash(wrong)


WARM = MachineEnding(
    1,
    EndingKind.RESET,
    (KindChance(EndingKind.RESET, 1.0),),
    (),
    "boot",
    1.0,
    1.0,
    up_s=3600.0,
    run_at=300.0,
    loaded_s=290.0,
    loads=("matrix, inside the core",),
    load_names=("matrix",),
    temperature_c=71.0,
)
"""An end of the machine's own under matrix, warm."""


def of_kind(kind: EndingKind, **changes: object) -> MachineEnding:
    """The same of another kind."""
    return replace(WARM, kind=kind, chances=(KindChance(kind, 1.0),), **changes)  # type: ignore[arg-type]


def test_ends_are_compared_by_load_time_heat_and_age() -> None:
    words = " ".join(compare([WARM, replace(WARM, loaded_s=300.0), replace(WARM, temperature_c=74.0)]))
    assert "always in the same way" in words
    assert "Each time under matrix" in words
    assert "much the same time under load" in words
    assert "much the same processor temperature, 71 to 74" in words
    assert "Only warm" in words


def test_what_differs_is_said_too() -> None:
    words = " ".join(
        compare(
            [
                replace(WARM, up_s=60.0, loaded_s=10.0, weakest_rail="+12V at 11.50 V, limit 11.40 V"),
                of_kind(EndingKind.FREEZE, load_names=("relay",), loaded_s=900.0, temperature_c=50.0),
                replace(WARM, weakest_rail="+12V at 11.46 V, limit 11.40 V"),
            ]
        )
    )
    assert "2 × reset, 1 × freeze" in words
    assert "under another load" in words
    assert "no pattern" in words
    assert "any processor temperature, 50 to 71" in words
    assert "1 of 3 times cold" in words
    assert "+12V 2 times of 3, at last +12V at 11.46 V" in words


def test_one_end_and_innocent_ones_are_not_compared() -> None:
    assert compare([WARM]) == ()
    assert compare([WARM, of_kind(EndingKind.POWER_CUT)]) == ()
