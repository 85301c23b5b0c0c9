"""The rail on the left: six stations in the order of the work."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

STATIONS = ("Intake", "Bench", "Evidence", "Parts", "Compare", "Hand over")
_HIGH = 76.0


class Rail(PaintedWidget):
    """Big numbers; the present station stands on a lighter ground. `chosen` gives the number, from 0."""

    chosen = pyqtSignal(int)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin at the Bench."""
        super().__init__(state, look, "Stations", parent)
        self.setFixedWidth(78)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.current = 1

    def show_station(self, number: int) -> None:
        """Mark a station as the present one."""
        self.current = number
        self.setAccessibleDescription(f"Station {number + 1}, {STATIONS[number]}")
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw the six stations."""
        scheme, wide = self.look.scheme, float(self.width())
        painter.fillRect(self.rect(), QColor(scheme.rail))
        high = min(_HIGH, self.height() / len(STATIONS))
        for number, name in enumerate(STATIONS):
            area = QRectF(0, number * high + 6, wide, high - 6)
            here = number == self.current
            if here:
                painter.fillRect(area, QColor(scheme.panel))
                painter.fillRect(QRectF(0, area.y(), 4, area.height()), QColor(scheme.straw))
            figure = str(number + 1)
            middle = area.center().x()
            colour = scheme.ink if here else scheme.soft
            draw_text(
                painter, QPointF(middle - text_width(figure, 24, True) / 2, area.y() + 34), figure, colour, 24, True
            )
            draw_text(painter, QPointF(middle - text_width(name, 12, here) / 2, area.y() + 54), name, colour, 12, here)
            self.spots.append(Spot(area, f"{name} (Ctrl+{number + 1})"))
            count = len(self.state.run_findings())
            if name == "Evidence" and count:
                self._draw_count(painter, QPointF(wide - 18, area.y() + 16), count)
            if here and self.hasFocus():
                painter.setPen(QPen(QColor(scheme.ink), 1, Qt.PenStyle.DotLine))
                painter.drawRect(area.adjusted(6, 2, -3, -3))

    def _draw_count(self, painter: QPainter, centre: QPointF, count: int) -> None:
        scheme = self.look.scheme
        text = str(count) if count < 100 else "99+"
        wide = text_width(text, 11, True)
        half = max(9.0, wide / 2 + 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(scheme.stop))
        painter.drawRoundedRect(QRectF(centre.x() - half, centre.y() - 9, 2 * half, 18), 9, 9)
        draw_text(painter, QPointF(centre.x() - wide / 2, centre.y() + 4), text, scheme.on_stop, 11, True)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the station under the mouse."""
        if event is None:
            return
        for number, spot in enumerate(each for each in self.spots if "Ctrl+" in each.text):
            if spot.area.contains(event.position()):
                self.chosen.emit(number)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go up and down."""
        if event is None:
            return
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
        else:
            self.chosen.emit((self.current + step) % len(STATIONS))
