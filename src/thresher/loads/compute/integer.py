"""Long dependent chains of whole-number arithmetic with known ends, in vectors and in scalar registers."""

from collections.abc import Callable

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Plain, Words, aligned, carve, padded, same_bits
from thresher.loads.load import ALL_PLACES, ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.model.sheet import WorkingSet

MULTIPLIER, INCREMENT = 0x9E6C63D0876A9A47, 0xD1B54A32D192ED03
BOUND, STEP = 0x5555555555555555, 0x8CB92BA72F3D8DD7
"""One link: multiply, add, shift, rotate, compare; written out in `compiled/chains.py` too."""

SCALARS = 6
_WORD = (1 << 64) - 1
_LINKS_OF_VECTORS = 1_200
_LINKS_OF_SCALARS = 120_000
_LINKS_BY_NUMPY = 100


def integer_bytes(plan: LoadPlan) -> int:
    """Return the bytes of starts and known ends."""
    return 2 * padded(plan.sets * plan.size * 8) + 2 * padded(plan.sets * 8 * 8)


class Chains(Plain):
    """Windows of chains, one window a beat: `size` chains by the vector and six scalar ones."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the windows over `memory`, which must hold `integer_bytes(plan)`."""
        self.plan = plan
        window, single = (plan.sets, plan.size), (plan.sets, 8)
        self._begin, self._known, self._begin_single, self._known_single = carve(
            memory, np.uint64, window, window, single, single
        )
        self._result = aligned((plan.size + 8,), np.uint64)
        self._run: Callable[[Array, int], None] = _run_by_numpy
        self._run_single: Callable[[Array, int], None] = _run_by_integers
        deep = plan.sets == 1
        self._links = self._links_single = _LINKS_BY_NUMPY if deep else _LINKS_BY_NUMPY // 5
        if plan.compiled:
            from thresher.loads.kernels.chains import run_scalar_chains, run_vector_chains

            self._run, self._run_single = run_vector_chains, run_scalar_chains
            # a core's own window is walked deep, many windows only touched, so that their data have to travel
            self._links = _LINKS_OF_VECTORS if deep else 60
            self._links_single = _LINKS_OF_SCALARS if deep else 4_000

    @property
    def links(self) -> tuple[int, int]:
        """Links of a beat: of each chain in vectors, of each scalar one."""
        return self._links, self._links_single

    def expected_window(self, index: int) -> Words:
        """Return the known ends of a window's chains in vectors, as they lie in shared memory."""
        return np.asarray(self._known[index])

    def make(self) -> None:
        """Draw the starts and run every chain to its end."""
        rng = np.random.default_rng(self.plan.seed)
        self._begin[:] = rng.integers(0, 1 << 64, self._begin.shape, np.uint64)
        self._begin_single[:, :SCALARS] = rng.integers(0, 1 << 64, (self.plan.sets, SCALARS), np.uint64)
        self._known[:], self._known_single[:] = self._begin, self._begin_single
        for index in range(self.plan.sets):
            self._run(self._known[index], self._links)
            self._run_single(self._known_single[index], self._links_single)

    def confirm(self) -> list[int]:
        """Run the chains again, some of them in Python's own integers; return the sets that do not agree."""
        rng = np.random.default_rng(self.plan.seed)
        begin = rng.integers(0, 1 << 64, self._begin.shape, np.uint64)
        begin_single = rng.integers(0, 1 << 64, (self.plan.sets, SCALARS), np.uint64)
        drawn = np.array_equal(begin, self._begin) and np.array_equal(begin_single, self._begin_single[:, :SCALARS])
        disputed = []
        for index in range(self.plan.sets):
            again, single = begin[index].copy(), self._begin_single[index].copy()
            self._run(again, self._links)
            self._run_single(single, self._links_single)
            same = same_bits(again, self._known[index]) and same_bits(single, self._known_single[index])
            by_hand = index >= 4 or _ended(int(begin[index, index]), self._links) == int(self._known[index, index])
            if not (drawn and same and by_hand):
                disputed.append(index)
        return disputed

    def compute(self, beat: int) -> bool:
        """Run one window and compare the ends."""
        index = beat % self.plan.sets
        chains, single = self._result[: self.plan.size], self._result[self.plan.size :]
        chains[:], single[:] = self._begin[index], self._begin_single[index]
        self._run(chains, self._links)
        self._run_single(single, self._links_single)
        return same_bits(chains, self._known[index]) and same_bits(single, self._known_single[index])

    def found(self) -> Words:
        """Return the newest ends: vectors, then scalars."""
        return self._result

    def expected(self, beat: int) -> Words:
        """Return the known ends."""
        index = beat % self.plan.sets
        return np.concatenate((self._known[index], self._known_single[index]))


def _link(s: int) -> int:
    s = (s * MULTIPLIER + INCREMENT) & _WORD
    s ^= s >> 29
    s = ((s << 23) | (s >> 41)) & _WORD
    return (s + STEP) & _WORD if s < BOUND else s


def _ended(start: int, links: int) -> int:
    for _ in range(links):
        start = _link(start)
    return start


def _run_by_integers(state: Array, links: int) -> None:
    for n in range(SCALARS):
        state[n] = _ended(int(state[n]), links)


def _run_by_numpy(state: Array, links: int) -> None:
    multiplier, increment, step, bound = (np.uint64(each) for each in (MULTIPLIER, INCREMENT, STEP, BOUND))
    s = state.copy()
    for _ in range(links):
        s *= multiplier
        s += increment
        s ^= s >> np.uint64(29)
        s = (s << np.uint64(23)) | (s >> np.uint64(41))
        s += np.where(s < bound, step, np.uint64(0))
    state[:] = s


_SET_BYTES = 2 * 2048 * 8 + 2 * 8 * 8
"""Starts and known ends of one set: a window of vectors, and the scalars beside it."""


def _sized(by: Sizing) -> tuple[int, int]:
    """Chains by the window of 2048: one for a core, else as many as fill the place, with their known ends."""
    return 2048, 1 if by.place is WorkingSet.CORE else max(1, min(4096, by.wanted // _SET_BYTES))


LOAD = exercise_load(
    "integer",
    LoadWords(
        "whole-number units in long chains where each step needs the one before",
        "cores that fail in whole-number arithmetic while their vector units are sound",
        "vector units, and supply and cooling at full power",
    ),
    ALL_PLACES,
    _sized,
    ExerciseForm(integer_bytes, Chains),
    Stress(0.7, 0.1),
    Small(64, 2, lambda plan: plan.size + SCALARS),
    kernels=("thresher.loads.kernels.chains",),
    vectors=lambda plan: plan.compiled,
)
