"""Idle readings, and whether they can be true: impossible, stuck, at odds with a twin, off by a constant.

Every doubt names its evidence. A doubtful channel is shown and kept; whether it counts is the technician's choice.
"""

import numpy as np
import numpy.typing as npt

from thresher.model.channels import Baseline, Channel, IdleReading, LimitSide, Quantity, SensorDoubt
from thresher.model.parts import PartKind

SHORTEST = 10
"""Fewest ticks that say anything about a channel."""

_COLDEST_C = 4.0
"""Air-cooled parts cannot be colder than the room; a workshop below this is closed."""
UNCONNECTED_C = (-128.0, -127.5, 127.0, 127.5, 127.85, 127.875, 128.0, 255.0, 255.5)
"""What the converters of board chips answer with nothing connected: the ends of 8-bit and half-degree ranges."""
_HOTTEST_IDLE_C = 95.0
_TWINS_APART_K = 10.0
_STEADY_K = 1.0
_OTHERS_MOVED_K = 3.0
_FEWEST_OTHERS = 2


def take_baseline(
    channels: tuple[Channel, ...],
    values: npt.NDArray[np.float64],
    missing: dict[int, str],
    wall: float,
    seconds: float,
) -> Baseline:
    """Sum idle readings up. `values` is (ticks, channels) with NaN for a missing reading, `missing` says why."""
    readings = []
    for index, channel in enumerate(channels):
        valid = values[:, index][~np.isnan(values[:, index])]
        low, mean, high = (float(f(valid)) for f in (np.min, np.mean, np.max)) if len(valid) else (None, None, None)
        readings.append(IdleReading(channel.key, len(valid), low, mean, high))
    return Baseline(wall, seconds, tuple(readings), tuple(doubts_about(channels, values, missing)))


def doubts_about(
    channels: tuple[Channel, ...], values: npt.NDArray[np.float64], missing: dict[int, str]
) -> list[SensorDoubt]:
    """Return what cannot be, or does not go together, in idle readings of shape (ticks, channels)."""
    if len(values) < SHORTEST:
        return []
    doubts = [
        doubt for index, channel in enumerate(channels) for doubt in _impossible(channel, _present(values[:, index]))
    ]
    doubts += [
        _never_read(channel, missing.get(index, "no reason given"))
        for index, channel in enumerate(channels)
        if np.isnan(values[:, index]).all() and not channel.now_and_then
    ]
    doubts += _beyond(channels, values)
    doubted = {doubt.channel for doubt in doubts}
    doubts += _stuck(channels, values, doubted)
    doubts += _twins(channels, values, doubted)
    return doubts


def _never_read(channel: Channel, reason: str) -> SensorDoubt:
    if reason.startswith("reads "):  # it answers, with what cannot be
        return SensorDoubt("X-830", channel.key, f"{channel.quantity.value.capitalize()} that cannot be", reason)
    return SensorDoubt("X-834", channel.key, "No reading at all", reason)


