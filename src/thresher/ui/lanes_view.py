"""The lanes: one strip of chart a quantity, drawn from the pyramid, with one cursor and one now line through all."""

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from thresher.model.findings import Severity
from thresher.model.sheet import clock_text
from thresher.sensors.lanes import Lane, value_range
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.state import BenchState
from thresher.ui.time_axis import LEFT_MARGIN, RIGHT_MARGIN, TimeAxis

_MOST_LANES = 6


class _LaneAxis(pg.AxisItem):
    """The left margin of a lane: title, unit, highest and lowest value, and the reading under the cursor."""

    def __init__(self, lane: Lane, look: Look) -> None:
        super().__init__("left")
        self._lane = lane
        self._look = look
        self.reading = ""
        if lane.limit is not None:
            limit = lane.limit
            self.setToolTip(f"{lane.title}: limit {limit.side.value} {limit.value:g} {lane.unit}, {limit.source}")
        self.setWidth(LEFT_MARGIN)
        self.setStyle(showValues=False, tickLength=0)

    def paint(self, painter: QPainter, _option: object, _widget: object) -> None:
        """Paint the margin instead of ticks."""
        scheme = self._look.scheme
        area: QRectF = self.mapRectFromParent(self.geometry())
        low, high = self.linkedView().viewRange()[1]
        digits = 0 if high - low > 20 else 2
        low = 0.0 if abs(low) < 0.5 and not digits else low
        high = min(high, 100.0) if self._lane.unit == "%" else high
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        top, right = area.y(), LEFT_MARGIN - 6.0
        draw_text(painter, QPointF(12, top + 16), self._lane.title, scheme.part(self._lane.kind), 12, bold=True)
        draw_text(painter, QPointF(12, top + 31), self._lane.unit, scheme.soft, 10.5)
        if self.reading:
            draw_text(painter, QPointF(12, top + 48), self.reading, scheme.ink, 12, bold=True)
        draw_text(painter, QPointF(right, top + 31), f"{high:.{digits}f}", scheme.soft, 10, right=True)
        draw_text(painter, QPointF(right, area.bottom() - 5), f"{low:.{digits}f}", scheme.soft, 10, right=True)


class _Strip:
    """One lane's plot and its curves."""

    def __init__(self, plot: pg.PlotItem, lane: Lane, margin: _LaneAxis) -> None:
        self.plot = plot
        self.lane = lane
        self.margin = margin
        self.curves: dict[int, pg.PlotCurveItem] = {}
        self.flags: dict[Severity, pg.PlotCurveItem] = {}
        self.grid = pg.PlotCurveItem()
        self.now = pg.InfiniteLine(angle=90)
        self.cursor = pg.InfiniteLine(angle=90)
        self.limit = pg.InfiniteLine(angle=0)
        self.limit_text = pg.TextItem(anchor=(1, 1))


class _Canvas(pg.GraphicsLayoutWidget):
    """The scene that the strips stand in; what a person does with it goes to the view."""

    zoomed = pyqtSignal(float, float)
    pointed = pyqtSignal(object)

    def __init__(self, view: "LanesView", ground: str) -> None:
        super().__init__(view)
        self._view = view
        self.setFrameShape(self.Shape.NoFrame)
        self.setBackground(ground)
        self.ci.layout.setContentsMargins(0, 0, RIGHT_MARGIN, 0)
        self.ci.layout.setSpacing(0)
        self.ci.setBorder(None)
        self.scene().sigMouseMoved.connect(lambda position: self.pointed.emit(position.x()))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom along time about the mouse."""
        if event is not None:
            self.zoomed.emit(1.25 if event.angleDelta().y() > 0 else 0.8, event.position().x())

    def leaveEvent(self, event: QEvent | None) -> None:
        """Take the cursor away."""
        self.pointed.emit(None)
        super().leaveEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paint the lanes, then the label of the now line over them."""
        super().paintEvent(event)
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._view.draw_now_label(painter)
        painter.end()


