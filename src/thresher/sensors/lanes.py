"""Which channels share a lane, and in which order the lanes stand: one strip of chart a quantity."""

from dataclasses import dataclass

import numpy as np

from thresher.model.channels import UNITS, Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind
from thresher.sensors.pyramid import Pyramid

_SMALLEST_SPANS = {"°C": 10.0, "GHz": 0.5, "V": 0.2, "W": 10.0, "rpm": 200.0, "%": 20.0, "GiB": 0.5}
"""What a lane shows at least from bottom to top, in its unit."""


@dataclass(frozen=True, slots=True)
class Lane:
    """A lane: its title and unit, the part whose colour it has, the channels in it, and the limit drawn in it.

    `lead` are the channels of `channels` that are drawn strongly; the others stay faint.
    """

    title: str
    unit: str
    kind: PartKind
    channels: tuple[int, ...]
    lead: tuple[int, ...]
    limit: Limit | None = None


def choose_lanes(channels: tuple[Channel, ...]) -> tuple[Lane, ...]:
    """Return the lanes for a machine's channels; quantities that it does not have get none."""
    lanes = [
        _lane("Core temp", channels, Quantity.TEMPERATURE, PartKind.PROCESSOR, LimitSide.BELOW),
        _lane("Core clock", channels, Quantity.CLOCK, PartKind.PROCESSOR, LimitSide.ABOVE),
        _rail(channels),
        _lane("Package", channels, Quantity.POWER, PartKind.PROCESSOR, LimitSide.BELOW, PartKind.POWER),
        _lane("Fans", channels, Quantity.FAN, PartKind.COOLING),
        _lane("Drive temp", channels, Quantity.TEMPERATURE, PartKind.DRIVE, LimitSide.BELOW),
        _lane("Processor use", channels, Quantity.USE, PartKind.PROCESSOR),
        _lane("Memory used", channels, Quantity.MEMORY, PartKind.MEMORY),
    ]
    return tuple(lane for lane in lanes if lane is not None)


def _lane(
    title: str,
    channels: tuple[Channel, ...],
    quantity: Quantity,
    kind: PartKind,
    side: LimitSide | None = None,
    colour: PartKind | None = None,
) -> Lane | None:
    chosen = [i for i, channel in enumerate(channels) if channel.quantity is quantity and channel.kind is kind]
    if not chosen:
        return None
    limit = next((limit for i in chosen if side and (limit := channels[i].limit(side))), None)
    by_core = [i for i in chosen if channels[i].core is not None]
    return Lane(title, UNITS[quantity], colour or kind, tuple(chosen), tuple(by_core or chosen), limit)


def _rail(channels: tuple[Channel, ...]) -> Lane | None:
    """The 12 V rail, which feeds everything that is loaded; else the first rail with a limit."""
    rails = [
        i
        for i, channel in enumerate(channels)
        if channel.quantity is Quantity.VOLTAGE and channel.kind is PartKind.POWER and channel.limits
    ]
    if not rails:
        return None
    chosen = next((i for i in rails if "12" in channels[i].name), rails[0])
    channel = channels[chosen]
    return Lane(channel.name, channel.unit, PartKind.POWER, (chosen,), (chosen,), channel.limit(LimitSide.ABOVE))


def value_range(lane: Lane, pyramid: Pyramid, begin: float, end: float) -> tuple[float, float]:
    """Return the lowest and highest value that a lane has to show in a span, its limit included when it is near."""
    parts = [pyramid.series(channel, begin, end, 64)[1] for channel in lane.channels]
    values = np.concatenate(parts) if parts else np.empty(0)
    values = values[~np.isnan(values)]
    if not len(values):
        return 0.0, 1.0
    low, high = float(values.min()), float(values.max())
    if lane.limit is not None and abs(lane.limit.value - (low + high) / 2) < 2 * max(high - low, abs(high) * 0.05):
        low, high = min(low, lane.limit.value), max(high, lane.limit.value)
    missing = _SMALLEST_SPANS.get(lane.unit, 0.1) - (high - low)
    if missing > 0:  # noise of the last digit must not fill a lane
        low, high = (0.0, high + missing) if low < missing / 2 else (low - missing / 2, high + missing / 2)
    pad = (high - low) * 0.08
    return (max(0.0, low - pad) if low >= 0 else low - pad), high + pad
