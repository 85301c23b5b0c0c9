"""What a span of steady load shows about the heat path: plateau, resistances, throttling, headroom."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from thresher.heat.load_span import DIE, ROOM, LoadSpan, RoomFrom
from thresher.heat.steady import driven_evenly_since, smooth
from thresher.heat.throttling import Throttling, find_throttling
from thresher.heat.warming import Band, Warming, band_of, fit, step_of

Floats = npt.NDArray[np.float64]

PLATEAU_K, _SURE = 1.0, 0.9
"""A plateau is reached when what the temperature still moves is less than this, nine times out of ten."""
_LAST_SHARE = 0.25
"""Power, clock and fans on the plateau are the means over this share of the steady stretch, at its end."""
POWER_SENSOR = 0.002
"""How far a processor's own power figure wanders against itself from run to run, as a share."""
_BREAK_EVIDENCE = 12.0
"""How much better two stretches must explain the readings than one (natural logarithm) before a break is believed."""
_BREAK_PLACES = 9
QUICK_S = 28.0
"""Parts with a shorter time constant are the die, its paste and the base of the cooler."""
_FIRST_S, _SOON_S = 90.0, 3.0
_AT_ONCE_S, _MOVED_K, _WANDERS = 2.0, 2.0, 1.3
"""A stretch that begins within so many s is steady from the start; a break moves the plateau by at least so many K and
makes the readings leave the curve by so many times their own noise."""
_ROOM_LAG = 0.3
"""How much of a moving room the masses have not followed yet, as a share of its movement."""


@dataclass(frozen=True, slots=True)
class Stage:
    """A stage of the heat path, from one place to the next, and its thermal resistance in K/W."""

    begins: str
    ends: str
    resistance: Band


@dataclass(frozen=True, slots=True)
class Break:
    """A change that no sensor of power or fan explains: when, and how far the plateau moved, in s and K."""

    at_s: float
    kelvin: float


@dataclass(frozen=True, slots=True)
class SpanHeat:
    """What a span says. Temperatures in °C, resistances in K/W, times in s since the load came on.

    `plateau` is the final temperature with its 90 % band, `reached` whether the readings got there, `reached_s` since
    when; `left` how far it still goes. `above_room` is the plateau less the room, `resistance` that over `power_w`.
    `stages` are those between two sensors, `quick` (draws) is the one that settles within seconds: die, paste and the
    base of the cooler. `clock`, `fans` and `work` are means on the plateau, `room_c` the room then.
    `throttles_above_w` and `throttles_in_room_c` say at which power in this room, and in which room at this power, the
    limit would be reached. `late_above_k` is the mean over the room on the last quarter of the steady stretch, with the
    standard error that noise and steps of the sensor leave. `warming` holds the draws that all this comes from.
    """

    span: LoadSpan
    warming: Warming
    steady_s: float
    plateau: Band
    reached: bool
    reached_s: float
    left: Band
    room_c: float
    above_room: Band
    power_w: float | None
    resistance: Band | None
    stages: tuple[Stage, ...]
    time_constants: tuple[tuple[Band, Band], ...]
    quick: Floats | None
    clock: float | None
    fans: tuple[tuple[str, float], ...]
    work: float | None
    throttling: tuple[Throttling, ...]
    throttles_above_w: Band | None
    throttles_in_room_c: Band | None
    broken: Break | None
    late_above_k: float
    late_error_k: float
    above_room_draws: Floats
    resistance_draws: Floats | None


