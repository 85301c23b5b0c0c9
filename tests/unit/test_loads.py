"""Every load: known answers that are right, confirmed by other means, and every disturbance noticed."""

from functools import partial
from itertools import pairwise

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.loads.compute.integer import BOUND, INCREMENT, MULTIPLIER, STEP
from thresher.loads.compute.matrix import RegisterTiles
from thresher.loads.compute.precision import ROWS, ULPS, Rounding, row_of
from thresher.loads.compute.sieve import PRIMES_BELOW, Sieve
from thresher.loads.compute.solve import Systems
from thresher.loads.compute.transform import ROUND_OFF_MARGIN, SERIES, Squarings, bits_for
from thresher.loads.exercise import Exercise
from thresher.loads.plan import Caches, LoadPlan
from thresher.loads.registry import LOADS, make_exercise, plan_load, shared_bytes
from thresher.model.sheet import Precision, WorkingSet

SMALL = {
    "matrix": LoadPlan("matrix", 64, 2),
    "matrix, single": LoadPlan("matrix", 64, 2, precision=Precision.SINGLE),
    "solve": LoadPlan("solve", 40, 2),
    "transform": LoadPlan("transform", 1 << 10, 2),
    "integer": LoadPlan("integer", 64, 3),
    "branchy": LoadPlan("branchy", 512, 2),
    "sieve": LoadPlan("sieve", 10_000, 1),
    "precision": LoadPlan("precision", 1, 1),
}
FORMS = [(name, compiled) for name in SMALL for compiled in (False, True)]


def made(plan: LoadPlan) -> tuple[Exercise, npt.NDArray[np.uint8]]:
    memory = np.zeros(shared_bytes(plan) + 64, np.uint8)
    exercise = make_exercise(plan, memoryview(memory))  # type: ignore[arg-type]
    exercise.make()
    return exercise, memory


def small(name: str, compiled: bool) -> LoadPlan:
    plan = SMALL[name]
    size = 64 if name.startswith("matrix") and compiled else plan.size
    sets = 1 if name.startswith("matrix") and compiled else plan.sets
    return LoadPlan(plan.load, size, sets, precision=plan.precision, compiled=compiled)


@pytest.mark.parametrize(("name", "compiled"), FORMS)
def test_known_answers_are_confirmed_and_every_beat_gives_them(name: str, compiled: bool) -> None:
    exercise, _ = made(small(name, compiled))
    assert exercise.confirm() == []
    for beat in range(2 * SERIES + 1):
        assert exercise.compute(beat)
        assert np.array_equal(exercise.found(), exercise.expected(beat))


