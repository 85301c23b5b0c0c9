"""A min/max pyramid over all channels, so that a day draws as fast as a minute and no spike vanishes.

Level 0 holds every tick. Each level above holds, for every `FACTOR` rows below, the smallest and the
largest value of each channel and the time where the group begins. A drawing asks for a span and a number
of columns and gets about two points a column.
"""

from typing import TypeVar

import numpy as np
import numpy.typing as npt

FACTOR = 4

Floats = npt.NDArray[np.float64]
Narrow = npt.NDArray[np.float32]
T = TypeVar("T", bound=np.generic)


class _Rows:
    """A growing table of times and of two values a channel (smallest, largest).

    Values are 32-bit floats, as in the job file: seven digits are more than any sensor reports, and a day of two
    hundred channels then fits into some 120 MB."""

    def __init__(self, channels: int, pair: bool) -> None:
        self.count = 0
        self.times = np.empty(64)
        self.low = np.empty((64, channels), dtype=np.float32)
        self.high = np.empty((64, channels), dtype=np.float32) if pair else self.low

    def extend(self, times: Floats, low: Narrow, high: Narrow) -> None:
        """Add rows at the end."""
        stop = self.count + len(times)
        if stop > len(self.times):
            self._grow(max(stop, len(self.times) * 3 // 2))
        self.times[self.count : stop] = times
        self.low[self.count : stop] = low
        if self.high is not self.low:
            self.high[self.count : stop] = high
        self.count = stop

    def _grow(self, size: int) -> None:
        pair = self.high is not self.low
        self.times = _longer(self.times, size)
        self.low = _longer(self.low, size)
        self.high = _longer(self.high, size) if pair else self.low


def _longer(table: npt.NDArray[T], size: int) -> npt.NDArray[T]:
    grown = np.empty((size, *table.shape[1:]), dtype=table.dtype)
    grown[: len(table)] = table
    return grown


class Pyramid:
    """History of all channels of one machine, for drawing."""

    def __init__(self, channel_count: int) -> None:
        """Start empty, with as many columns as the machine has channels."""
        self._channels = channel_count
        self._levels = [_Rows(channel_count, pair=False)]

    def __len__(self) -> int:
        """Return the number of ticks held."""
        return self._levels[0].count

    @property
    def span(self) -> tuple[float, float] | None:
        """First and last time, or None when empty."""
        rows = self._levels[0]
        return (float(rows.times[0]), float(rows.times[rows.count - 1])) if rows.count else None

    def append(self, time: float, values: Floats) -> None:
        """Add one tick: a time later than all before, and a value a channel, NaN where missing."""
        self.extend(np.array([time]), values[np.newaxis, :])

    def extend(self, times: Floats, values: npt.NDArray[np.float32] | npt.NDArray[np.float64]) -> None:
        """Add many ticks at once: times (n) that rise, all later than those before, and values (n, channels)."""
        narrow = values.astype(np.float32, copy=False)
        self._levels[0].extend(times, narrow, narrow)
        level = 0
        while True:
            rows = self._levels[level]
            done = self._levels[level + 1].count if level + 1 < len(self._levels) else 0
            full = rows.count // FACTOR
            if full == done:
                return
            if level + 1 == len(self._levels):
                self._levels.append(_Rows(self._channels, pair=True))
            part = slice(done * FACTOR, full * FACTOR)
            groups = (full - done, FACTOR, self._channels)
            # fmin and fmax leave NaN out unless there is nothing else
            low = np.fmin.reduce(rows.low[part].reshape(groups), axis=1)
            high = np.fmax.reduce(rows.high[part].reshape(groups), axis=1)
            self._levels[level + 1].extend(rows.times[part][::FACTOR], low, high)
            level += 1

    def rows(self, begin: float, end: float) -> tuple[Floats, Narrow]:
        """Return times and values of every tick from `begin` to `end`, both included."""
        table = self._levels[0]
        times = table.times[: table.count]
        first, last = np.searchsorted(times, begin), np.searchsorted(times, end, side="right")
        return times[first:last], table.low[first:last]

    def series(self, channel: int, begin: float, end: float, columns: int) -> tuple[Floats, Narrow]:
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

    def envelope(self, channels: list[int], begin: float, end: float, columns: int) -> tuple[Floats, Narrow, Narrow]:
        """Return times, smallest and largest value over several channels, a pair a row; NaN where none was read."""
        level, first, last = self._choose(begin, end, columns)
        spans = [(level, first, last)]
        if last == self._levels[level].count:
            spans += self._newer_spans(level, end)
        times, low, high = [], [], []
        for number, start, stop in spans:
            rows = self._levels[number]
            times.append(rows.times[start:stop])
            low.append(np.fmin.reduce(rows.low[start:stop][:, channels], axis=1))
            high.append(np.fmax.reduce(rows.high[start:stop][:, channels], axis=1))
        return np.concatenate(times), np.concatenate(low), np.concatenate(high)

    def columns(
        self, channels: list[int], begin: float, end: float, count: int, together: bool = False
    ) -> tuple[Narrow, Narrow]:
        """Return the smallest and largest value of each channel in each of `count` equal columns of a span.

        Both have the shape (count, channels), or (count, 1) for all channels `together`. Where ticks are farther apart
        than columns, values between them lie on straight lines; a column is NaN where nothing was read.
        """
        level, first, last = self._choose(begin, end, 2 * count)
        spans = [(level, first, last)]
        if last == self._levels[level].count:
            spans += self._newer_spans(level, end)
        tables = [(self._levels[n], slice(start, stop)) for n, start, stop in spans if stop > start]
        low = np.full((count, 1 if together else len(channels)), np.nan, dtype=np.float32)
        if not tables:
            return low, low
        times = np.concatenate([rows.times[part] for rows, part in tables])
        lows = np.concatenate([rows.low[part][:, channels] for rows, part in tables])
        highs = np.concatenate([rows.high[part][:, channels] for rows, part in tables])
        if together:
            lows = np.fmin.reduce(lows, axis=1, keepdims=True)
            highs = np.fmax.reduce(highs, axis=1, keepdims=True)
        places = (times - begin) * (count / (end - begin))
        bins = np.clip(np.floor(places).astype(np.int64), 0, count - 1)
        starts = np.flatnonzero(np.diff(bins, prepend=-1))
        there = bins[starts]
        high = low.copy()
        if level == 0 and len(times) < 2 * count:
            low, high = _between(places, lows, count), _between(places, highs, count)
        low[there] = np.fmin(low[there], np.fmin.reduceat(lows, starts, axis=0))
        high[there] = np.fmax(high[there], np.fmax.reduceat(highs, starts, axis=0))
        if level:  # a group of ticks stands at its beginning and covers the columns up to the next
            covers = np.full(count, -1)
            covers[there] = there
            covers = np.maximum.accumulate(covers)
            known = covers >= 0
            low[known], high[known] = low[covers[known]], high[covers[known]]
        return low, high

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

    def _newer(self, level: int, channel: int, end: float) -> list[tuple[Floats, Narrow]]:
        return [_points(self._levels[n], first, last, channel) for n, first, last in self._newer_spans(level, end)]

    def _newer_spans(self, level: int, end: float) -> list[tuple[int, int, int]]:
        """Return what the levels below hold that fills no group of the level above yet: a few rows of each."""
        spans = []
        while level:
            covered = self._levels[level].count * FACTOR
            level -= 1
            rows = self._levels[level]
            stop = min(rows.count, int(np.searchsorted(rows.times[: rows.count], end, side="right")) + 1)
            spans.append((level, covered, max(covered, stop)))
        return spans


def _points(rows: _Rows, first: int, last: int, channel: int) -> tuple[Floats, Narrow]:
    """Return times and values of rows: one point a row at the lowest level, smallest and largest above it."""
    times = rows.times[first:last]
    if rows.high is rows.low:
        return times.copy(), rows.low[first:last, channel].copy()
    both = np.stack((rows.low[first:last, channel], rows.high[first:last, channel]), axis=1)
    return np.repeat(times, 2), both.ravel()


def _between(places: Floats, values: Narrow, count: int) -> Narrow:
    """Return values at the middles of columns, on straight lines between ticks; NaN beside a missing one."""
    middles = np.arange(count) + 0.5
    found = np.empty((count, values.shape[1]), dtype=np.float32)
    outside = (middles < places[0]) | (middles > places[-1])
    for number in range(values.shape[1]):
        column = values[:, number]
        gone = np.isnan(column)
        if gone.all():
            found[:, number] = np.nan
            continue
        line = np.interp(middles, places[~gone], column[~gone])
        if gone.any():
            line[np.interp(middles, places, gone.astype(np.float64)) > 0] = np.nan
        line[outside] = np.nan
        found[:, number] = line
    return found
