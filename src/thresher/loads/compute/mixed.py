"""A mixed working set: several sizes of one load, beat by beat in turn."""

from collections.abc import Callable

from thresher.loads.exercise import Exercise, Words, padded
from thresher.loads.plan import LoadPlan

SizeOf = Callable[[LoadPlan], int]
MakeExercise = Callable[[LoadPlan, memoryview], Exercise]


def mixed_bytes(plan: LoadPlan, size_of: SizeOf) -> int:
    """Return the bytes of all parts together."""
    return sum(padded(size_of(part)) for part in plan.parts)


class Mixed:
    """Several sizes of one load, beat by beat in turn."""

    def __init__(self, plan: LoadPlan, memory: memoryview, size_of: SizeOf, make: MakeExercise) -> None:
        """Lay the parts over `memory` one after the other."""
        self._parts: list[Exercise] = []
        at = 0
        for part in plan.parts:
            size = size_of(part)
            self._parts.append(make(part, memory[at : at + size]))
            at += padded(size)
        self._newest: Exercise = self._parts[0]

    def _part(self, beat: int) -> tuple[Exercise, int]:
        return self._parts[beat % len(self._parts)], beat // len(self._parts)

    def make(self) -> None:
        """Make every part's known answers."""
        for part in self._parts:
            part.make()

    def confirm(self) -> list[int]:
        """Return the disputed sets of all parts, numbered on."""
        return [index * len(self._parts) + at for at, part in enumerate(self._parts) for index in part.confirm()]

    def compute(self, beat: int) -> bool:
        """Do a beat of the part whose turn it is."""
        self._newest, own = self._part(beat)
        return self._newest.compute(own)

    def found(self) -> Words:
        """Return the newest result."""
        return self._newest.found()

    def expected(self, beat: int) -> Words:
        """Return the known answer."""
        part, own = self._part(beat)
        return part.expected(own)

    @property
    def round_off(self) -> float:
        """Return the newest part's round-off."""
        return self._newest.round_off

    @property
    def round_off_margin(self) -> float:
        """Return the newest part's margin."""
        return self._newest.round_off_margin

    def describe(self, word: int) -> str:
        """Say what a word of the newest result is."""
        return self._newest.describe(word)
