"""The matrix load: exact answers, and every flipped bit seen."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.loads.compute.matrix import MatrixSets
from thresher.loads.exercise import as_words, same_bits, wrong_words
from thresher.loads.plan import Caches, LoadPlan
from thresher.loads.registry import plan_load, shared_bytes
from thresher.model.sheet import WorkingSet


def make_sets(size: int = 24, sets: int = 2) -> MatrixSets:
    plan = LoadPlan("matrix", size, sets)
    made = MatrixSets(plan, memoryview(bytearray(shared_bytes(plan))))
    made.make()
    return made


def test_the_reference_is_the_exact_product_of_whole_numbers() -> None:
    sets = make_sets()
    for index in range(2):
        left = [[int(v) for v in row] for row in sets.left(index)]
        right = [[int(v) for v in row] for row in sets.right(index)]
        exact = [
            [sum(a * b for a, b in zip(row, column, strict=True)) for column in zip(*right, strict=True)]
            for row in left
        ]
        assert sets.reference(index).astype(np.int64).tolist() == exact


def test_a_healthy_reference_is_confirmed() -> None:
    assert make_sets().confirm() == []


@pytest.mark.parametrize("what", ["left", "right", "reference"])
def test_confirming_finds_one_flipped_bit_anywhere(what: str) -> None:
    sets = make_sets()
    getattr(sets, what)(1).reshape(-1).view(np.uint64)[7] ^= np.uint64(1)
    assert sets.confirm() == [1]


def test_sets_beyond_those_confirmed_in_integers_are_confirmed_too() -> None:
    sets = make_sets(8, 6)
    sets.reference(5).reshape(-1).view(np.uint64)[0] ^= np.uint64(1 << 20)
    assert sets.confirm() == [5]


@given(word=st.integers(0, 24 * 24 - 1), bit=st.integers(0, 63))
@settings(max_examples=200)
def test_every_single_bit_is_seen_and_named(word: int, bit: int) -> None:
    expected = np.arange(24.0 * 24).reshape(24, 24)
    found = expected.copy()
    assert same_bits(found, expected)
    found.reshape(-1).view(np.uint64)[word] ^= np.uint64(1 << bit)
    assert not same_bits(found, expected)
    count, (shown,) = wrong_words(as_words(found), as_words(expected))
    assert (count, shown.index, shown.bits) == (1, word, (bit,))
    assert int(shown.expected, 16) ^ int(shown.found, 16) == 1 << bit


def test_only_the_first_wrong_words_are_shown_but_all_are_counted() -> None:
    expected = np.zeros((4, 4))
    count, shown = wrong_words(as_words(np.ones((4, 4))), as_words(expected), most=3)
    assert (count, len(shown)) == (16, 3)


def test_minus_zero_is_not_zero() -> None:
    assert not same_bits(np.array([[-0.0]]), np.array([[0.0]]))


def test_working_sets_fit_where_they_are_to_live() -> None:
    own, shared = 2 << 20, 32 << 20
    core, cache, memory = (
        shared_bytes(plan_load("matrix", place, Caches(own, shared), 1 << 30, compiled=False))
        for place in (WorkingSet.CORE, WorkingSet.SHARED_CACHE, WorkingSet.MAIN_MEMORY)
    )
    assert core < own < cache < shared
    assert memory > 3 * shared


def test_little_memory_gives_a_smaller_set_and_unknown_caches_a_guess() -> None:
    plan = plan_load("matrix", WorkingSet.MAIN_MEMORY, Caches(), 8 << 20, compiled=False)
    assert shared_bytes(plan) <= 8 << 20
    assert plan_load("matrix", WorkingSet.CORE, Caches(), 1 << 30, compiled=False).size >= 96


@pytest.mark.parametrize(("size", "sets"), [(0, 1), (5000, 1), (8, 0)])
def test_sizes_at_which_products_would_not_be_exact_are_refused(size: int, sets: int) -> None:
    with pytest.raises(ValueError, match="size="):
        shared_bytes(LoadPlan("matrix", size, sets))


def test_the_largest_sums_stay_exact() -> None:
    worst = LoadPlan("matrix", 4096, 1).size * (1 << 20) ** 2
    assert worst <= 2**53
