"""A widget that paints itself from the bench's state and can say what stands under the mouse."""

from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPointF, QRectF
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QToolTip, QWidget

from thresher.ui.look import Look
from thresher.ui.state import BenchState


@dataclass(frozen=True, slots=True)
class Spot:
    """An area that can be asked: what it shows, where that was read, what it means."""

    area: QRectF
    text: str


class PaintedWidget(QWidget):
    """Base of the painted parts of the window. Subclasses implement `draw` and add to `spots` while drawing."""

    def __init__(self, state: BenchState, look: Look, name: str, parent: QWidget | None = None) -> None:
        """`name` is what a screen reader says."""
        super().__init__(parent)
        self.state = state
        self.look = look
        self.spots: list[Spot] = []
        self.setObjectName(name.replace(" ", "_"))
        self.setAccessibleName(name)
        state.refreshed.connect(self.update)
        state.machine_changed.connect(self.update)
        look.changed.connect(self.update)

    def draw(self, painter: QPainter) -> None:
        """Draw everything."""
        raise TypeError(f"{type(self).__name__} does not draw")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint, noting the spots again."""
        self.spots = []
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        self.draw(painter)
        painter.end()

    def spot_at(self, position: QPointF) -> Spot | None:
        """Return the innermost spot under a position: the last one drawn there."""
        return next((spot for spot in reversed(self.spots) if spot.area.contains(position)), None)

    def event(self, event: QEvent | None) -> bool:
        """Answer a question under the mouse."""
        if isinstance(event, QHelpEvent) and event.type() is QEvent.Type.ToolTip:
            spot = self.spot_at(QPointF(event.pos()))
            if spot is None:
                QToolTip.hideText()
            else:
                QToolTip.showText(event.globalPos(), spot.text, self)
            return True
        return super().event(event)
