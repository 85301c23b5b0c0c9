"""One span of steady load, cut out of a run: the temperatures along the heat path, and what drove them."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.parts import PartKind

Floats = npt.NDArray[np.float64]


class RoomFrom(StrEnum):
    """Where the room temperature comes from, best first."""

    SENSOR = "measured"
    TYPED = "typed in"
    COLD_START = "from the cold start"
    UNKNOWN = "unknown"


ROOM_ERROR_K = {RoomFrom.SENSOR: 0.3, RoomFrom.TYPED: 0.5, RoomFrom.COLD_START: 2.0, RoomFrom.UNKNOWN: 5.0}
"""How far each may be off, as a standard deviation in K: a thermometer on the bench is seldom at the machine's inlet,
and a machine that was switched off for a night is still a little warmer than its room."""


@dataclass(frozen=True, slots=True)
class Room:
    """The room temperature in °C, one value or one a reading, and where it comes from."""

    values: Floats
    source: RoomFrom

    @property
    def error_k(self) -> float:
        """How far it may be off, as a standard deviation in K."""
        return ROOM_ERROR_K[self.source]


@dataclass(frozen=True, slots=True)
class LoadSpan:
    """A stretch of a run with one load, from the moment it came on.

    `times` (n) in s since then; `hot` (n) is the hottest reading of the part under load in °C; `stages` the
    temperatures further along its heat path, from the inside out; `power` (n) in W, `clock` (n) in the channel's
    unit, `fans` by name in rpm, each None or empty where the machine reports none. `start_c` is the part's temperature
    before the load came on. `throttled_s` (n) is the time for which the clock was lowered because of heat, and
    `held_by` which limits were reported at each reading (name, 0 or 1).
    """

    load: str
    part: str
    kind: PartKind
    times: Floats
    hot: Floats
    start_c: float | None
    room: Room
    stages: tuple[tuple[str, Floats], ...] = ()
    power: Floats | None = None
    clock: Floats | None = None
    clock_unit: str = "GHz"
    fans: tuple[tuple[str, Floats], ...] = ()
    limit_c: float | None = None
    power_limit_w: float | None = None
    throttled_s: Floats | None = None
    held_by: tuple[tuple[str, Floats], ...] = ()
    work: Floats | None = None
    ignored: tuple[str, ...] = ()

    @property
    def length_s(self) -> float:
        """How long the load ran."""
        return float(self.times[-1]) if len(self.times) else 0.0


_ROOM_WORDS = ("ambient", "room", "inlet", "intake")
_COOLANT_WORDS = ("coolant", "liquid", "water", "pump out", "pump in")
_SINK_WORDS = ("heatsink", "heat sink")
_CASE_WORDS = ("case", "system", "board", "chassis", "exhaust", "pch", "mainboard")
DIE, SINK, COOLANT, CASE, ROOM = "die", "heatsink", "coolant", "case air", "room"


def cut(
    channels: Sequence[Channel],
    at: Floats,
    values: npt.NDArray[np.floating],
    begins: float,
    ends: float,
    load: str,
    kind: PartKind = PartKind.PROCESSOR,
    place: str = "",
    room_c: float | None = None,
) -> LoadSpan | None:
    """Cut the span of a load out of readings: machine times (n), values (n, channels).

    `kind` and `place` name the part under load; `room_c` is what a technician typed. None when the part reports no
    temperature or there are fewer than two readings.
    """
    first, last = int(np.searchsorted(at, begins)), int(np.searchsorted(at, ends, side="right"))
    mine = [i for i, each in enumerate(channels) if each.kind is kind and (not place or each.place in ("", place))]
    trusted = [i for i in mine if not channels[i].distrust]
    ignored = tuple(channels[i].name for i in mine if channels[i].distrust)
    hot = [i for i in trusted if channels[i].quantity is Quantity.TEMPERATURE]
    if not hot or last - first < 2:
        return None
    part = values[first:last].astype(np.float64)
    times = at[first:last] - begins
    before = values[max(0, first - 5) : first + 1].astype(np.float64)
    start = _highest(before, hot)
    clocks = _clocks(channels, trusted)
    power = [i for i in trusted if channels[i].quantity is Quantity.POWER]
    throttled = [i for i in trusted if channels[i].quantity is Quantity.THROTTLE_TIME]
    limit = next((found for i in hot if (found := channels[i].limit(LimitSide.BELOW))), None)
    power_limit = next((found for i in power if (found := channels[i].limit(LimitSide.BELOW))), None)
    return LoadSpan(
        load=load,
        part=channels[hot[0]].place or kind.value,
        kind=kind,
        times=times,
        hot=_highest(part, hot),
        start_c=float(start[np.isfinite(start)][-1]) if np.isfinite(start).any() else None,
        room=room_of(channels, values, first, last, room_c),
        stages=_stages(channels, part, kind),
        power=part[:, power[0]] if power else None,
        clock=_mean(part, clocks) if clocks else None,
        clock_unit=channels[clocks[0]].unit if clocks else "GHz",
        fans=_fans(channels, part, kind, place),
        limit_c=limit.value if limit else None,
        power_limit_w=power_limit.value if power_limit else None,
        throttled_s=_highest(part, throttled) if throttled else None,
        held_by=tuple(
            (channels[i].name.rpartition("held by ")[2], np.nan_to_num(part[:, i]))
            for i in trusted
            if channels[i].quantity is Quantity.FLAG
        ),
        work=_work(channels, part, kind),
        ignored=ignored,
    )


def room_of(
    channels: Sequence[Channel],
    values: npt.NDArray[np.floating],
    first: int,
    last: int,
    typed_c: float | None = None,
) -> Room:
    """Return the room temperature of a span: from a sensor, as typed, or from the coldest reading at the run's start.

    `values` (n, channels) are those of the whole run, `first` and `last` the span's readings.
    """
    sensors = [i for i, each in enumerate(channels) if _is_air(each, _ROOM_WORDS)]
    if sensors:
        seen = values[first:last, sensors[0]].astype(np.float64)
        if np.isfinite(seen).any():
            return Room(_filled(seen), RoomFrom.SENSOR)
    if typed_c is not None:
        return Room(np.array([typed_c]), RoomFrom.TYPED)
    temperatures = [i for i, each in enumerate(channels) if each.quantity is Quantity.TEMPERATURE and not each.distrust]
    early = values[:6, temperatures]
    early = early[np.isfinite(early) & (early > -20.0)]
    if len(early):
        return Room(np.array([float(early.min()) - 1.0]), RoomFrom.COLD_START)
    return Room(np.array([np.nan]), RoomFrom.UNKNOWN)


def _is_air(channel: Channel, words: tuple[str, ...]) -> bool:
    name = channel.name.lower()
    is_air = channel.quantity is Quantity.TEMPERATURE and channel.kind in (PartKind.BOARD, PartKind.COOLING)
    return is_air and not channel.distrust and any(word in name for word in words)


def _stages(channels: Sequence[Channel], part: Floats, kind: PartKind) -> tuple[tuple[str, Floats], ...]:
    """Return what is measured between the die and the room; the hottest of several sensors of a kind counts."""
    found: list[tuple[str, Floats]] = []
    if kind is PartKind.PROCESSOR:
        for name, words in ((SINK, _SINK_WORDS), (COOLANT, _COOLANT_WORDS)):
            mine = [i for i, each in enumerate(channels) if _is_air(each, words)]
            if mine:
                found.append((name, _highest(part, mine)))
    case = [
        i
        for i, each in enumerate(channels)
        if _is_air(each, _CASE_WORDS) and not any(word in each.name.lower() for word in _ROOM_WORDS)
    ]
    if case:
        found.append((CASE, part[:, case[0]]))
    return tuple(found)


def _clocks(channels: Sequence[Channel], trusted: list[int]) -> list[int]:
    counted = [i for i in trusted if channels[i].key.startswith("counters/") and channels[i].quantity is Quantity.CLOCK]
    named = [i for i in trusted if channels[i].quantity in (Quantity.CLOCK, Quantity.FREQUENCY)]
    return counted or named


def _fans(channels: Sequence[Channel], part: Floats, kind: PartKind, place: str) -> tuple[tuple[str, Floats], ...]:
    kinds = (PartKind.GRAPHICS,) if kind is PartKind.GRAPHICS else (PartKind.COOLING, PartKind.BOARD)
    return tuple(
        (each.name, part[:, i])
        for i, each in enumerate(channels)
        if each.quantity is Quantity.FAN
        and each.kind in kinds
        and (kind is not PartKind.GRAPHICS or not place or each.place in ("", place))
        and np.isfinite(part[:, i]).any()
    )


def _work(channels: Sequence[Channel], part: Floats, kind: PartKind) -> Floats | None:
    if kind is not PartKind.PROCESSOR:
        return None
    mine = [i for i, each in enumerate(channels) if each.quantity is Quantity.WORK]
    return part[:, mine[0]] if mine and np.isfinite(part[:, mine[0]]).any() else None


def _highest(values: Floats, columns: list[int]) -> Floats:
    some = values[:, columns]
    out = np.full(len(values), np.nan)
    seen = np.isfinite(some).any(axis=1)
    out[seen] = np.nanmax(some[seen], axis=1)
    return out


def _mean(values: Floats, columns: list[int]) -> Floats:
    some = values[:, columns]
    out = np.full(len(values), np.nan)
    seen = np.isfinite(some).any(axis=1)
    out[seen] = np.nanmean(some[seen], axis=1)
    return out


def _filled(values: Floats) -> Floats:
    """Return values with gaps filled along a straight line."""
    seen = np.isfinite(values)
    places = np.arange(len(values))
    filled: Floats = np.interp(places, places[seen], values[seen])
    return filled