def _present(column: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    return column[~np.isnan(column)]


def _impossible(channel: Channel, reported: npt.NDArray[np.float64]) -> list[SensorDoubt]:
    if channel.quantity is not Quantity.TEMPERATURE or len(reported) < SHORTEST:
        return []
    title = "Temperature that cannot be"
    if bool(np.all(np.isin(reported, UNCONNECTED_C))):
        return [SensorDoubt("X-830", channel.key, title, f"always {reported[0]:g} °C: nothing is connected there")]
    if float(reported.mean()) < _COLDEST_C:
        return [SensorDoubt("X-830", channel.key, title, f"{reported.mean():.0f} °C is colder than any workshop")]
    if channel.kind is PartKind.BOARD and float(reported.mean()) > _HOTTEST_IDLE_C:
        detail = f"{reported.mean():.0f} °C at idle: no board is that hot; nothing may be connected there"
        return [SensorDoubt("X-830", channel.key, title, detail)]
    return []


def _beyond(channels: tuple[Channel, ...], values: npt.NDArray[np.float64]) -> list[SensorDoubt]:
    """A limit that is passed with nothing running is either a fault to see first, or a wrong limit or sensor."""
    doubts = []
    for index, channel in enumerate(channels):
        reported = _present(values[:, index])
        if len(reported) < SHORTEST or channel.quantity not in (Quantity.TEMPERATURE, Quantity.VOLTAGE):
            continue
        for side in LimitSide:
            limit = channel.limit(side)
            if limit and limit.headroom(float(reported.mean())) < 0:
                must = f"must stay {side.value} {limit.value:g} ({limit.source})"
                detail = f"mean {reported.mean():.4g} {channel.unit}, {must}"
                doubts.append(SensorDoubt("X-850", channel.key, "Beyond its limit at idle", detail))
    return doubts


def _stuck(channels: tuple[Channel, ...], values: npt.NDArray[np.float64], doubted: set[str]) -> list[SensorDoubt]:
    """A processor temperature that does not move while others of the processor do."""
    mine = [
        index
        for index, channel in enumerate(channels)
        if channel.quantity is Quantity.TEMPERATURE
        and channel.kind is PartKind.PROCESSOR
        and len(_present(values[:, index])) >= SHORTEST
    ]
    moved = {index: float(np.ptp(_present(values[:, index]))) for index in mine}
    doubts = []
    for index in mine:
        if moved[index] > 0.0 or channels[index].key in doubted:
            continue
        # another package may be the only busy one, and one core of several may be: most of this chip's must move
        others = [moved[each] for each in mine if each != index and channels[each].chip == channels[index].chip]
        typical = sorted(others)[(len(others) - 1) // 2] if len(others) >= _FEWEST_OTHERS else 0.0
        if typical >= _OTHERS_MOVED_K:
            still = f"always {_present(values[:, index])[0]:g} °C"
            detail = f"{still} while others of the processor moved by {typical:.0f} K"
            doubts.append(SensorDoubt("X-831", channels[index].key, "Temperature reading stuck", detail))
    return doubts


def processor_twins(channels: tuple[Channel, ...]) -> list[int]:
    """Return the channels that all claim to be the temperature of the processor as a whole."""
    return [
        index
        for index, channel in enumerate(channels)
        if channel.quantity is Quantity.TEMPERATURE
        and channel.core is None
        and (
            (channel.kind is PartKind.PROCESSOR and not channel.name.startswith("Core "))
            or (channel.kind is PartKind.BOARD and channel.name.upper().startswith(("CPU", "PROCESSOR", "SOCKET")))
        )
    ]


def _twins(channels: tuple[Channel, ...], values: npt.NDArray[np.float64], doubted: set[str]) -> list[SensorDoubt]:
    twins = [
        index
        for index in processor_twins(channels)
        if channels[index].key not in doubted and len(_present(values[:, index])) >= SHORTEST
    ]
    inside = [index for index in twins if channels[index].kind is PartKind.PROCESSOR]
    words = [channels[index].name.split(" ")[0] for index in inside]
    if len(twins) < 2 or not inside or len(set(words)) < len(words):
        return []  # with several processors their temperatures need not agree
    # the processor's own sensor sits nearest to what gets hot, so that the others are measured against it; a control
    # temperature is no measurement but what fans are to be driven by
    reference = min(inside, key=lambda index: (_is_control(channels[index]), channels[index].name != "Tdie", index))
    doubts = []
    for index in twins:
        apart = _present(values[:, index] - values[:, reference])
        if index == reference or len(apart) < SHORTEST or abs(float(apart.mean())) < _TWINS_APART_K:
            continue
        channel, twin = channels[index], channels[reference]
        mean = float(apart.mean())
        spread = float(np.diff(np.percentile(apart, (10, 90)))[0]) / 2  # one wild reading makes no offset unsteady
        way = "above" if mean > 0 else "below"
        detail = f"{abs(mean):.0f} K {way} {twin.name} at idle"
        if spread <= _STEADY_K:
            detail += f", always by as much: {_why_offset(channel)}"
            doubts.append(SensorDoubt("X-833", channel.key, "Constant offset", detail, twin.key))
        else:
            doubts.append(SensorDoubt("X-832", channel.key, "Twins disagree", detail, twin.key))
    return doubts


def _is_control(channel: Channel) -> bool:
    """Whether a channel is the control temperature of a processor: on a scale of its own (hwmon/k10temp, Tctl)."""
    return channel.name.startswith("Tctl")


def _why_offset(channel: Channel) -> str:
    if _is_control(channel):
        return "the processor adds a constant to its control temperature, so that fans turn earlier (hwmon/k10temp)"
    return "a constant offset, of the board's table or of the fan control"
