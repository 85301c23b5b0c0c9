"""Lanes as inline SVG, drawn from the same min/max pyramid as the window's."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from thresher.journal.jobfile import Readings
from thresher.model.sheet import clock_text
from thresher.sensors.lanes import Lane, value_range
from thresher.sensors.pyramid import Pyramid

WIDTH = 900
LANE_HEIGHT = 92
_LEFT, _RIGHT = 96, 12
_COLUMNS = 420
_POINTS_OF_LANE, _FEWEST_COLUMNS = 3_000, 60
"""Columns of all channels of a lane together: of many channels nobody tells single columns apart on paper."""


@dataclass(frozen=True, slots=True)
class Flag:
    """A finding on the time axis, in seconds since the run began."""

    at: float
    fault: bool


@dataclass(frozen=True, slots=True)
class DrawnLane:
    """A lane ready for the template: its number from the top, labels, and path data with a strength each."""

    title: str
    unit: str
    kind: str
    low: str
    high: str
    top: float
    paths: tuple[tuple[str, bool], ...]
    limit_y: float | None
    limit_text: str


@dataclass(frozen=True, slots=True)
class Chart:
    """A whole chart ready for the template."""

    width: int
    height: int
    left: int
    lanes: tuple[DrawnLane, ...]
    flags: tuple[tuple[float, bool], ...]
    marks: tuple[tuple[float, str], ...]


def draw(readings: Readings, began_at: float, lanes: Sequence[Lane], flags: Sequence[Flag]) -> Chart | None:
    """Return the chart of a run, or None when it has fewer than two ticks."""
    if len(readings.at) < 2:
        return None
    times = readings.at - began_at
    pyramid = Pyramid(readings.values.shape[1])
    for time, values in zip(times, readings.values, strict=True):
        pyramid.append(float(time), values)
    begin, end = min(0.0, float(times[0])), float(times[-1])
    scale = (WIDTH - _LEFT - _RIGHT) / max(end - begin, 1e-9)

    def x(time: float) -> float:
        return _LEFT + (time - begin) * scale

    drawn = tuple(_draw_lane(lane, number, pyramid, begin, end, scale) for number, lane in enumerate(lanes))
    step = _nice_step(end - begin)
    marks = tuple((x(mark), clock_text(mark)) for mark in np.arange(0.0, end, step))
    placed = tuple((x(flag.at), flag.fault) for flag in flags if begin <= flag.at <= end)
    return Chart(WIDTH, LANE_HEIGHT * len(drawn) + 24, _LEFT, drawn, placed, marks)


def _nice_step(span: float) -> float:
    for step in (10, 30, 60, 120, 300, 600, 1800, 3600, 7200, 21600):
        if span / step <= 9:
            return float(step)
    return 86400.0 * math.ceil(span / 86400.0 / 9)  # whole days, however long a damaged file says that it took


def _draw_lane(lane: Lane, number: int, pyramid: Pyramid, begin: float, end: float, scale: float) -> DrawnLane:
    low, high = value_range(lane, pyramid, begin, end)
    top = number * LANE_HEIGHT + 24.0
    inner = LANE_HEIGHT - 12.0
    columns = max(_FEWEST_COLUMNS, min(_COLUMNS, _POINTS_OF_LANE // max(1, len(lane.channels))))

    def y(value: float) -> float:
        return top + inner * (high - value) / (high - low)

    def path(channel: int) -> str:
        times, values = pyramid.series(channel, begin, end, columns)
        with np.errstate(invalid="ignore"):  # a damaged file may hold anything, numbers without end among it
            values = values.astype(np.float64)  # numbers near the end of 32 bits would overflow
            heights = top + inner * (high - values) / (high - low)
        return " ".join(_segments(_LEFT + (times - begin) * scale, heights))

    digits = 0 if high - low > 20 else 2
    shown = min(high, 100.0) if lane.unit == "%" else high
    limit = lane.limit
    return DrawnLane(
        lane.title,
        lane.unit,
        lane.kind.value,
        f"{low:.{digits}f}",
        f"{shown:.{digits}f}",
        top,
        tuple((path(channel), channel in lane.lead) for channel in lane.channels),
        y(limit.value) if limit and low <= limit.value <= high else None,
        f"{limit.side.value} {limit.value:g} {lane.unit}, {limit.source}" if limit else "",
    )


def _segments(xs: np.ndarray, ys: np.ndarray) -> Iterator[str]:
    """Yield path commands; a missing reading breaks the line."""
    pen_down = False
    for x, y in zip(xs, ys, strict=True):
        if np.isnan(y):
            pen_down = False
            continue
        yield f"{'L' if pen_down else 'M'}{x:.1f} {y:.1f}"
        pen_down = True
