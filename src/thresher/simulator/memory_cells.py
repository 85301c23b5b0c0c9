"""Words of a simulated memory: every reading and writing of a faulty word goes through its faults.

Healthy words need no watching. Time passes only when it is set, so that what was written at the same moment decays at
the same moment."""

from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from thresher.model.port import CellFault, CellFaultKind

_COUPLED = (CellFaultKind.COUPLED_INVERTING, CellFaultKind.COUPLED_FORCING, CellFaultKind.COUPLED_STATE)


class SimulatedCells:
    """A stretch of words with faults in it."""

    def __init__(self, words: npt.NDArray[np.uint64], faults: Iterable[CellFault]) -> None:
        """Watch over `words`."""
        self._words = words
        self._faults = tuple(faults)
        self._lines = sum(1 << fault.bit for fault in self._faults if fault.kind is CellFaultKind.ADDRESS_LINE)
        self._now = 0.0
        self._written: dict[int, float] = {}
        self._temperature_c = 40.0

    def watched(self, begin: int, end: int) -> list[tuple[int, int]]:
        """Return the stretches between two places that must go through `read` and `write`, in order."""
        if not self._faults:
            return []
        if self._lines:
            return [(begin, end)]
        places = {fault.word for fault in self._faults}
        places |= {fault.other_word for fault in self._faults if fault.kind in _COUPLED}
        return [(place, place + 1) for place in sorted(places) if begin <= place < end]

    def age(self, seconds: float, temperature_c: float) -> None:
        """Let time pass."""
        self._now += seconds
        self._temperature_c = temperature_c

    def _place(self, place: int) -> int:
        return place & ~self._lines

    def read(self, place: int) -> int:
        """Read a word, with what has become of it."""
        place = self._place(place)
        value = int(self._words[place])
        for fault in self._faults:
            if fault.word != place:
                continue
            if fault.kind is CellFaultKind.RETENTION and self._decayed(fault):
                value = _with_bit(value, fault.bit, fault.value)
                self._words[place] = value
            elif (
                fault.kind is CellFaultKind.COUPLED_STATE and self._other(fault)
            ) or fault.kind is CellFaultKind.STUCK:
                value = _with_bit(value, fault.bit, fault.value)
        return value

    def _other(self, fault: CellFault) -> bool:
        return bool(int(self._words[fault.other_word]) >> fault.other_bit & 1)

    def _decayed(self, fault: CellFault) -> bool:
        lasts = fault.seconds * 2.0 ** ((45.0 - self._temperature_c) / 10.0)
        return bool(self._now - self._written.get(fault.word, self._now) >= lasts)

    def write(self, place: int, value: int) -> None:
        """Write a word, with what that does to it and to others."""
        place = self._place(place)
        before = int(self._words[place])
        for fault in self._faults:
            mask = 1 << fault.bit
            if fault.word == place:
                if fault.kind is CellFaultKind.STUCK:
                    value = _with_bit(value, fault.bit, fault.value)
                elif fault.kind is CellFaultKind.TRANSITION and (before ^ value) & mask:
                    value = _with_bit(value, fault.bit, 1 - fault.value) if bool(value & mask) == fault.value else value
                elif fault.kind is CellFaultKind.COUPLED_WITHIN and (before ^ value) >> fault.other_bit & 1:
                    value = _with_bit(value, fault.bit, 1 - fault.value) if value >> fault.other_bit & 1 else value
                elif fault.kind is CellFaultKind.RETENTION:
                    self._written[place] = self._now
        self._words[place] = value
        self._disturb_others(place, before, value)

    def _disturb_others(self, place: int, before: int, value: int) -> None:
        for fault in self._faults:
            if fault.kind not in _COUPLED or fault.other_word != place:
                continue
            rose = value >> fault.other_bit & 1 and not before >> fault.other_bit & 1
            victim = int(self._words[fault.word])
            if rose and fault.kind is CellFaultKind.COUPLED_INVERTING:
                self._words[fault.word] = victim ^ (1 << fault.bit)
            elif rose and fault.kind is CellFaultKind.COUPLED_FORCING:
                self._words[fault.word] = _with_bit(victim, fault.bit, fault.value)


def _with_bit(value: int, bit: int, content: int) -> int:
    return value | 1 << bit if content else value & ~(1 << bit)
