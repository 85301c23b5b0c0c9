"""The run sheet: what is to come and what has been, on the axis that the lanes share."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PyQt6.QtWidgets import QWidget

from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import clock_text
from thresher.protocol.status import PlanItem
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.time_axis import LEFT_MARGIN, RIGHT_MARGIN, TimeAxis

_ROWS = (PartKind.PROCESSOR, PartKind.MEMORY, PartKind.GRAPHICS, PartKind.DRIVE)
_ROW_HIGH = 24.0
_TOP = 22.0
_FLAG_HIGH = 14.0


class RunSheetView(PaintedWidget):
    """Rows by part, blocks and gates on the time axis, the now line and the flags of findings."""

    def __init__(self, state: BenchState, look: Look, axis: TimeAxis, parent: QWidget | None = None) -> None:
        """Share the lanes' axis."""
        super().__init__(state, look, "Run sheet", parent)
        self._axis = axis
        self._dragged_from: float | None = None
        axis.changed.connect(self.update)
        self.setFixedHeight(int(_TOP + _ROW_HIGH * len(_ROWS) + _FLAG_HIGH + 4))

    def draw(self, painter: QPainter) -> None:
        """Draw ticks, rows, blocks, flags and the now line."""
        scheme, axis, wide = self.look.scheme, self._axis, self.width()
        bottom = _TOP + _ROW_HIGH * len(_ROWS)
        for tick in axis.ticks(wide):
            x = axis.x(tick, wide)
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(x, _TOP - 4), QPointF(x, self.height()))
            if tick < 0:
                continue  # before the run: readings, but nothing planned
            label = clock_text(tick)
            half = text_width(label, 10.5) / 2
            x_text = min(max(x - half, LEFT_MARGIN - half), wide - 2 * half - 2)
            draw_text(painter, QPointF(x_text, 13), label, scheme.soft, 10.5)
        for number, row in enumerate(_ROWS):
            y = _TOP + number * _ROW_HIGH
            title = "Drives" if row is PartKind.DRIVE else row.value.capitalize()
            draw_text(painter, QPointF(12, y + 16), title, scheme.part(row), 12, bold=True)
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(12, y + _ROW_HIGH - 1), QPointF(wide - RIGHT_MARGIN, y + _ROW_HIGH - 1))
        painter.setClipRect(QRectF(LEFT_MARGIN, 0, wide - LEFT_MARGIN - RIGHT_MARGIN + 1, self.height()))
        for item in self.state.run.plan:
            self._draw_item(painter, item)
        self._draw_flags(painter, bottom)
        x = axis.x(self.state.now, wide)
        painter.setPen(QPen(QColor(scheme.ink), 1.6))
        painter.drawLine(QPointF(x, _TOP - 6), QPointF(x, self.height()))
        painter.setClipping(False)
        self.setAccessibleDescription(
            "; ".join(f"{item.title} from {clock_text(item.start_s)}, {item.state}" for item in self.state.run.plan)
        )

    def _draw_item(self, painter: QPainter, item: PlanItem) -> None:
        scheme, axis, wide = self.look.scheme, self._axis, self.width()
        left, right = axis.x(item.start_s, wide), axis.x(item.end_s, wide)
        row = _ROWS.index(item.row) if item.row in _ROWS else 0
        area = QRectF(left, _TOP + row * _ROW_HIGH + 2, max(3.0, right - left), _ROW_HIGH - 6)
        start, end = clock_text(item.start_s), clock_text(item.end_s)
        lasting = clock_text(item.end_s - item.start_s)
        reported = f"{item.title}: {start} to {end} ({lasting}), {item.state}\n{item.about}".strip()
        self.spots.append(Spot(area, reported))
        if item.gate:
            painter.setPen(QPen(QColor(scheme.soft), 1.1, Qt.PenStyle.DashLine))
            painter.setBrush(QColor(scheme.panel))
            painter.drawRect(area)
            ink = scheme.soft
        else:
            colour = scheme.part(item.row)
            if item.state is StepState.COMING:
                colour.setAlphaF(0.28)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawRoundedRect(area, 2, 2)
            ink = scheme.ink if item.state is StepState.COMING else scheme.on_part
        if area.width() > 26:
            draw_text(painter, QPointF(area.x() + 6, area.y() + 13), item.title, ink, 11, width=area.width() - 10)

    def _draw_flags(self, painter: QPainter, y: float) -> None:
        scheme, axis, wide = self.look.scheme, self._axis, self.width()
        painter.setPen(Qt.PenStyle.NoPen)
        last_x = -100.0
        for finding in self.state.run_findings():
            x = axis.x(finding.run_at or 0.0, wide)
            fault = finding.severity is Severity.FAULT
            if x - last_x < 2 and not fault:
                continue  # a storm of flags at one pixel is one flag
            last_x = x
            painter.setBrush(QColor(scheme.fault if fault else scheme.straw))
            half = 5.5
            painter.drawPolygon(QPolygonF([QPointF(x - half, y + 3), QPointF(x + half, y + 3), QPointF(x, y + 12)]))
            text = f"{clock_text(finding.run_at or 0.0)}  {finding.code}  {finding.title}\n{finding.detail}"
            self.spots.append(Spot(QRectF(x - half, y, 2 * half, _FLAG_HIGH), text))

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the time under the mouse."""
        if event is not None:
            around = self._axis.time(event.position().x(), self.width())
            self._axis.zoom(1.25 if event.angleDelta().y() > 0 else 0.8, around)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Begin to pan."""
        if event is not None:
            self._dragged_from = event.position().x()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Pan."""
        if event is None or self._dragged_from is None:
            return
        moved = self._axis.time(self._dragged_from, self.width()) - self._axis.time(event.position().x(), self.width())
        self._dragged_from = event.position().x()
        self._axis.look_at(self._axis.begin + moved, self._axis.end + moved)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        """End panning."""
        self._dragged_from = None
