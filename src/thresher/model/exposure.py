"""Clean exposure: the minutes that a load ran with every result checked, by band of temperature.

The one rule for it: time counts from the first moment at which all workers check results, in steps from one reading to
the next, each at the hottest processor temperature of the reading that ends it. Runs in progress, job files and the
proving ground all count by it.
"""

import math
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

from thresher.model.verdict import Exposure

BAND_K = 5.0
"""Temperatures within one band count as equal conditions."""


def band_of(temperature_c: float | None) -> float | None:
    """Return the middle of the band that a temperature falls in."""
    return None if temperature_c is None else (math.floor(temperature_c / BAND_K) + 0.5) * BAND_K


_LONGEST_PAUSE_S = 120.0
"""Twice the longest interval of readings."""


def some_of(cores: Collection[int], of: int) -> tuple[int, ...]:
    """Return the cores that a load runs on, in order; none when these are all that there are."""
    return tuple(sorted(cores)) if 0 < len(cores) < of else ()


@dataclass(slots=True)
class ExposureMeter:
    """Adds up the minutes of one block."""

    load: str
    minutes: dict[float | None, float] = field(default_factory=dict)
    _since: float | None = None

    def reading(self, at: float, hottest_c: float | None) -> None:
        """Take a reading at machine time `at`, in seconds, while all workers check results.

        Of a longer pause between two readings only a part counts: nobody knows what went on in it.
        """
        if self._since is not None:
            self.add(min(at - self._since, _LONGEST_PAUSE_S), hottest_c)
        self._since = at

    def add(self, seconds: float, hottest_c: float | None) -> None:
        """Count so many seconds at a temperature."""
        band = band_of(hottest_c)
        self.minutes[band] = self.minutes.get(band, 0.0) + seconds / 60.0

    def exposures(self, run: int, block: int) -> list[Exposure]:
        """Return what has been counted."""
        return [Exposure(run, block, self.load, minutes, band) for band, minutes in self.minutes.items()]


def exposures_of_readings(
    run: int, block: int, load: str, readings: Iterable[tuple[float, float | None]]
) -> list[Exposure]:
    """Return the exposure of a block from its readings: machine time in seconds and hottest temperature in °C."""
    meter = ExposureMeter(load)
    for at, hottest_c in readings:
        meter.reading(at, hottest_c)
    return meter.exposures(run, block)
