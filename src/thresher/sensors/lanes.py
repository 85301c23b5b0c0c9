"""Which channels share a lane, and in which order the lanes stand: one strip of chart a quantity."""

from dataclasses import dataclass

import numpy as np

from thresher.model.channels import UNITS, Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind
from thresher.sensors.pyramid import Pyramid

_SMALLEST_SPANS = {
    "°C": 10.0,
    "GHz": 0.5,
    "V": 0.2,
    "W": 10.0,
    "rpm": 200.0,
    "%": 20.0,
    "GiB": 0.5,
    "MHz": 200.0,
    "MB/s": 1.0,
    "ms": 1.0,
    "A": 1.0,
    "events": 1.0,
    "s": 1.0,
    "beats/s": 1.0,
    "%RH": 10.0,
}
"""What a lane shows at least from bottom to top, in its unit."""


@dataclass(frozen=True, slots=True)
class Lane:
    """A lane: its title and unit, the part whose colour it has, the channels in it, and the limit drawn in it.

    `lead` are the channels of `channels` that are drawn strongly; the others stay faint. `key` is the same on every
    machine that has such a lane.
    """

    title: str
    unit: str
    kind: PartKind
    channels: tuple[int, ...]
    lead: tuple[int, ...]
    limit: Limit | None = None
    key: str = ""


@dataclass(frozen=True, slots=True)
class _Plan:
    """Which channels make a lane: of a quantity and kinds of part; `lead` begins the keys of those drawn strongly."""

    key: str
    title: str
    quantity: Quantity
    kinds: tuple[PartKind, ...]
    side: LimitSide | None = None
    colour: PartKind | None = None
    lead: tuple[str, ...] = ()


_EVERY = tuple(PartKind)
_PLANS = (
    _Plan("core temperature", "Core temp", Quantity.TEMPERATURE, (PartKind.PROCESSOR,), LimitSide.BELOW),
    _Plan("core clock", "Core clock", Quantity.CLOCK, (PartKind.PROCESSOR,), LimitSide.ABOVE, lead=("counters/",)),
    _Plan("rails", "", Quantity.VOLTAGE, (PartKind.POWER,)),
    _Plan("package", "Package", Quantity.POWER, (PartKind.PROCESSOR,), LimitSide.BELOW, PartKind.POWER),
    _Plan("fans", "Fans", Quantity.FAN, _EVERY, colour=PartKind.COOLING),
    _Plan("drive temperature", "Drive temp", Quantity.TEMPERATURE, (PartKind.DRIVE,), LimitSide.BELOW),
    _Plan("graphics temperature", "Graphics °C", Quantity.TEMPERATURE, (PartKind.GRAPHICS,), LimitSide.BELOW),
    _Plan("processor use", "CPU use", Quantity.USE, (PartKind.PROCESSOR,), lead=("stat/use", "stat/steal")),
    _Plan("memory used", "Memory", Quantity.MEMORY, (PartKind.MEMORY,)),
    _Plan("graphics use", "Graphics use", Quantity.USE, (PartKind.GRAPHICS,)),
    _Plan("graphics power", "Graphics W", Quantity.POWER, (PartKind.GRAPHICS,), LimitSide.BELOW),
    _Plan("graphics clock", "Graphics clk", Quantity.FREQUENCY, (PartKind.GRAPHICS,)),
    _Plan("graphics memory", "Graphics mem", Quantity.MEMORY, (PartKind.GRAPHICS,)),
    _Plan("frame times", "Frame time", Quantity.LATENCY, (PartKind.GRAPHICS,)),
    _Plan("board temperature", "Board temp", Quantity.TEMPERATURE, (PartKind.BOARD, PartKind.COOLING, PartKind.POWER)),
    _Plan("memory temperature", "Memory °C", Quantity.TEMPERATURE, (PartKind.MEMORY,), LimitSide.BELOW),
    _Plan("network temperature", "Network °C", Quantity.TEMPERATURE, (PartKind.NETWORK,), LimitSide.BELOW),
    _Plan("battery temperature", "Battery °C", Quantity.TEMPERATURE, (PartKind.BATTERY,)),
    _Plan("battery charge", "Battery", Quantity.CHARGE, (PartKind.BATTERY,)),
    _Plan("other power", "Other power", Quantity.POWER, tuple(set(_EVERY) - {PartKind.PROCESSOR, PartKind.GRAPHICS})),
    _Plan("voltages", "Voltages", Quantity.VOLTAGE, tuple(set(_EVERY) - {PartKind.POWER})),
    _Plan("currents", "Currents", Quantity.CURRENT, _EVERY, colour=PartKind.POWER),
    _Plan("drive rate", "Drive rate", Quantity.RATE, (PartKind.DRIVE,)),
    _Plan("drive latency", "Latency", Quantity.LATENCY, (PartKind.DRIVE,)),
    _Plan("drive errors", "Drive errors", Quantity.COUNT, (PartKind.DRIVE,)),
    _Plan("drive wear", "Drive wear", Quantity.WEAR, (PartKind.DRIVE,)),
    _Plan("pressure cpu", "CPU stalls", Quantity.PRESSURE, (PartKind.PROCESSOR,)),
    _Plan("pressure memory", "RAM stalls", Quantity.PRESSURE, (PartKind.MEMORY,)),
    _Plan("pressure io", "I/O stalls", Quantity.PRESSURE, (PartKind.DRIVE,)),
    _Plan("throttled", "Throttled", Quantity.THROTTLE, (PartKind.PROCESSOR,)),
    _Plan("throttled for", "Throttle s", Quantity.THROTTLE_TIME, (PartKind.PROCESSOR,)),
    _Plan("held by", "Held by", Quantity.FLAG, (PartKind.PROCESSOR, PartKind.GRAPHICS), colour=PartKind.PROCESSOR),
    _Plan("work done", "Work done", Quantity.WORK, (PartKind.PROCESSOR,)),
    _Plan("mains", "Mains", Quantity.FLAG, (PartKind.POWER,)),
    _Plan("fan duty", "Fan duty", Quantity.DUTY, _EVERY, colour=PartKind.COOLING),
    _Plan("humidity", "Humidity", Quantity.HUMIDITY, _EVERY, colour=PartKind.BOARD),
)
"""All lanes in the order in which they matter; the first that a machine has stand open, the rest folded."""


