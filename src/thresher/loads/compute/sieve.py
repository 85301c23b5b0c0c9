"""Primes up to a bound, sieved within a cache: the count is known, and so is every mark.

Counts of primes by sequence A006880 and its tables of the On-Line Encyclopedia of Integer Sequences.
"""

from collections.abc import Callable

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Plain, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.model.sheet import WorkingSet

PRIMES_BELOW = {1_000: 168, 10_000: 1_229, 100_000: 9_592, 1_000_000: 78_498, 10_000_000: 664_579}


def sieve_bytes(plan: LoadPlan) -> int:
    """Return the bytes of the known marks, one an odd number."""
    return padded(plan.size // 2)


class Sieve(Plain):
    """One sieve a beat, of the odd numbers below `size`, a multiple of sixteen with a known count."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the known marks over `memory`, which must hold `sieve_bytes(plan)`."""
        self.plan = plan
        (self._known,) = carve(memory, np.uint8, (plan.size // 2,))
        padded_marks = aligned((padded(plan.size // 2),), np.uint8)
        self._marks = padded_marks[: plan.size // 2]
        self._sieve: Callable[[Array], int] = _by_numpy
        if plan.compiled:
            from thresher.loads.kernels.sifting import sieve_odds

            self._sieve = sieve_odds
        self.count = 0
        """Primes counted in the newest beat."""

    def make(self) -> None:
        """Sieve by NumPy."""
        _by_numpy(self._known)

    def confirm(self) -> list[int]:
        """Compare the count with the published one, and sieve again."""
        again = np.zeros_like(self._known)
        count = _by_numpy(again)
        return [] if count == PRIMES_BELOW[self.plan.size] and same_bits(again, self._known) else [0]

    def compute(self, beat: int) -> bool:
        """Sieve once; compare count and marks."""
        del beat  # every beat is the same sieve
        self.count = int(self._sieve(self._marks))
        return self.count == PRIMES_BELOW[self.plan.size] and same_bits(self._marks, self._known)

    def found(self) -> Words:
        """Return the marks."""
        return as_words(self._marks[: len(self._marks) // 8 * 8])

    def expected(self, beat: int) -> Words:
        """Return the known marks."""
        del beat
        return as_words(self._known[: len(self._known) // 8 * 8])


def _by_numpy(marks: Array) -> int:
    marks[:] = 1
    marks[0] = 0
    number = 3
    while number * number < 2 * len(marks):
        if marks[number >> 1]:
            marks[number * number >> 1 :: number] = 0
        number += 2
    return 1 + int(np.count_nonzero(marks))


def _sized(by: Sizing) -> tuple[int, int]:
    """The bound up to which primes are found."""
    if by.place is WorkingSet.CORE:
        return (1_000_000 if by.own >= 1 << 20 else 100_000), 1
    return 10_000_000, 1


LOAD = exercise_load(
    "sieve",
    LoadWords(
        "reads and writes of single bytes all over a cache",
        "cache cells and their addressing",
        "arithmetic units, main memory, supply and cooling",
    ),
    (WorkingSet.CORE, WorkingSet.SHARED_CACHE),
    _sized,
    ExerciseForm(sieve_bytes, Sieve),
    Stress(0.55),
    Small(1000, 1, lambda plan: plan.size // 16),
    short_beat=False,
    kernels=("thresher.loads.kernels.sifting",),
)
