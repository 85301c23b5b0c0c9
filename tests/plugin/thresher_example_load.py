"""A load from outside the source tree: counts up and compares."""

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Plain, Words, aligned, as_words, same_bits
from thresher.loads.load import ExerciseForm
from thresher.loads.plan import LoadPlan
from thresher.model.sheet import WorkingSet


class Counting(Plain):
    """Sums of whole numbers, known by Gauss's formula."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Nothing is shared."""
        del memory
        self._size = plan.size
        self._found = aligned((8,), np.uint64)

    def make(self) -> None:
        """The formula needs no preparation."""

    def confirm(self) -> list[int]:
        """The formula is its own confirmation."""
        return []

    def compute(self, beat: int) -> bool:
        """Add up and compare."""
        self._found[:] = np.arange(self._size + beat % 7, dtype=np.uint64).sum()
        return same_bits(self._found, self.expected(beat))

    def found(self) -> Words:
        """Return the newest sums."""
        return as_words(self._found)

    def expected(self, beat: int) -> Words:
        """Return n(n - 1) / 2 for n numbers from 0."""
        n = self._size + beat % 7
        known = aligned((8,), np.uint64)
        known[:] = n * (n - 1) // 2
        return as_words(known)


LOAD = exercise_load(
    "counting",
    LoadWords("addition", "adders that add wrongly"),
    (WorkingSet.CORE,),
    lambda _by: (1000, 1),
    ExerciseForm(lambda _plan: 64, Counting),
    Stress(0.3),
    Small(100, 1, lambda _plan: 8),
)