def analyse(span: LoadSpan) -> SpanHeat | None:
    """Work out the heat of a span. None with under twelve readings or 20 s of steady load."""
    steady = driven_evenly_since(span.times, span.power, span.fans)
    broken = find_break(span, steady)
    if broken is not None:
        steady = max(steady, broken.at_s)
    warming = _fit(span, span.hot, steady)
    if warming is None:
        return None
    rng = np.random.default_rng(1)
    seen = np.isfinite(span.hot)
    until = span.times[seen][-1]  # the sensor may have gone before the load ended
    last = seen & (span.times >= until - _LAST_SHARE * (until - steady))
    room = _room_now(span, last)
    draws = len(warming.ends)
    wandered = float(np.ptp(smooth(span.times, span.room.values, 60.0))) if len(span.room.values) > 1 else 0.0
    ends = warming.ends + rng.normal(0.0, _ROOM_LAG * wandered, draws)
    above = ends - room - rng.normal(0.0, span.room.error_k, draws)
    power = _mean(span.power, last)
    resistance = None
    if power is not None and power > 1.0 and np.isfinite(room):
        resistance = above / (power * (1.0 + rng.normal(0.0, POWER_SENSOR, draws)))
    left = warming.left()
    reached_s = steady + warming.within(PLATEAU_K).value
    return SpanHeat(
        span=span,
        warming=warming,
        steady_s=steady,
        plateau=band_of(ends),
        reached=float(np.quantile(np.abs(warming.ends - warming.at(warming.span_s)), _SURE)) < PLATEAU_K
        and reached_s < span.length_s,
        reached_s=min(reached_s, span.length_s),
        left=left,
        room_c=room,
        above_room=band_of(above),
        power_w=power,
        resistance=band_of(resistance) if resistance is not None else None,
        stages=_stages(span, steady, warming, room, power, rng),
        time_constants=_time_constants(span, warming, steady),
        quick=_quick(span, power, draws),
        clock=_mean(span.clock, last),
        fans=tuple((name, mean) for name, speed in span.fans if (mean := _mean(speed, last)) is not None),
        work=_mean(span.work, last),
        throttling=find_throttling(span),
        throttles_above_w=_limit_power(span, resistance, room),
        throttles_in_room_c=band_of(span.limit_c - above) if span.limit_c is not None and np.isfinite(room) else None,
        broken=broken,
        late_above_k=float(span.hot[last].mean()) - room,
        late_error_k=_late_error(span, warming, last),
        above_room_draws=above,
        resistance_draws=resistance,
    )


def _late_error(span: LoadSpan, warming: Warming, last: npt.NDArray[np.bool_]) -> float:
    """Return the standard error of a mean over readings in K: their noise, correlated or not, and the sensor's step."""
    times = span.times[last]
    step = float(np.median(np.diff(times))) if len(times) > 1 else 1.0
    correlated = (1.0 + 2.0 * warming.correlation_s / max(step, 1e-3)) / max(len(times), 1)
    coarse = step_of(span.hot[last])
    stuck = coarse * min(1.0, max(0.0, 1.0 - 3.0 * (warming.noise / max(coarse, 1e-9) - 0.29)))
    return float(np.hypot(warming.noise * np.sqrt(min(correlated, 1.0)), 0.29 * stuck))


