"""Painting the run sheet: the time axis, the rows, the plan of a run on its way, the draft being edited, the flags."""

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

from thresher.compose.draft import Placed
from thresher.compose.geometry import Area, SheetLayout
from thresher.model.findings import Finding, Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import Block, SheetItem, clock_text
from thresher.protocol.status import PlanItem
from thresher.ui.look import draw_text, text_width
from thresher.ui.painted import Spot
from thresher.ui.theme import Scheme
from thresher.ui.time_axis import LEFT_MARGIN, RIGHT_MARGIN, TimeAxis

FLAG_HIGH = 14.0
_HANDLE = 5.0


def row_title(kind: PartKind) -> str:
    """Return what a row is called."""
    return "Drives" if kind is PartKind.DRIVE else kind.value.capitalize()


@dataclass(frozen=True, slots=True)
class DrawnItem:
    """An item of the draft as it is drawn: where, whether it is selected, and what is wrong with it."""

    placed: Placed
    area: Area
    chosen: bool
    fault: str


class SheetPainter:
    """Paints one frame of the run sheet and collects what can be asked."""

    def __init__(self, painter: QPainter, scheme: Scheme, axis: TimeAxis, layout: SheetLayout, size: QRectF) -> None:
        """`size` is the widget's."""
        self._painter, self._scheme, self._axis, self._layout = painter, scheme, axis, layout
        self._wide, self._high = size.width(), size.height()
        self.spots: list[Spot] = []
        self._colours: dict[PartKind, QColor] = {}

    def clip(self) -> None:
        """Let what follows end at the axis."""
        self._painter.setClipRect(QRectF(LEFT_MARGIN, 0, self._wide - LEFT_MARGIN - RIGHT_MARGIN + 1, self._high))

    def ground(self) -> None:
        """Paint the ticks of the time axis and the rows with their names."""
        painter, scheme, layout, wide = self._painter, self._scheme, self._layout, self._wide
        for tick in self._axis.ticks(wide):
            x = self._axis.x(tick, wide)
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(x, layout.top - 4), QPointF(x, self._high))
            if tick < 0:
                continue  # before the run: readings, but nothing planned
            label = clock_text(tick)
            half = text_width(label, 10.5) / 2
            x_text = min(max(x - half, LEFT_MARGIN - half), wide - 2 * half - 2)
            draw_text(painter, QPointF(x_text, 13), label, scheme.soft, 10.5)
        for number, row in enumerate(layout.rows):
            y = layout.top + number * layout.row_height
            middle = y + layout.row_height / 2 + 4
            draw_text(painter, QPointF(12, middle), row_title(row), scheme.part(row), 12, bold=True)
            painter.setPen(QPen(QColor(scheme.grid), 1))
            bottom = y + layout.row_height - 1
            painter.drawLine(QPointF(12, bottom), QPointF(wide - RIGHT_MARGIN, bottom))

    def planned(self, item: PlanItem, picked: bool = False) -> QRectF | None:
        """Paint a gate or block of a run on its way and return where; None for one that was left out."""
        if item.state is StepState.LEFT_OUT:
            return None
        painter, scheme, layout = self._painter, self._scheme, self._layout
        left, right = self._axis.x(item.start_s, self._wide), self._axis.x(item.end_s, self._wide)
        row = layout.rows.index(item.row) if item.row in layout.rows else 0
        area = QRectF(left, layout.top + row * layout.row_height + 2, max(3.0, right - left), layout.row_height - 6)
        start, end = clock_text(item.start_s), clock_text(item.end_s)
        lasting = clock_text(item.end_s - item.start_s)
        about = f"{item.title}: {start} to {end} ({lasting}), {item.state}\n{item.about}".strip()
        self.spots.append(Spot(area, about))
        if item.gate:
            painter.setPen(QPen(QColor(scheme.soft), 1.1, Qt.PenStyle.DashLine))
            painter.setBrush(QColor(scheme.panel))
            painter.drawRect(area)
            ink = scheme.soft
        else:
            ink = self._block(area, item.row, item.state is StepState.COMING)
        if area.width() > 26:
            middle = area.center().y() + 4
            draw_text(painter, QPointF(area.x() + 6, middle), item.title, ink, 11, width=area.width() - 10)
        if picked:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(scheme.straw), 2.4))
            painter.drawRect(area.adjusted(-1, -1, 1, 1))
        return area

    def _block(self, area: QRectF, row: PartKind | None, pale: bool) -> str:
        """Paint the ground of a block and return the colour of what is written on it."""
        colour = self._scheme.part(row)
        if pale:
            colour.setAlphaF(0.28)
        self._painter.setPen(Qt.PenStyle.NoPen)
        self._painter.setBrush(colour)
        self._painter.drawRoundedRect(area, 2, 2)
        return self._scheme.ink if pale else self._scheme.on_part

    def drafted(self, item: DrawnItem, words: Callable[[SheetItem], str]) -> None:
        """Paint a gate or block of the draft; selected ones have a frame with handles, wrong ones a dashed one.

        `words` gives what is written on it, and is asked only where there is room for it.
        """
        painter, scheme = self._painter, self._scheme
        area = QRectF(item.area.x, item.area.y, max(3.0, item.area.width), item.area.height)
        sheet_item = item.placed.item
        if isinstance(sheet_item, Block):
            colour = self._colours.get(sheet_item.row)
            if colour is None:
                colour = self._colours[sheet_item.row] = scheme.part(sheet_item.row)
            painter.fillRect(area, colour)
            ink, text_y = scheme.on_part, area.center().y() + 4
        else:
            ground = QColor(scheme.panel)
            ground.setAlphaF(0.8)
            painter.setBrush(ground)
            painter.setPen(QPen(QColor(scheme.soft), 1.1, Qt.PenStyle.DashLine))
            painter.drawRect(area)
            ink, text_y = scheme.soft, area.y() + 15
        if area.width() > 26:
            draw_text(painter, QPointF(area.x() + 7, text_y), words(sheet_item), ink, 11, width=area.width() - 12)
        if item.fault:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(scheme.fault), 2.6, Qt.PenStyle.DashLine))
            painter.drawRect(area.adjusted(2, 2, -2, -2))
        if item.chosen:
            self._frame(area)

    def _frame(self, area: QRectF) -> None:
        """The frame of a selected item, with a handle on each edge where there is room."""
        painter, scheme = self._painter, self._scheme
        straw = QColor(scheme.straw)
        if area.width() < 3 * _HANDLE:
            painter.fillRect(QRectF(area.x() - 2, area.y() - 3, area.width() + 4, 3), straw)
            painter.fillRect(QRectF(area.x() - 2, area.bottom(), area.width() + 4, 3), straw)
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(straw, 2.4))
        painter.drawRect(area.adjusted(-2, -2, 2, 2))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(straw)
        high = min(12.0, area.height() - 4)
        for x in (area.left() - 2, area.right() + 2):
            painter.drawRect(QRectF(x - _HANDLE / 2, area.center().y() - high / 2, _HANDLE, high))

    def snapped(self, seconds: float, words: str) -> None:
        """Paint what a dragged edge has snapped to."""
        painter, scheme = self._painter, self._scheme
        x = self._axis.x(seconds, self._wide)
        painter.setPen(QPen(QColor(scheme.straw), 1.4, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, self._layout.top - 4), QPointF(x, self._layout.bottom))
        wide = text_width(words, 10.5)
        x_text = x + 4 if x + wide + 8 < self._wide - RIGHT_MARGIN else x - wide - 4
        draw_text(painter, QPointF(x_text, self._layout.bottom + 12), words, scheme.ink, 10.5)

    def place(self, seconds: float) -> None:
        """Paint where the next block goes."""
        x = self._axis.x(seconds, self._wide)
        self._painter.setPen(QPen(QColor(self._scheme.straw), 1.4))
        self._painter.drawLine(QPointF(x, self._layout.top - 4), QPointF(x, self._layout.bottom))

    def now(self, seconds: float) -> None:
        """Paint the now line."""
        x = self._axis.x(seconds, self._wide)
        self._painter.setPen(QPen(QColor(self._scheme.ink), 1.6))
        self._painter.drawLine(QPointF(x, self._layout.top - 6), QPointF(x, self._high))

    def flags(self, findings: list[Finding]) -> None:
        """Paint the flags of findings below the rows."""
        painter, scheme, y = self._painter, self._scheme, self._layout.bottom
        painter.setPen(Qt.PenStyle.NoPen)
        last_x = -100.0
        for finding in findings:
            x = self._axis.x(finding.run_at or 0.0, self._wide)
            fault = finding.severity is Severity.FAULT
            if x - last_x < 2 and not fault:
                continue  # a storm of flags at one pixel is one flag
            last_x = x
            painter.setBrush(QColor(scheme.fault if fault else scheme.straw))
            half = 5.5
            painter.drawPolygon(QPolygonF([QPointF(x - half, y + 3), QPointF(x + half, y + 3), QPointF(x, y + 12)]))
            text = f"{clock_text(finding.run_at or 0.0)}  {finding.code}  {finding.title}\n{finding.detail}"
            self.spots.append(Spot(QRectF(x - half, y, 2 * half, FLAG_HIGH), text))
