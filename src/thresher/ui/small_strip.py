"""A small strip that stays on top of other programs: headroom, slowest core, findings, elapsed time, and Stop."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QWidget

from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.vitals import vitals

_WIDE, _HIGH, _STOP_WIDE = 520, 46, 74
_SHOWN = ("Headroom", "Slowest core", "Findings")


class SmallStrip(PaintedWidget):
    """The strip. It is moved by dragging it, and its right end stops the run."""

    stop_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """A window of its own, hidden until it is wanted."""
        super().__init__(state, look, "Small strip", parent)
        kind = Qt.WindowType.Tool | Qt.WindowType.FramelessWindowHint | Qt.WindowType.WindowStaysOnTopHint
        self.setWindowFlags(kind)
        self.setWindowTitle("Thresher strip")
        self.setAttribute(Qt.WidgetAttribute.WA_ShowWithoutActivating)
        self.setFixedSize(QSize(_WIDE, _HIGH))
        self._grabbed: QPointF | None = None

    def _stop_area(self) -> QRectF:
        return QRectF(self.width() - _STOP_WIDE, 0, _STOP_WIDE, self.height())

    def draw(self, painter: QPainter) -> None:
        """Draw three vitals, the time and Stop."""
        scheme, state = self.look.scheme, self.state
        painter.fillRect(self.rect(), QColor(scheme.band))
        cards = {card.title: card for card in vitals(state)}
        pitch = (self.width() - _STOP_WIDE - 90) / len(_SHOWN)
        for number, title in enumerate(_SHOWN):
            card = cards.get(title)
            if card is None:
                continue
            x = 12 + number * pitch
            draw_text(painter, QPointF(x, 16), title.lower(), scheme.band_soft, 10.5)
            ink = scheme.band_mark if card.warning else scheme.band_ink
            draw_text(painter, QPointF(x, 37), f"{card.number} {card.unit}", ink, 17, bold=True, width=pitch - 14)
            self.spots.append(Spot(QRectF(x, 0, pitch, self.height()), card.about))
        x = self.width() - _STOP_WIDE - 82.0
        draw_text(painter, QPointF(x, 16), state.run.state, scheme.band_soft, 10.5)
        reported = clock_text(state.now) if state.run.run is not None else "–"
        draw_text(painter, QPointF(x, 37), reported, scheme.band_ink, 16, bold=True, mono=True)
        if state.active:
            painter.fillRect(self._stop_area().adjusted(4, 6, -6, -6), QColor(scheme.stop))
            draw_text(painter, QPointF(self.width() - 58.0, 28), "STOP", scheme.on_stop, 14, bold=True)
            self.spots.append(Spot(self._stop_area(), "Ends every worker at once (Esc)"))
        self.setAccessibleDescription("; ".join(f"{card.title} {card.number} {card.unit}" for card in cards.values()))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Stop the run, or take hold of the strip."""
        if event is None:
            return
        if self.state.active and self._stop_area().contains(event.position()):
            self.stop_wanted.emit()
        else:
            self._grabbed = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Move with the mouse."""
        if event is not None and self._grabbed is not None:
            self.move((event.globalPosition() - self._grabbed).toPoint())

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        """Let go."""
        self._grabbed = None

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Esc stops here too."""
        if event is not None and event.key() == Qt.Key.Key_Escape and self.state.active:
            self.stop_wanted.emit()
        else:
            super().keyPressEvent(event)
