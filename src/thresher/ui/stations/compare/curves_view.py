"""The lanes of a comparison: the same quantity of all selected runs over each other, and their difference."""

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPixmap, QPolygonF
from PyQt6.QtWidgets import QWidget

from thresher.compare.comparison import Comparison, Curve, CurveSet, Difference
from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_text, panel, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.marks import colour_of, letter_of, pen_of

_LEFT, _RIGHT, _TOP, _GAP = 92.0, 30.0, 50.0, 10.0
_MOST_LANES = 5
_STEPS_S = (10, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 14400, 28800, 86400)


class CurvesView(PaintedWidget):
    """All lanes on one time axis, which begins when the load came on."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Runs over each other", parent)
        self.comparison: Comparison | None = None
        self.waiting = ""
        self._drawn: tuple[object, ...] = ()
        self._picture, self._picture_spots = QPixmap(), self.spots

    def show_comparison(self, comparison: Comparison | None, waiting: str = "") -> None:
        """Show a comparison, or why there is none."""
        self.comparison, self.waiting = comparison, waiting
        self.setAccessibleDescription(comparison.sentence if comparison is not None else waiting)
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw the lanes; the picture is kept until something in it changes, since the bench refreshes all the time."""
        now = (self.comparison, self.waiting, self.size(), self.look.scheme, self.devicePixelRatioF())
        if now != self._drawn or self._picture.isNull():
            self._drawn = now
            self._picture = QPixmap(self.size() * self.devicePixelRatioF())
            self._picture.setDevicePixelRatio(self.devicePixelRatioF())
            self._picture.fill(QColor(self.look.scheme.panel))
            inside = QPainter(self._picture)
            inside.setRenderHint(QPainter.RenderHint.Antialiasing)
            inside.setRenderHint(QPainter.RenderHint.TextAntialiasing)
            self._draw_whole(inside)
            inside.end()
            self._picture_spots = self.spots
        self.spots = self._picture_spots
        painter.drawPixmap(0, 0, self._picture)

    def _draw_whole(self, painter: QPainter) -> None:
        scheme, found = self.look.scheme, self.comparison
        title = f"{found.part.words}, from load on" if found is not None else "From load on"
        panel(painter, QRectF(self.rect()), scheme, title, self.waiting if found else "")
        if found is None:
            for number, line in enumerate(wrap(self.waiting, 13, self.width() - 28.0, 6)):
                draw_text(painter, QPointF(14, 56 + 19 * number), line, scheme.soft, 13)
            return
        length = max((curve.times[-1] for each in found.curves for curve in each.curves if curve), default=1.0)
        lanes: list[CurveSet | Difference] = list(found.curves)
        if found.difference is not None and found.difference.curve is not None:
            lanes.insert(1, found.difference)
        lanes = lanes[: self._room(len(lanes))]
        whole = self.height() - _TOP - 10.0
        shares = [_share(lane) for lane in lanes]
        self._draw_axis(painter, length, whole)
        top = _TOP
        for lane, share in zip(lanes, shares, strict=True):
            high = whole * share / sum(shares)
            area = QRectF(_LEFT, top, self.width() - _LEFT - _RIGHT, high - _GAP)
            top += high
            if isinstance(lane, Difference):
                self._draw_difference(painter, lane, area, length)
            else:
                self._draw_set(painter, lane, area, length)

    def _room(self, wanted: int) -> int:
        return max(1, min(wanted, _MOST_LANES, int((self.height() - _TOP) // 58)))

    def _draw_axis(self, painter: QPainter, length: float, high: float) -> None:
        scheme = self.look.scheme
        wide = self.width() - _LEFT - _RIGHT
        step = next((each for each in _STEPS_S if length / each <= 7), 86400 * math.ceil(length / 86400 / 7))
        for number in range(int(length // step) + 1):
            x = _LEFT + wide * number * step / length
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(x, _TOP), QPointF(x, _TOP + high - _GAP))
            draw_text(painter, QPointF(x - 12, _TOP - 8), clock_text(number * step), scheme.soft, 10.5)

    def _scale(self, painter: QPainter, area: QRectF, name: str, unit: str, low: float, high: float) -> None:
        scheme = self.look.scheme
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawRect(area)
        draw_text(painter, QPointF(12, area.y() + 14), name, scheme.processor, 12, bold=True, width=_LEFT - 40)
        draw_text(painter, QPointF(12, area.y() + 29), unit, scheme.soft, 10.5, width=_LEFT - 40)
        digits = 0 if high - low >= 20 else 1 if high - low >= 2 else 2
        for value, y in ((high, area.y() + 8), (low, area.bottom())):
            draw_text(painter, QPointF(_LEFT - 6, y), f"{value:,.{digits}f}", scheme.soft, 10.5, right=True)

    def _draw_set(self, painter: QPainter, lane: CurveSet, area: QRectF, length: float) -> None:
        scheme = self.look.scheme
        curves = [curve for curve in lane.curves if curve is not None]
        low, high = min(min(each.low[_later(each) :]) for each in curves), max(max(each.high) for each in curves)
        if lane.unit == "°C":
            low = min(min(each.low) for each in curves)
        if lane.limit is not None and lane.limit - high < (high - low):
            high = max(high, lane.limit)
        pad = max((high - low) * 0.08, 0.02 * abs(high), 1e-6)
        low, high = low - pad, high + pad
        self._scale(painter, area, lane.name, lane.unit, low, high)
        if lane.limit is not None and low <= lane.limit <= high:
            y = _y(area, lane.limit, low, high)
            painter.setPen(QPen(QColor(scheme.fault), 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(area.x(), y), QPointF(area.right(), y))
            words = f"limit {lane.limit:g}"
            draw_text(painter, QPointF(area.x() + 5, y + 12), words, scheme.fault, 10.5)
        painter.save()
        painter.setClipRect(area.adjusted(0, -2, 0, 2))
        ends = [
            (self._draw_curve(painter, curve, place, area, length, low, high), place)
            for place, curve in enumerate(lane.curves)
            if curve is not None
        ]
        painter.restore()
        self._letters(painter, ends, area)
        words = "; ".join(
            f"{letter_of(place)} {curve.low[-1]:,.4g} {lane.unit} at the end"
            for place, curve in enumerate(lane.curves)
            if curve is not None
        )
        self.spots.append(Spot(area, f"{lane.name}: {words}"))

    def _draw_curve(
        self, painter: QPainter, curve: Curve, place: int, area: QRectF, length: float, low: float, high: float
    ) -> QPointF:
        """Draw a run's strip from lowest to highest, and return where it ends."""
        xs = [area.x() + area.width() * time / length for time in curve.times]
        tops = [_y(area, value, low, high) for value in curve.high]
        bottoms = [_y(area, value, low, high) for value in curve.low]
        if any(bottom - top > 1.5 for top, bottom in zip(tops, bottoms, strict=True)):
            shade = colour_of(place, self.look.scheme)
            shade.setAlpha(60)
            outline = [QPointF(x, y) for x, y in zip(xs, tops, strict=True)]
            outline += [QPointF(x, y) for x, y in zip(reversed(xs), reversed(bottoms), strict=True)]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(shade)
            painter.drawPolygon(QPolygonF(outline))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen_of(place, self.look.scheme))
        middle = [QPointF(x, (top + bottom) / 2) for x, top, bottom in zip(xs, tops, bottoms, strict=True)]
        painter.drawPolyline(QPolygonF(middle))
        return middle[-1]

    def _letters(self, painter: QPainter, ends: list[tuple[QPointF, int]], area: QRectF) -> None:
        """Write each run's letter where its curve ends, moved apart where they would lie over each other."""
        at = -math.inf
        for end, place in sorted(ends, key=lambda each: (each[0].y(), each[1])):
            early = end.x() < area.right() - 20.0
            at = at if early else max(at + 12.0, end.y() + 4.0)
            where = QPointF(end.x() + 6, end.y() + 4.0) if early else QPointF(area.right() + 6, at)
            draw_text(painter, where, letter_of(place), colour_of(place, self.look.scheme), 11.5, bold=True)

    def _draw_difference(self, painter: QPainter, lane: Difference, area: QRectF, length: float) -> None:
        scheme, curve = self.look.scheme, lane.curve
        assert curve is not None and lane.change is not None
        low, high = min(0.0, *curve.low) - 0.5, max(0.0, *curve.high) + 0.5
        first, second = letter_of(lane.first), letter_of(lane.second)
        self._scale(painter, area, f"{second} less {first}", "K", low, high)
        zero = _y(area, 0.0, low, high)
        painter.setPen(QPen(QColor(scheme.soft), 1))
        painter.drawLine(QPointF(area.x(), zero), QPointF(area.right(), zero))
        xs = [area.x() + area.width() * time / length for time in curve.times]
        shade = colour_of(lane.second, scheme)
        shade.setAlpha(70)
        outline = [QPointF(x, _y(area, value, low, high)) for x, value in zip(xs, curve.high, strict=True)]
        lower = zip(reversed(xs), reversed(curve.low), strict=True)
        outline += [QPointF(x, _y(area, value, low, high)) for x, value in lower]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(shade)
        painter.drawPolygon(QPolygonF(outline))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(pen_of(lane.second, scheme))
        middle = [QPointF(x, _y(area, value, low, high)) for x, value in zip(xs, lane.middle, strict=True)]
        painter.drawPolyline(QPolygonF(middle))
        equal = "at equal power and room" if lane.change.power_w is not None else "above the room"
        self.spots.append(Spot(area, f"{second} less {first} {equal}: {lane.change.sentence}"))


def _share(lane: "CurveSet | Difference") -> float:
    """What is compared gets the most height."""
    return 1.4 if isinstance(lane, Difference) else 2.0 if lane.unit == "°C" else 1.0


def _later(curve: Curve) -> int:
    """Return from which point on a curve counts for the scale: the jump when the load comes on does not."""
    return min(len(curve.times) - 1, 1 + len(curve.times) // 50)


def _y(area: QRectF, value: float, low: float, high: float) -> float:
    return area.bottom() - area.height() * (value - low) / (high - low)
