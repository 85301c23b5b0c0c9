"""Stations that are not built yet say in one line what they will hold."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from thresher.ui.look import Look, draw_text, panel
from thresher.ui.painted import PaintedWidget
from thresher.ui.rail import STATIONS
from thresher.ui.state import BenchState

WILL_HOLD = {
    "Hand over": "The report as it will print, its seal, exports, and the history of the machine.",
}


class ComingStation(PaintedWidget):
    """A sheet of paper with one line."""

    def __init__(self, number: int, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Name the station."""
        self._name = STATIONS[number]
        super().__init__(state, look, f"{self._name} station", parent)

    def draw(self, painter: QPainter) -> None:
        """Draw the line."""
        scheme = self.look.scheme
        area = QRectF(self.rect()).adjusted(12, 8, -12, -8)
        panel(painter, area, scheme, self._name, "not built yet")
        draw_text(painter, QPointF(area.x() + 24, area.y() + 70), "This station will hold", scheme.soft, 13)
        line = WILL_HOLD[self._name]
        draw_text(painter, QPointF(area.x() + 24, area.y() + 98), line, scheme.ink, 16, width=area.width() - 48)
