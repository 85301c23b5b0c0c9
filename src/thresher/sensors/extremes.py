"""Minimum, mean and maximum of every channel, and the headroom to its limit."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick

Floats = npt.NDArray[np.float64]


class Extremes:
    """Running minimum, mean and maximum over ticks, a value a channel; NaN where nothing was read yet."""

    def __init__(self, channel_count: int) -> None:
        """Start empty."""
        self.minimum: Floats = np.full(channel_count, np.nan)
        self.maximum: Floats = np.full(channel_count, np.nan)
        self._sum: Floats = np.zeros(channel_count)
        self._count: Floats = np.zeros(channel_count)

    def add(self, tick: Tick) -> None:
        """Take in one tick; missing readings change nothing."""
        values = np.array([np.nan if value is None else value for value in tick.values])
        self.minimum = np.fmin(self.minimum, values)
        self.maximum = np.fmax(self.maximum, values)
        there = ~np.isnan(values)
        self._sum[there] += values[there]
        self._count[there] += 1

    def add_rows(self, values: npt.NDArray[np.float32]) -> None:
        """Take in many ticks at once: values (n, channels) with NaN for missing."""
        if not len(values):
            return
        self.minimum = np.fmin(self.minimum, np.fmin.reduce(values, axis=0))
        self.maximum = np.fmax(self.maximum, np.fmax.reduce(values, axis=0))
        there = ~np.isnan(values)
        self._sum += np.sum(values, axis=0, where=there, dtype=np.float64)
        self._count += there.sum(axis=0)

    @property
    def mean(self) -> Floats:
        """Mean of the readings taken, NaN where there are none."""
        return np.divide(self._sum, self._count, out=np.full_like(self._sum, np.nan), where=self._count > 0)


@dataclass(frozen=True, slots=True)
class Headroom:
    """How far one channel is from its limit, in the channel's unit."""

    index: int
    value: float
    reading: float
    limit: Limit


def closest(channels: tuple[Channel, ...], tick: Tick, quantity: Quantity, side: LimitSide) -> Headroom | None:
    """Return the channel of a quantity that is nearest its limit on one side, or None when none has both."""
    found: Headroom | None = None
    for index, channel in enumerate(channels):
        reading = tick.values[index]
        limit = channel.limit(side)
        if channel.quantity is not quantity or reading is None or limit is None:
            continue
        room = limit.headroom(reading)
        # a core names the place better than the package it belongs to
        if found is None or room < found.value or (room == found.value and channels[found.index].core is None):
            found = Headroom(index, room, reading, limit)
    return found