def choose_lanes(channels: tuple[Channel, ...]) -> tuple[Lane, ...]:
    """Return the lanes for a machine's channels; quantities that it does not have get none."""
    lanes: list[Lane] = []
    for plan in _PLANS:
        chosen = [i for i, each in enumerate(channels) if each.quantity is plan.quantity and each.kind in plan.kinds]
        if plan.key == "rails":
            lanes += _rails(channels, chosen)
        elif chosen:
            lanes.append(_lane(plan, channels, chosen))
    # the rail that feeds what is loaded stands open, the others among the rest
    rails = [lane for lane in lanes if lane.key.startswith("rail ")]
    return (*(lane for lane in lanes if lane not in rails[1:]), *rails[1:])


def _lane(plan: _Plan, channels: tuple[Channel, ...], chosen: list[int]) -> Lane:
    limit = next((limit for i in chosen if plan.side and (limit := channels[i].limit(plan.side))), None)
    named = [i for i in chosen if channels[i].key.startswith(plan.lead)] if plan.lead else []
    by_core = [i for i in chosen if channels[i].core is not None] if not plan.lead or not named else []
    lead = [i for i in named or by_core or chosen if not channels[i].distrust]
    kind = plan.colour or channels[chosen[0]].kind
    return Lane(plan.title, UNITS[plan.quantity], kind, tuple(chosen), tuple(lead or chosen), limit, plan.key)


def _rails(channels: tuple[Channel, ...], chosen: list[int]) -> list[Lane]:
    """A lane a rail, since their tolerances are shares of what differs; 12 V, which feeds what is loaded, first."""
    ordered = sorted(chosen, key=lambda i: ("12" not in channels[i].name or "-" in channels[i].name, i))
    return [
        Lane(
            channels[i].name,
            channels[i].unit,
            PartKind.POWER,
            (i,),
            (i,),
            channels[i].limit(LimitSide.ABOVE),
            f"rail {channels[i].name}",
        )
        for i in ordered
    ]


def value_range(lane: Lane, pyramid: Pyramid, begin: float, end: float) -> tuple[float, float]:
    """Return the lowest and highest value that a lane has to show in a span, its limit included when it is near."""
    _, lows, highs = pyramid.envelope(list(lane.channels), begin, end, 64)
    if np.isnan(lows).all():
        return 0.0, 1.0
    low, high = float(np.nanmin(lows)), float(np.nanmax(highs))
    if lane.limit is not None and abs(lane.limit.value - (low + high) / 2) < 2 * max(high - low, abs(high) * 0.05):
        low, high = min(low, lane.limit.value), max(high, lane.limit.value)
    missing = _SMALLEST_SPANS.get(lane.unit, 0.1) - (high - low)
    if missing > 0:  # noise of the last digit must not fill a lane
        low, high = (0.0, high + missing) if low < missing / 2 else (low - missing / 2, high + missing / 2)
    pad = (high - low) * 0.08
    return (max(0.0, low - pad) if low >= 0 else low - pad), high + pad