class LanesView(QWidget):
    """All lanes of a machine."""

    def __init__(self, state: BenchState, look: Look, axis: TimeAxis, parent: QWidget | None = None) -> None:
        """Share the run sheet's axis; the lanes themselves follow the machine."""
        super().__init__(parent)
        self.setObjectName("Lanes")
        self.setAccessibleName("Lanes")
        self.setMinimumHeight(220)
        self._state = state
        self._look = look
        self._axis = axis
        self._strips: list[_Strip] = []
        self._cursor_at: float | None = None
        self._built_for: tuple[object, ...] = ()
        self._canvas: _Canvas | None = None
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        state.machine_changed.connect(self._build)
        state.limits_changed.connect(self._build)
        state.refreshed.connect(self.redraw)
        axis.changed.connect(self.redraw)
        look.changed.connect(self._build)

    # ---- building

    def _build(self) -> None:
        """Build the strips for another machine or scheme; the same ones are kept and only drawn anew."""
        wanted = (self._state.lanes, self._look.scheme)
        if wanted != self._built_for:
            self._built_for = wanted
            self._replace_canvas()
        self.redraw()

    def _replace_canvas(self) -> None:
        # a new scene instead of a cleared one: items taken out of a scene may still be asked to paint
        old, self._canvas = self._canvas, _Canvas(self, self._look.scheme.panel)
        self._canvas.zoomed.connect(lambda factor, x: self._axis.zoom(factor, self._axis.time(x, self.width())))
        self._canvas.pointed.connect(self._on_pointed)
        canvas = self._canvas
        self._strips = [
            self._build_strip(canvas, row, lane) for row, lane in enumerate(self._state.lanes[:_MOST_LANES])
        ]
        self._column.addWidget(canvas)
        if old is not None:
            self._column.removeWidget(old)
            old.hide()
            old.deleteLater()

    def _build_strip(self, canvas: _Canvas, row: int, lane: Lane) -> _Strip:
        scheme = self._look.scheme
        margin = _LaneAxis(lane, self._look)
        plot = canvas.addPlot(row=row, col=0, axisItems={"left": margin})
        plot.hideAxis("bottom")
        plot.hideButtons()
        plot.setMenuEnabled(False)
        plot.setMouseEnabled(x=False, y=False)
        plot.setDefaultPadding(0)
        view = plot.getViewBox()
        view.setBorder(pg.mkPen(scheme.rule, width=1))
        view.disableAutoRange()
        strip = _Strip(plot, lane, margin)
        strip.grid.setPen(pg.mkPen(scheme.grid, width=1))
        plot.addItem(strip.grid)
        for severity, colour in ((Severity.WARNING, scheme.straw), (Severity.FAULT, scheme.fault)):
            ink = QColor(colour)
            ink.setAlphaF(0.75)
            curve = pg.PlotCurveItem(pen=pg.mkPen(ink, width=1, style=Qt.PenStyle.DotLine), connect="pairs")
            strip.flags[severity] = curve
            plot.addItem(curve)
        for channel in lane.channels:
            ink = scheme.part(lane.kind)
            ink.setAlphaF(0.8 if channel in lane.lead else 0.35)
            curve = pg.PlotCurveItem(pen=pg.mkPen(ink, width=1.2), connect="finite", antialias=True)
            strip.curves[channel] = curve
            plot.addItem(curve)
        if lane.limit is not None:
            strip.limit.setPen(pg.mkPen(scheme.fault, width=1.1, style=Qt.PenStyle.DashLine))
            strip.limit.setValue(lane.limit.value)
            strip.limit_text.setColor(QColor(scheme.fault))
            ground = QColor(scheme.panel)
            ground.setAlphaF(0.85)
            strip.limit_text.fill = pg.mkBrush(ground)
            plot.addItem(strip.limit)
            plot.addItem(strip.limit_text)
        strip.now.setPen(pg.mkPen(scheme.ink, width=1.6))
        strip.cursor.setPen(pg.mkPen(scheme.soft, width=1))
        strip.cursor.hide()
        plot.addItem(strip.now)
        plot.addItem(strip.cursor)
        return strip

    # ---- drawing

    def redraw(self) -> None:
        """Draw what is in view anew."""
        state = self._state
        if not self._strips or not self.isVisible():
            return
        origin = state.origin
        columns = max(50, self.width() - LEFT_MARGIN - RIGHT_MARGIN)
        flags = self._flag_times()
        for strip in self._strips:
            self._draw_strip(strip, origin, columns, flags)
        self._read_cursor()
        area = self._strips[0].plot.getViewBox().sceneBoundingRect()
        if area.width() > 50:
            self._axis.set_margins(area.left(), self.width() - area.right())

    def _flag_times(self) -> dict[Severity, np.ndarray]:
        findings = self._state.run_findings()
        return {
            severity: np.array([each.run_at or 0.0 for each in findings if each.severity is severity])
            for severity in (Severity.WARNING, Severity.FAULT)
        }

    def _draw_strip(self, strip: _Strip, origin: float, columns: int, flags: dict[Severity, np.ndarray]) -> None:
        state, axis = self._state, self._axis
        low, high = value_range(strip.lane, state.history, axis.begin + origin, axis.end + origin)
        view = strip.plot.getViewBox()
        view.setRange(xRange=(axis.begin, axis.end), yRange=(low, high), padding=0, disableAutoRange=True)
        for channel, curve in strip.curves.items():
            times, values = state.history.series(channel, axis.begin + origin, axis.end + origin, columns)
            curve.setData(times - origin, values)
        ticks = np.array(axis.ticks(self.width()))
        strip.grid.setData(np.repeat(ticks, 2), np.tile([low, high], len(ticks)), connect="pairs")
        for severity, curve in strip.flags.items():
            at = flags[severity]
            curve.setData(np.repeat(at, 2), np.tile([low, high], len(at)), connect="pairs")
        strip.now.setValue(state.now)
        limit = strip.lane.limit
        if limit is not None:
            shown = low <= limit.value <= high
            strip.limit.setVisible(shown)
            strip.limit_text.setVisible(shown)
            near_top = limit.value > (low + high) / 2
            strip.limit_text.setHtml(self._limit_html(strip.lane))
            strip.limit_text.setAnchor((1, 0) if near_top else (1, 1))
            strip.limit_text.setPos(axis.end, limit.value)
        strip.margin.update()

    def _limit_html(self, lane: Lane) -> str:
        limit = lane.limit
        text = f"{limit.side.value} {limit.value:g} {lane.unit}" if limit else ""
        room = self._axis.x(self._axis.end, self.width()) - self._axis.x(self._state.now, self.width())
        if limit and room > 320:  # with less, the source would cover the curves; the margin's tooltip has it
            text += f", {limit.source}"
        return f'<span style="font-family:B612;font-size:10px">{text}</span>'

    # ---- the cursor

    def _on_pointed(self, x: float | None) -> None:
        self._cursor_at = None if x is None else self._axis.time(x, self.width())
        self._read_cursor()

    def _read_cursor(self) -> None:
        at = self._cursor_at
        for strip in self._strips:
            strip.cursor.setVisible(at is not None)
            strip.margin.reading = ""
            if at is not None:
                strip.cursor.setValue(at)
                strip.margin.reading = self.reading_at(strip.lane, at)
            strip.margin.update()

    def reading_at(self, lane: Lane, at: float) -> str:
        """Return what a lane's leading channels read at a time on the axis: one value, or lowest to highest."""
        state = self._state
        span = 2.0 * (state.health.interval_s if state.health else 1.0)
        found = []
        for channel in lane.lead:
            times, values = state.history.series(channel, at + state.origin - span, at + state.origin + span, 1000)
            if len(times):
                nearest = int(np.abs(times - (at + state.origin)).argmin())
                if abs(times[nearest] - (at + state.origin)) <= span and not np.isnan(values[nearest]):
                    found.append(float(values[nearest]))
        if not found:
            return ""
        digits = 0 if max(found) > 20 else 2
        low, high = f"{min(found):.{digits}f}", f"{max(found):.{digits}f}"
        return low if low == high else f"{low}–{high}"

    def draw_now_label(self, painter: QPainter) -> None:
        """Write the time of the now line at its foot, when it is in view."""
        if not self._strips or not self._axis.begin <= self._state.now <= self._axis.end:
            return
        scheme = self._look.scheme
        x = self._axis.x(self._state.now, self.width())
        label = clock_text(self._state.now)
        wide = text_width(label, 11, bold=True) + 10
        left = min(max(x - wide / 2, LEFT_MARGIN), self.width() - wide - 2)
        area = QRectF(left, self.height() - 17, wide, 16)
        painter.setPen(QPen(Qt.PenStyle.NoPen))
        painter.setBrush(QColor(scheme.ink))
        painter.drawRoundedRect(area, 2, 2)
        draw_text(painter, QPointF(left + 5, self.height() - 5), label, scheme.panel, 11, bold=True)
