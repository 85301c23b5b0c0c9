"""What matters of one tick: the slowest loaded core, the rail nearest its limit. Used by window and terminal alike."""

from collections.abc import Collection
from dataclasses import dataclass

from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick
from thresher.model.parts import PartKind


def slowest_clock(channels: tuple[Channel, ...], tick: Tick, busy: Collection[int] = ()) -> tuple[float, int] | None:
    """Return GHz and index of the slowest core, of the `busy` ones where there are any; None without clocks."""
    clocks = [
        (value, index)
        for index, channel in enumerate(channels)
        if channel.quantity is Quantity.CLOCK
        and (value := tick.values[index]) is not None
        and (not busy or channel.core in busy)
    ]
    # a clock that the processor counts shows boost and throttling, which the one that is set hides
    clocks = [pair for pair in clocks if channels[pair[1]].key.startswith("counters/")] or clocks
    return min(clocks) if clocks else None


def package_power(channels: tuple[Channel, ...], tick: Tick) -> tuple[float, int] | None:
    """Return watts and index of the processor's power, None where no counter reports it."""
    for index, channel in enumerate(channels):
        value = tick.values[index]
        if channel.quantity is Quantity.POWER and channel.kind is PartKind.PROCESSOR and value is not None:
            return value, index
    return None


@dataclass(frozen=True, slots=True)
class Rail:
    """A supply rail now: its reading, its standard's voltage and tolerance, the limits that count, the share left."""

    index: int
    reading: float
    nominal: float
    tolerance: float
    limits: tuple[Limit, ...]
    share_left: float


def worst_rail(channels: tuple[Channel, ...], tick: Tick) -> Rail | None:
    """Return the supply rail nearest a limit, None where no rail with limits on both sides is reported."""
    rails = [rail for index in range(len(channels)) if (rail := _rail(channels[index], index, tick)) is not None]
    return min(rails, key=lambda rail: rail.share_left) if rails else None


def _rail(channel: Channel, index: int, tick: Tick) -> Rail | None:
    """Return a rail, or None for a channel that is none or has no reading or limits of the standard on both sides."""
    reading = tick.values[index]
    limits = tuple(limit for side in LimitSide if (limit := channel.limit(side)))
    # the technician's own limit is no part of the tolerance around the nominal voltage
    standard = {limit.side: limit.value for limit in reversed(channel.limits) if not limit.reason}
    is_rail = channel.quantity is Quantity.VOLTAGE and channel.kind is PartKind.POWER
    if not is_rail or reading is None or not limits or len(standard) < 2:
        return None
    low, high = standard[LimitSide.ABOVE], standard[LimitSide.BELOW]
    nominal, half = (low + high) / 2, (high - low) / 2
    if nominal == 0 or half <= 0:
        return None
    left = min(limit.headroom(reading) for limit in limits) / half
    return Rail(index, reading, nominal, half / abs(nominal), limits, left)
