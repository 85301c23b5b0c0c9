"""Painting one lane: its margin, its curves or its envelope, limit, flags and what a rise leads to.

The pyramid gives the smallest and largest value a pixel column, and the column is filled between them by NumPy into an
image: a polyline of Qt takes two to three milliseconds, and a frame of a day has dozens. A lane of many channels is
drawn as the envelope of all of them, in which no spike of any is lost.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from thresher.model.channels import Limit
from thresher.sensors.continuation import Continuation
from thresher.sensors.lanes import Lane, value_range
from thresher.sensors.pyramid import Pyramid
from thresher.ui.look import draw_text, text_width
from thresher.ui.theme import Scheme
from thresher.ui.time_axis import TimeAxis

Rows = npt.NDArray[np.float32]
Coverage = npt.NDArray[np.int8]
"""How many of the fine rows of each pixel are covered."""

MOST_CURVES = 8
"""Curves drawn each for itself; more become an envelope."""
_FINE = 3
"""Rows a pixel on which curves are filled before they are averaged, which smooths their edges."""
_HALF_LINE = 0.65 * _FINE


@dataclass(frozen=True, slots=True)
class LaneFrame:
    """Where a lane stands and what it covers: its area, and the values at its bottom and top."""

    lane: Lane
    area: QRectF
    low: float
    high: float

    def y(self, value: float) -> float:
        """Return the pixel of a value."""
        return self.area.bottom() - 3 - (value - self.low) / (self.high - self.low) * (self.area.height() - 6)


def frame_of(lane: Lane, area: QRectF, history: Pyramid, axis: TimeAxis, origin: float) -> LaneFrame:
    """Return a lane's frame for the span in view."""
    low, high = value_range(lane, history, axis.begin + origin, axis.end + origin)
    return LaneFrame(lane, area, low, high if high > low else low + 1.0)


