"""Signatures over time: a row each, with the blocks and the temperature behind."""

from datetime import datetime

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPainterPath, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from thresher.model.channels import Quantity
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.evidence.entries import Entry
from thresher.ui.time_axis import TimeAxis

_LEFT, _RIGHT, _TOP, _BOTTOM, _ROW = 190.0, 14.0, 34.0, 22.0, 22.0
_TINT = 28
_LABEL = 46.0
_CURVE_POINTS = 400
_A_DATE = 1e8
"""Seconds above this are Unix time; no machine has been up for three years."""


class SignatureTimeline(PaintedWidget):
    """Painted rows; `picked` gives the number of the signature that was clicked."""

    picked = pyqtSignal(int)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Signatures over time", parent)
        self.axis = TimeAxis(self)
        self.axis.set_margins(_LEFT, _RIGHT)
        self.axis.changed.connect(self.update)
        self._entries: list[Entry] = []
        self._chosen = -1
        self._first = 0
        self._elsewhere = False

    def set_entries(self, entries: list[Entry], chosen: int, elsewhere: bool) -> None:
        """Show these signatures, one of them marked (-1: none).

        `elsewhere` for a log that is not of this bench: it has a time of its own and no blocks behind it.
        """
        if elsewhere != self._elsewhere:
            self.axis.follow()
        self._entries, self._chosen, self._elsewhere = [each for each in entries if each.group], chosen, elsewhere
        entries = self._entries
        rows = self._rows()
        if chosen >= 0:
            self._first = min(self._first, chosen) if chosen < self._first else max(self._first, chosen - rows + 1)
        self._first = max(0, min(self._first, len(entries) - rows))
        self.update()

    def _rows(self) -> int:
        return max(1, int((self.height() - _TOP - _BOTTOM) / _ROW))

    def _origin(self) -> float:
        """Time at 0 of the axis: the run's start, or the first sign of a log from elsewhere."""
        if not self._elsewhere:
            return self.state.origin
        return min((each.group.first for each in self._entries if each.group), default=0.0)

    def _fit(self) -> None:
        """Show the run while nobody has zoomed, or the span of what there is without a run."""
        run, now = self.state.run, self.state.now
        if run.run is not None and not self._elsewhere:
            self.axis.fit(-30.0, max(run.length_s, 60.0, now if run.state != "ended" else run.run_at + 60.0) * 1.01)
            return
        origin = self._origin()
        times = [time - origin for each in self._entries if each.group for time in (each.group.first, each.group.last)]
        span = max([60.0, *times]) - min([0.0, *times])
        self.axis.fit(min([0.0, *times]) - 0.03 * span, max([60.0, *times]) + 0.03 * span)

    def draw(self, painter: QPainter) -> None:
        """Draw blocks and temperature, then the rows over them."""
        self._fit()
        scheme, area = self.look.scheme, QRectF(self.rect())
        painter.fillRect(area, QColor(scheme.panel))
        painter.setPen(QPen(QColor(scheme.rule), 1.5))
        painter.drawRect(area.adjusted(0.75, 0.75, -0.75, -0.75))
        draw_text(painter, QPointF(12, 21), "WHEN", scheme.soft, 11, bold=True)
        aside = "blocks and the hottest core behind" if self.state.run.run is not None else "no run yet"
        if self._elsewhere:
            aside = "by the log's own clock"
        draw_text(painter, QPointF(area.right() - 12, 21), aside, scheme.soft, 11, right=True)
        plot = QRectF(_LEFT, _TOP, max(1.0, area.width() - _LEFT - _RIGHT), max(1.0, area.height() - _TOP - _BOTTOM))
        painter.save()
        painter.setClipRect(plot)
        if not self._elsewhere:
            self._draw_blocks(painter, plot)
            self._draw_temperature(painter, plot)
        painter.restore()
        self._draw_axis(painter, plot)
        if not self._entries:
            words = "No signs of trouble in this list." if self.state.snapshot else "Waiting for the engine."
            if self._elsewhere:
                words = "The decoded entries have no times."
            draw_text(painter, QPointF(_LEFT + 12, _TOP + 22), words, scheme.soft, 12.5)
        shown = self._entries[self._first : self._first + self._rows()]
        for number, entry in enumerate(shown):
            self._draw_row(painter, entry, plot, _TOP + number * _ROW, self._first + number == self._chosen)
        hidden = len(self._entries) - len(shown)
        if hidden > 0:
            text = f"{hidden} more, by the wheel or the list"
            draw_text(painter, QPointF(12, area.bottom() - 8), text, scheme.soft, 10.5)
        self.setAccessibleDescription("; ".join(f"{each.thing.code} {each.thing.title}" for each in self._entries[:20]))

    def _draw_blocks(self, painter: QPainter, plot: QRectF) -> None:
        for item in self.state.run.plan:
            if item.gate or item.state is StepState.COMING:
                continue
            end = self.state.now if item.state is StepState.RUNNING else item.end_s
            left, right = self.axis.x(item.start_s, self.width()), self.axis.x(end, self.width())
            colour = self.look.scheme.part(item.row)
            colour.setAlpha(_TINT)
            painter.fillRect(QRectF(left, plot.y(), max(1.0, right - left), plot.height()), colour)
            draw_text(
                painter,
                QPointF(left + 5, plot.bottom() - 5),
                item.title,
                self.look.scheme.part(item.row),
                10.5,
                width=max(0.0, right - left - 8),
            )

    def _draw_temperature(self, painter: QPainter, plot: QRectF) -> None:
        """Draw the hottest temperature of the processor as a thin line on the plot's own height."""
        indexes = self.state.find_channels(Quantity.TEMPERATURE, PartKind.PROCESSOR)
        if not indexes or self.state.history.span is None:
            return
        origin = self.state.origin
        begin, end = self.axis.begin + origin, self.axis.end + origin
        times, _, highest = self.state.history.envelope(indexes, begin, end, _CURVE_POINTS)
        known = ~np.isnan(highest)
        times, highest = times[known], highest[known]
        if len(times) < 2:
            return
        low, high = float(highest.min()) - 2, float(highest.max()) + 2
        path = QPainterPath()
        for number, (at, value) in enumerate(zip(times, highest, strict=True)):
            point = QPointF(
                self.axis.x(float(at) - origin, self.width()),
                plot.bottom() - (float(value) - low) / (high - low) * plot.height(),
            )
            if number:
                path.lineTo(point)
            else:
                path.moveTo(point)
        colour = QColor(self.look.scheme.straw)
        colour.setAlpha(150)
        painter.setPen(QPen(colour, 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        scheme = self.look.scheme
        for value, y in ((high - 2, plot.y() + 11), (low + 2, plot.bottom() - 18)):
            draw_text(painter, QPointF(plot.right() - 4, y), f"{value:.0f} °C", scheme.soft, 10.5, right=True)

    def _draw_axis(self, painter: QPainter, plot: QRectF) -> None:
        scheme = self.look.scheme
        for tick in self.axis.ticks(self.width()):
            x = self.axis.x(tick, self.width())
            if plot.left() <= x <= plot.right():
                painter.setPen(QPen(QColor(scheme.grid), 1))
                painter.drawLine(QPointF(x, plot.y()), QPointF(x, plot.bottom()))
                if x + _LABEL <= plot.right():
                    draw_text(painter, QPointF(x + 3, plot.bottom() + 14), self._tick_text(tick), scheme.soft, 10.5)
        if self._elsewhere:
            return
        now = self.axis.x(self.state.now, self.width())
        if plot.left() <= now <= plot.right():
            painter.setPen(QPen(QColor(scheme.ink), 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(now, plot.y()), QPointF(now, plot.bottom()))

    def _tick_text(self, tick: float) -> str:
        """Say a time on the axis: of a log that gives the time of day, that."""
        at = tick + self._origin()
        if self._elsewhere and at > _A_DATE:
            return datetime.fromtimestamp(at).astimezone().strftime("%H:%M")
        return clock_text(tick)

    def _draw_row(self, painter: QPainter, entry: Entry, plot: QRectF, y: float, chosen: bool) -> None:
        scheme, group = self.look.scheme, entry.group
        if chosen:
            painter.fillRect(QRectF(4, y + 1, _LEFT - 8, _ROW - 2), QColor(scheme.grid))
        colour = scheme.fault if entry.severity is Severity.FAULT else scheme.ink
        draw_text(painter, QPointF(12, y + 15), entry.thing.code, colour, 11, True, True)
        name = (group.place if group else "") or entry.thing.title
        draw_text(painter, QPointF(62, y + 15), name, scheme.ink, 11.5, width=_LEFT - 70)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawLine(QPointF(8, y + _ROW), QPointF(plot.right(), y + _ROW))
        self.spots.append(Spot(QRectF(0, y, _LEFT, _ROW), f"{entry.thing.title}\n{entry.thing.words}"))
        if group is None:
            return
        part = scheme.part(entry.part)
        origin, before = self._origin(), 0
        by_pixel: dict[int, int] = {}
        for at, count in group.times:
            # a bucket stands at its beginning; its finding lies somewhere in the minute after it
            time = min(max(at, group.first), group.last) - origin
            x = self.axis.x(time, self.width())
            if x < plot.left():
                before += count
            elif x <= plot.right():
                by_pixel[int(x)] = by_pixel.get(int(x), 0) + count
        for pixel, count in by_pixel.items():
            high = min(_ROW - 6.0, 6.0 + 2.2 * float(np.log2(1 + count)))
            painter.fillRect(QRectF(pixel - 1.0, y + (_ROW - high) / 2, 3.0, high), part)
        if before:
            draw_text(painter, QPointF(plot.left() + 4, y + 15), f"◂ {before} before", scheme.soft, 10.5)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Pick a row."""
        if event is not None and event.position().y() > _TOP:
            row = self._first + int((event.position().y() - _TOP) / _ROW)
            if 0 <= row < len(self._entries):
                self.picked.emit(row)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Scroll the rows; with Ctrl zoom the time."""
        if event is None:
            return
        steps = event.angleDelta().y() / 120
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.axis.zoom(1.25**steps, self.axis.time(event.position().x(), self.width()))
        else:
            self._first = int(max(0, min(len(self._entries) - self._rows(), self._first - steps)))
            self.update()
        event.accept()