@pytest.mark.parametrize(("name", "compiled"), FORMS)
def test_a_bit_turned_in_what_workers_share_is_noticed_by_confirming(name: str, compiled: bool) -> None:
    exercise, memory = made(small(name, compiled))
    # somewhere in the middle of operands or known answers, in a byte that is not padding
    places = np.flatnonzero(memory)
    memory[places[len(places) // 2]] ^= 4
    assert exercise.confirm() != []


@pytest.mark.parametrize(("name", "compiled"), FORMS)
def test_a_wrong_known_answer_makes_the_beat_a_mismatch(name: str, compiled: bool) -> None:
    exercise, memory = made(small(name, compiled))
    places = np.flatnonzero(memory)
    memory[places[-1 - len(places) // 50]] ^= 16
    wrong = [beat for beat in range(2 * SERIES) if not exercise.compute(beat)]
    assert wrong, "a known answer was changed and no beat differed"


def test_the_same_plan_gives_the_same_answers_in_both_forms() -> None:
    """Compiled and NumPy forms of a load agree where their operands are the same."""
    for name in ("sieve", "precision"):
        one, _ = made(small(name, compiled=False))
        other, _ = made(small(name, compiled=True))
        one.compute(0)
        other.compute(0)
        assert np.array_equal(one.expected(0), other.expected(0)), name


def test_chains_are_what_the_book_states() -> None:
    exercise, memory = made(LoadPlan("integer", 64, 1))
    words = memory[: 64 * 8].view(np.uint64)
    start, s = int(words[5]), int(words[5])
    for _ in range(100):
        s = (s * MULTIPLIER + INCREMENT) % 2**64
        s ^= s >> 29
        s = (s << 23 | s >> 41) % 2**64
        s = (s + STEP) % 2**64 if s < BOUND else s
    assert s != start
    assert int(exercise.expected(0)[5]) == s


def test_counts_of_primes_are_the_published_ones() -> None:
    for bound in (1_000, 10_000, 100_000):
        for compiled in (False, True):
            exercise, _ = made(LoadPlan("sieve", bound, 1, compiled=compiled))
            assert isinstance(exercise, Sieve)
            assert exercise.compute(0)
            assert exercise.count == PRIMES_BELOW[bound]


def test_a_squaring_is_that_of_whole_numbers() -> None:
    """Two digits by hand: the transform's digits, put together, are the square modulo 2**(bits n) + 1."""
    plan = LoadPlan("transform", 64, 1)
    exercise, memory = made(plan)
    bits = bits_for(64)
    digits = memory[: (SERIES + 1) * 64 * 4].view(np.int32).reshape(SERIES + 1, 64)
    values = [sum(int(digit) << bits * place for place, digit in enumerate(row)) for row in digits]
    modulus = (1 << bits * 64) + 1
    for before, after in pairwise(values):
        assert before * before % modulus == after % modulus
    assert exercise.compute(0)
    assert 0 < exercise.round_off < ROUND_OFF_MARGIN / 2


def test_round_off_is_far_from_its_margin_at_every_size_that_is_used() -> None:
    for size in (1 << 13, 1 << 15, 1 << 17):
        exercise, _ = made(LoadPlan("transform", size, 1, compiled=True))
        worst = 0.0
        for beat in range(SERIES):
            exercise.compute(beat)
            worst = max(worst, exercise.round_off)
        assert 0.005 < worst < 0.08, (size, worst)


def test_a_residual_beyond_its_bound_is_a_mismatch_even_when_bits_agree() -> None:
    exercise, memory = made(LoadPlan("solve", 40, 1))
    assert isinstance(exercise, Systems)
    assert exercise.compute(0)
    assert exercise.worst_residual < 0.1
    right_at = 40 * 40 * 8
    right = memory[right_at : right_at + 8].view(np.float64)
    right[0] *= 2.0
    assert not exercise.compute(0)
    # the wrong solution taken as known still leaves a residual: of the system as it was drawn
    assert exercise.confirm() == [0]


def test_elementary_functions_lie_within_the_bound_and_rows_are_named() -> None:
    exercise, _ = made(LoadPlan("precision", 1, 1))
    assert isinstance(exercise, Rounding)
    assert 0 < exercise.largest_error() < ULPS
    assert row_of(0) == "add"
    assert row_of(3 * 1024 + 5) == "divide"
    assert len(ROWS) == 14


def flipped_share(exercise: Exercise, operands: list[npt.NDArray[np.generic]], tries: int) -> float:
    """Turn one random bit of an operand or of the result each time and count how often the beat shows it."""
    rng = np.random.default_rng(11)
    known = exercise.expected(0).copy()
    caught = 0
    for turn in range(tries):
        which = turn % (len(operands) + 1)
        if which == len(operands):
            exercise.compute(0)
            found = exercise.found()
            found[rng.integers(len(found))] ^= np.uint64(1) << np.uint64(rng.integers(64))
            caught += not np.array_equal(found, known)
            continue
        array = operands[which].reshape(-1)
        words = array.view(np.uint8)
        place, mask = int(rng.integers(len(words))), np.uint8(1 << int(rng.integers(8)))
        words[place] ^= mask
        # wrong by the beat's own comparison, or by one with what stood there before
        caught += not exercise.compute(0) or not np.array_equal(exercise.found(), known)
        words[place] ^= mask
    return caught / tries


@pytest.mark.parametrize("precision", list(Precision))
def test_one_flipped_bit_is_caught_by_matrix_in_97_of_100(precision: Precision) -> None:
    exercise, _ = made(LoadPlan("matrix", 16, 1, precision=precision, compiled=True))
    assert isinstance(exercise, RegisterTiles)
    assert flipped_share(exercise, [exercise.tiles, exercise.matrices], 1500) >= 0.97


@pytest.mark.parametrize("precision", list(Precision))
def test_a_multiplier_that_errs_in_the_same_way_there_and_back_is_caught(precision: Precision) -> None:
    """The same wrong factor with either sign brings every tile back; only the turning points show it."""
    exercise, _ = made(LoadPlan("matrix", 16, 1, precision=precision, compiled=True))
    assert isinstance(exercise, RegisterTiles)
    for number in range(0, 128, 9):
        factor = exercise.matrices[number, 0, 1, 2]
        for sign, place in ((1, 0), (-1, 1)):
            exercise.matrices[number, place, 1, 2] = sign * (factor + 1)
        assert not exercise.compute(0)
        found, expected = exercise.found().reshape(16, 19, -1), exercise.expected(0).reshape(16, 19, -1)
        assert np.array_equal(found[:, :18], expected[:, :18])
        assert not np.array_equal(found[:, 18], expected[:, 18])
        exercise.matrices[number, :, 1, 2] = factor, -factor
    assert exercise.compute(0)


@pytest.mark.parametrize("digits", [1 << 13, 1 << 15])
def test_one_flipped_bit_is_caught_by_transform_in_65_of_100(digits: int) -> None:
    """A bit of the spectrum is turned on its way: about a fourth rounds away and does no harm."""
    exercise, _ = made(LoadPlan("transform", digits, 1, compiled=True))
    assert isinstance(exercise, Squarings)
    rng = np.random.default_rng(12)
    caught, tries = 0, 400
    for _ in range(tries):
        place, bit = int(rng.integers(digits)), int(rng.integers(64))
        with exercise.disturbed(partial(_turn, place, bit)):
            caught += not exercise.compute(0)
    assert exercise.compute(0)
    assert caught / tries >= 0.65


def _turn(place: int, bit: int, words: npt.NDArray[np.uint64]) -> None:
    words[place] ^= np.uint64(1) << np.uint64(bit)


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from([name for name in LOADS if name not in ("relay", "memory")]),
    st.sampled_from(list(WorkingSet)),
    st.integers(1 << 16, 1 << 23),
    st.integers(1 << 20, 1 << 28),
    st.integers(1 << 16, 1 << 34),
    st.booleans(),
)
def test_plans_stay_within_what_is_free(
    load: str, place: WorkingSet, own: int, shared: int, free: int, compiled: bool
) -> None:
    if place is not WorkingSet.MIXED and place not in LOADS[load].working_sets:
        return
    plan = plan_load(load, place, Caches(own, shared), free, compiled)
    most = max(free, 80 << 20) if place is not WorkingSet.MIXED else 3 * max(free, 80 << 20)
    assert shared_bytes(plan) <= most


def test_a_mixed_working_set_walks_through_its_sizes() -> None:
    plan = plan_load("matrix", WorkingSet.MIXED, Caches(1 << 20, 4 << 20), 1 << 24, compiled=False)
    assert [part.working_set for part in plan.parts] == [
        WorkingSet.CORE,
        WorkingSet.SHARED_CACHE,
        WorkingSet.MAIN_MEMORY,
    ]
    exercise, _ = made(plan)
    assert exercise.confirm() == []
    assert all(exercise.compute(beat) for beat in range(6))
    sizes = {len(exercise.expected(beat)) for beat in range(3)}
    assert len(sizes) == 2


def test_every_load_states_what_it_strains_and_finds() -> None:
    for kind in LOADS.values():
        assert len(kind.strains) > 20
        assert len(kind.finds) > 20
        assert kind.working_sets
