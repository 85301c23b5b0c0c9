"""A min/max pyramid over all channels, so that a day draws as fast as a minute and no spike vanishes.

Level 0 holds every tick. Each level above holds, for every `FACTOR` rows below, the smallest and the
largest value of each channel and the time where the group begins. A drawing asks for a span and a number
of columns and gets about two points a column.
"""

import numpy as np
import numpy.typing as npt

FACTOR = 4

Floats = npt.NDArray[np.float64]


class _Rows:
    """A growing table of times and of two values a channel (smallest, largest)."""

    def __init__(self, channels: int, pair: bool) -> None:
        self.count = 0
        self.times = np.empty(64)
        self.low = np.empty((64, channels))
        self.high = np.empty((64, channels)) if pair else self.low

    def append(self, time: float, low: Floats, high: Floats) -> None:
        if self.count == len(self.times):
            self.times = np.concatenate((self.times, np.empty_like(self.times)))
            grown = np.concatenate((self.low, np.empty_like(self.low)))
            self.high = grown if self.high is self.low else np.concatenate((self.high, np.empty_like(self.high)))
            self.low = grown
        self.times[self.count] = time
        self.low[self.count] = low
        self.high[self.count] = high
        self.count += 1


class Pyramid:
    """History of all channels of one machine, for drawing."""

    def __init__(self, channel_count: int) -> None:
        """Start empty, with as many columns as the machine has channels."""
        self._channels = channel_count
        self._levels = [_Rows(channel_count, pair=False)]

    def __len__(self) -> int:
        """Return the number of ticks taken in."""
        return self._levels[0].count

    @property
    def span(self) -> tuple[float, float] | None:
        """First and last time, or None when empty."""
        rows = self._levels[0]
        return (float(rows.times[0]), float(rows.times[rows.count - 1])) if rows.count else None

    def append(self, time: float, values: Floats) -> None:
        """Add one tick: a time later than all before, and a value a channel, NaN where missing."""
        self._levels[0].append(time, values, values)
        level = 0
        while self._levels[level].count % FACTOR == 0:
            rows = self._levels[level]
            if level + 1 == len(self._levels):
                self._levels.append(_Rows(self._channels, pair=True))
            last = slice(rows.count - FACTOR, rows.count)
            # fmin and fmax leave NaN out unless there is nothing else
            low = np.fmin.reduce(rows.low[last])
            high = np.fmax.reduce(rows.high[last])
            self._levels[level + 1].append(float(rows.times[rows.count - FACTOR]), low, high)
            level += 1

    def series(self, channel: int, begin: float, end: float, columns: int) -> tuple[Floats, Floats]:
        """Return times and values to draw one channel from `begin` to `end` on about `columns` columns.

        Every minimum and maximum of the span is among the values. One point beyond each end is included,
        so that a line runs to the edge.
        """
        level, first, last = self._choose(begin, end, columns)
        rows = self._levels[level]
        pieces = [_points(rows, first, last, channel)]
        if last == rows.count:
            pieces += self._newer(level, channel, end)
        return np.concatenate([times for times, _ in pieces]), np.concatenate([values for _, values in pieces])

    def _choose(self, begin: float, end: float, columns: int) -> tuple[int, int, int]:
        chosen = (0, 0, 0)
        for level, rows in enumerate(self._levels):
            times = rows.times[: rows.count]
            first = max(0, int(np.searchsorted(times, begin)) - 1)
            last = min(rows.count, int(np.searchsorted(times, end, side="right")) + 1)
            chosen = (level, first, last)
            if last - first <= columns:
                break
        return chosen

    def _newer(self, level: int, channel: int, end: float) -> list[tuple[Floats, Floats]]:
        """Return what the levels below hold that fills no group of the level above yet: a few rows of each."""
        pieces = []
        while level:
            covered = self._levels[level].count * FACTOR
            level -= 1
            rows = self._levels[level]
            stop = min(rows.count, int(np.searchsorted(rows.times[: rows.count], end, side="right")) + 1)
            pieces.append(_points(rows, covered, max(covered, stop), channel))
        return pieces


def _points(rows: _Rows, first: int, last: int, channel: int) -> tuple[Floats, Floats]:
    """Return times and values of rows: one point a row at the lowest level, smallest and largest above it."""
    times = rows.times[first:last]
    if rows.high is rows.low:
        return times.copy(), rows.low[first:last, channel].copy()
    both = np.stack((rows.low[first:last, channel], rows.high[first:last, channel]), axis=1)
    return np.repeat(times, 2), both.ravel()