def _fit(span: LoadSpan, values: Floats, steady: float, seed: int = 0) -> Warming | None:
    """Fit the steady stretch; the movement of a room that is measured is taken off, and its end put on again."""
    kept = span.times >= steady
    moved = np.zeros(len(span.times))
    if span.room.source is RoomFrom.SENSOR and len(span.room.values) == len(span.times):
        calm = smooth(span.times, span.room.values, 60.0)
        moved = calm - float(np.median(calm[-max(3, len(calm) // 10) :]))
    return fit(span.times[kept], (values - moved)[kept], rising=steady <= _AT_ONCE_S, scale_k=_moved(values), seed=seed)


def _moved(values: Floats) -> float:
    """Return how far readings lie apart, 0 where there are none."""
    return float(np.nanmax(values) - np.nanmin(values)) if np.isfinite(values).any() else 0.0


def _time_constants(span: LoadSpan, warming: Warming, steady: float) -> tuple[tuple[Band, Band], ...]:
    """Return the time constants of the whole warm-up, fans that follow the temperature included."""
    whole = warming if steady <= _AT_ONCE_S else _fit(span, span.hot, 0.0)
    return whole.time_constants() if whole is not None else ()


def _quick(span: LoadSpan, power: float | None, draws: int) -> Floats | None:
    """Return what settles within seconds, in K/W a draw, from the first moments of the load, before fans turn faster.

    None when the load had come on before the readings begin, or the power is not known.
    """
    first = span.times <= _FIRST_S
    if power is None or power <= 1.0 or span.start_c is None or not first.any() or span.times[0] > _SOON_S:
        return None
    early = fit(span.times[first], span.hot[first])
    if early is None:
        return None
    own = _mean(span.power, first) or power
    # what had gone into the die before the first reading belongs to it too
    before = np.maximum(early.at(0.0) - span.start_c, 0.0)
    quick = ((early.amounts * (early.taus < QUICK_S)).sum(axis=1) + before) / own
    return np.random.default_rng(2).permutation(np.resize(quick, draws))


def find_break(span: LoadSpan, steady: float) -> Break | None:
    """Return a change that neither power nor fans explain, such as a pump that stops; None where one curve serves.

    The stretch is divided in two at several places; the division counts when two curves explain the readings far
    better than one, and the plateau has moved by more than 2 K.
    """
    whole = _fit(span, span.hot, steady)
    if whole is None or not _wanders(span, steady, whole):
        return None
    length = span.length_s - steady
    best: tuple[float, float, float] | None = None
    for place in range(1, _BREAK_PLACES + 1):
        at = steady + length * place / (_BREAK_PLACES + 1)
        first = span.times < at
        earlier = first & (span.times >= steady)
        before = fit(span.times[earlier], span.hot[earlier], rising=False, scale_k=_moved(span.hot[earlier]))
        after = _fit(span, span.hot, at)
        if before is None or after is None:
            continue
        gain = before.evidence + after.evidence - whole.evidence
        if best is None or gain > best[0]:
            best = (gain, at, after.end.value - before.end.value)
    if best is None or best[0] < _BREAK_EVIDENCE or abs(best[2]) < _MOVED_K:
        return None
    return Break(best[1], best[2])


def _wanders(span: LoadSpan, steady: float, whole: Warming) -> bool:
    """Whether the readings leave the curve by more than their own noise explains."""
    kept = span.times >= steady
    values = span.hot[kept]
    quick = np.diff(values[np.isfinite(values)])
    own = float(np.sqrt(np.mean(quick**2) / 2.0)) if len(quick) else 0.0
    return whole.noise > _WANDERS * max(own, step_of(values) * 0.4)


def _room_now(span: LoadSpan, last: npt.NDArray[np.bool_]) -> float:
    values = span.room.values
    return float(np.nanmedian(values[last])) if len(values) == len(last) else float(values[0])


def _mean(values: Floats | None, chosen: npt.NDArray[np.bool_]) -> float | None:
    if values is None or not np.isfinite(values[chosen]).any():
        return None
    return float(np.nanmean(values[chosen]))


def _stages(
    span: LoadSpan,
    steady: float,
    warming: Warming,
    room: float,
    power: float | None,
    rng: np.random.Generator,
) -> tuple[Stage, ...]:
    """Return the resistances from one measured place to the next, as far as they are measured."""
    if power is None or power <= 1.0:
        return ()
    size = len(warming.ends)
    ends: list[tuple[str, Floats]] = [(DIE, warming.ends)]
    for number, (name, values) in enumerate(span.stages):
        own = _fit(span, values, steady, seed=number + 1)
        if own is not None:
            ends.append((name, rng.permutation(np.resize(own.ends, size))))
    if np.isfinite(room):
        ends.append((ROOM, np.full(size, room) + rng.normal(0.0, span.room.error_k, size)))
    return tuple(
        Stage(begins, ends_at, band_of((inside - outside) / power))
        for (begins, inside), (ends_at, outside) in pairwise(ends)
    )


def _limit_power(span: LoadSpan, resistance: Floats | None, room: float) -> Band | None:
    if resistance is None or span.limit_c is None:
        return None
    return band_of((span.limit_c - room) / np.maximum(resistance, 1e-3))