class LanePainter:
    """Paints lanes of one history on one axis."""

    def __init__(
        self, painter: QPainter, scheme: Scheme, history: Pyramid, axis: TimeAxis, origin: float, width: float
    ) -> None:
        """`origin` is the machine time at 0 of the axis, `width` that of the widget in pixels."""
        self._painter, self._scheme, self._history = painter, scheme, history
        self._axis, self._origin, self._width = axis, origin, width
        left, right = axis.x(axis.begin, width), axis.x(axis.end, width)
        self._scale = (right - left) / (axis.end - axis.begin)
        self._left = left

    def _x(self, times: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        return self._left + (times - self._origin - self._axis.begin) * self._scale

    def ground(self, frame: LaneFrame, flags: list[tuple[float, str]]) -> None:
        """Paint the field, its grid and the flags of findings, given as pixel and colour."""
        painter, scheme, area = self._painter, self._scheme, frame.area
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        for tick in self._axis.ticks(self._width):
            x = self._axis.x(tick, self._width)
            painter.drawLine(QPointF(x, area.y()), QPointF(x, area.bottom()))
        for x, colour in flags:
            painter.setPen(QPen(QColor(colour), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, area.y()), QPointF(x, area.bottom()))
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.field(frame))

    def field(self, frame: LaneFrame) -> QRectF:
        """Return the part of a lane that the curves stand in."""
        right = self._axis.x(self._axis.end, self._width)
        return QRectF(self._left, frame.area.y(), right - self._left, frame.area.height())

    def curves(self, frame: LaneFrame, hidden: frozenset[int]) -> list[Coverage]:
        """Paint the channels: the leading ones strongly, the others as a faint envelope; return what they cover."""
        lead = [channel for channel in frame.lane.lead if channel not in hidden]
        others = [channel for channel in frame.lane.channels if channel not in hidden and channel not in lead]
        layers = []
        if others:
            layers.append((self._envelope(frame, others), 0.20))
        if len(lead) > MOST_CURVES:
            layers.append((self._envelope(frame, lead), 0.55))
        elif lead:
            layers.append((self._lines(frame, lead), 0.85))
        for coverage, strength in layers:
            self._ink(frame, coverage, strength)
        return [coverage for coverage, _ in layers]

    def _columns(self, frame: LaneFrame, channels: list[int], together: bool = False) -> tuple[Rows, Rows]:
        """Return the rows of fine pixels that channels cover in each column: from above (first) to below (last)."""
        field = self.field(frame)
        count = max(1, round(field.width()))
        begin, end = self._axis.begin + self._origin, self._axis.end + self._origin
        low, high = self._history.columns(channels, begin, end, count, together)
        inner = frame.area.height() - 6
        scale = _FINE * inner / (frame.high - frame.low)
        bottom = _FINE * (frame.area.height() - 3)
        return bottom - (high - frame.low) * scale, bottom - (low - frame.low) * scale

    def _lines(self, frame: LaneFrame, channels: list[int]) -> Coverage:
        """Return how much of each pixel lines cover: each column from its own span to where the one before ended."""
        top, bottom = self._columns(frame, channels)
        last_top, last_bottom = top[:-1], bottom[:-1]
        # a line continues from column to column without a hole; NaN joins nothing
        top[1:] = np.where(last_bottom < top[1:], last_bottom, top[1:])
        bottom[1:] = np.where(last_top > bottom[1:], last_top, bottom[1:])
        return self._cover(frame, top - _HALF_LINE, bottom + _HALF_LINE)

    def _envelope(self, frame: LaneFrame, channels: list[int]) -> Coverage:
        """Return how much of each pixel the span of all channels together covers."""
        top, bottom = self._columns(frame, channels, together=True)
        return self._cover(frame, top - _HALF_LINE, bottom + _HALF_LINE)

    def _cover(self, frame: LaneFrame, top: Rows, bottom: Rows) -> Coverage:
        """Fill each column from top to bottom on fine rows, several curves over each other; count them by pixel."""
        high = int(frame.area.height())
        fine = high * _FINE
        wide, curves = top.shape
        # no more than MOST_CURVES begin or end on one pixel, so that eight bits hold the count
        steps = np.zeros((fine + 1) * wide, dtype=np.int8)
        for curve in range(curves):
            column = np.flatnonzero(~(np.isnan(top[:, curve]) | np.isnan(bottom[:, curve])))
            first = np.clip(np.rint(top[column, curve]), 0, fine).astype(np.int64)
            last = np.clip(np.rint(bottom[column, curve]), 0, fine).astype(np.int64)
            steps[first * wide + column] += 1  # a curve has each column once, so that nothing is counted short
            steps[last * wide + column] -= 1
        count = np.add.accumulate(steps.reshape(fine + 1, wide)[:-1], axis=0, dtype=np.int8)
        inside = (count > 0).view(np.int8).reshape(high, _FINE, wide)
        covered: Coverage = np.add.reduce(inside, axis=1, dtype=np.int8)
        return covered

    def _ink(self, frame: LaneFrame, coverage: Coverage, strength: float) -> None:
        """Put coverage on the paper in the colour of the lane's part."""
        ink = self._scheme.part(frame.lane.kind)
        shades = [strength * rows / _FINE for rows in range(_FINE + 1)]
        parts = ((ink.blue(), 0), (ink.green(), 8), (ink.red(), 16), (255, 24))
        colours = np.array([sum(int(part * alpha) << shift for part, shift in parts) for alpha in shades], np.uint32)
        high, wide = coverage.shape
        pixels = colours[coverage].tobytes()
        picture = QImage(pixels, wide, high, 4 * wide, QImage.Format.Format_ARGB32_Premultiplied)
        self._painter.drawImage(QPointF(self.field(frame).x(), frame.area.y()), picture)

    def _y(self, frame: LaneFrame, values: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        inner = frame.area.height() - 6
        return np.asarray(frame.area.bottom() - 3 - (values - frame.low) / (frame.high - frame.low) * inner)

    def limit(self, frame: LaneFrame, covered: list[Coverage]) -> None:
        """Paint the limit, and what it is where no curve is: as far right as can be, below the line or above it."""
        limit = frame.lane.limit
        if limit is None or not frame.low <= limit.value <= frame.high:
            return
        painter, scheme, field = self._painter, self._scheme, self.field(frame)
        y = frame.y(limit.value)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(QColor(scheme.fault), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(field.x(), y), QPointF(field.right(), y))
        text = f"{limit.side.value} {limit.value:g} {frame.lane.unit}"
        wide = text_width(text, 10.5) + 8
        box = _free_box(frame, field, y, wide, covered)
        ground = QColor(scheme.panel)
        ground.setAlphaF(0.85)
        painter.fillRect(box, ground)
        draw_text(painter, QPointF(box.x() + 4, box.y() + 10.5), text, scheme.fault, 10.5)

    def continuation(self, frame: LaneFrame, now: float, value: float, found: Continuation) -> None:
        """Paint where a rise leads, dashed to the right of now, and say it in words."""
        painter, scheme, field = self._painter, self._scheme, self.field(frame)
        ahead = min(found.seconds * 1.5, max(0.0, self._axis.end - now))
        if ahead > 0:
            after = np.linspace(0.0, ahead, 40)
            values = found.level_c - (found.level_c - value) * np.exp(-after / found.tau_s)
            ink = self._scheme.part(frame.lane.kind)
            painter.save()
            painter.setClipRect(field)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(ink, 1.2, Qt.PenStyle.DashLine))
            x, y = self._x(self._origin + now + after), self._y(frame, values)
            points = [QPointF(float(a), float(b)) for a, b in zip(x, y, strict=True)]
            painter.drawPolyline(QPolygonF(points))
            painter.restore()
        text = continuation_text(found, value, frame.lane.limit)
        left = min(self._axis.x(now, self._width) + 8, field.right() - text_width(text, 11) - 6)
        draw_text(painter, QPointF(max(field.x() + 4, left), frame.area.bottom() - 6), text, scheme.ink, 11)

    def margin(self, frame: LaneFrame, chosen: bool, pinned: bool) -> None:
        """Paint title, unit and the ends of the scale."""
        painter, scheme, lane, area = self._painter, self._scheme, frame.lane, frame.area
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink = scheme.part(lane.kind)
        if chosen:
            painter.fillRect(QRectF(2, area.y() + 1, 4, area.height() - 2), ink)
        if pinned:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(ink)
            painter.drawEllipse(QPointF(self._left - 9, area.y() + 11), 2.6, 2.6)
        room = self._left - (26 if pinned else 15)
        size = next((size for size in (12.0, 11.2, 10.4) if text_width(lane.title, size, bold=True) <= room), 10.4)
        draw_text(painter, QPointF(12, area.y() + 15), lane.title, ink, size, bold=True, width=room)
        if area.height() > 34:
            draw_text(painter, QPointF(12, area.y() + 29), lane.unit, scheme.soft, 10.5)
        span = frame.high - frame.low
        digits = 0 if span > 8 else 1 if span > 2 else 2
        low = 0.0 if abs(frame.low) < 0.5 and not digits else frame.low
        high = min(frame.high, 100.0) if lane.unit == "%" else frame.high
        right = self._left - 6
        draw_text(painter, QPointF(right, area.y() + 29), f"{high:.{digits}f}", scheme.soft, 10, right=True)
        draw_text(painter, QPointF(right, area.bottom() - 4), f"{low:.{digits}f}", scheme.soft, 10, right=True)


