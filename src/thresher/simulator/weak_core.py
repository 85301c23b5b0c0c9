"""A core that computes wrongly when hot: some slips are corrected and logged, some reach the result."""

from dataclasses import dataclass, field

import numpy as np

from thresher.model.port import BitFlip

_CORRECTED_SHARE = 0.72
_FAVOURED_BIT = 46
_MOST_EXPONENT = 50.0
_MOST_A_MINUTE = 10_000.0
"""A core that slips more often than that starts no operating system."""

# VAL, EN, ADDRV, MISCV, corrected error count 1, compound code cache hierarchy: data read, level 1
CORRECTED_STATUS = (1 << 63) | (1 << 60) | (1 << 59) | (1 << 58) | (1 << 38) | 0x0135
CORRECTED_BANK = 1


@dataclass(slots=True)
class WeakCore:
    """Slips come at random, more often the hotter the core, and hardly at all below 74 °C."""

    core: int
    strength: float
    rng: np.random.Generator
    wrong_pending: int = 0
    corrected: list[int] = field(default_factory=list)

    def step(self, die_c: float, busy: float, margin_v: float, dt_s: float) -> None:
        """Draw the slips of one slice. `margin_v` is voltage above the usual for the clock."""
        threshold = float(np.clip((die_c - 74.0) / 8.0, 0.0, 1.0))
        likelier = np.exp(min((die_c - 90.0) / 9.0 - margin_v / 0.015, _MOST_EXPONENT))
        a_minute = min(self.strength * busy * threshold * likelier, _MOST_A_MINUTE)
        for _ in range(int(self.rng.poisson(a_minute * dt_s / 60.0))):
            if self.rng.random() < _CORRECTED_SHARE:
                self.corrected.append(int(self.rng.integers(0x1000, 0x7FFFFF)) << 6)
            else:
                self.wrong_pending += 1

    def take_corrected(self) -> list[int]:
        """Return the addresses of the slips that were corrected since the last call."""
        addresses, self.corrected = self.corrected, []
        return addresses

    def take_flips(self, beats: int, words: int) -> list[BitFlip]:
        """Turn the slips that reached a result into flipped bits, mostly in one bit lane."""
        flips = []
        for _ in range(self.wrong_pending if beats else 0):
            bit = _FAVOURED_BIT if self.rng.random() < 0.8 else int(self.rng.integers(0, 64))
            flips.append(BitFlip(int(self.rng.integers(0, beats)), int(self.rng.integers(0, words)), bit))
        if beats:
            self.wrong_pending = 0
        return flips