def _free_box(frame: LaneFrame, field: QRectF, y: float, wide: float, covered: list[Coverage]) -> QRectF:
    """Return a place beside a line at `y` that no curve covers, searched from the right; the rightmost when all are."""
    high = 13.0
    tops = [top for top in (y + 2, y - 15) if frame.area.y() < top and top + high < frame.area.bottom()] or [y + 2]
    steps = max(1, int((field.width() - wide) // (wide / 2)))
    for step in range(steps):
        left = field.right() - wide - step * wide / 2
        for top in tops:
            rows = slice(max(0, int(top - frame.area.y())), int(top - frame.area.y() + high))
            columns = slice(max(0, int(left - field.x())), int(left - field.x() + wide))
            if not any(coverage[rows, columns].any() for coverage in covered):
                return QRectF(left, top, wide, high)
    return QRectF(field.right() - wide, tops[0], wide, high)


def continuation_text(found: Continuation, value: float, limit: Limit | None) -> str:
    """Say where a rise leads: to its level, or before that to the limit, where the part will help itself."""
    if limit is not None and value < limit.value < found.level_c:
        return f"will reach its limit of {limit.value:.0f} °C in about {_lasting(found.until(value, limit.value))}"
    return f"will level at {found.level_c:.0f} °C in about {_lasting(found.seconds)}"


def _lasting(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 60 else f"{seconds / 60:.0f} min"
