"""What graphics cards do while they are loaded: how much was checked, their frame times, and the way to the scene."""

from PyQt6.QtCore import QPointF, QRectF, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.loads.status import CardStatus, LoadedCard
from thresher.model.parts import PartKind
from thresher.ui.look import Look, draw_fitting, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.frame_strip import FrameHistory, draw_frames, stutters

_CARD = 78.0
_MOST_CARDS = 3


def cards_of_run(state: BenchState) -> tuple[LoadedCard, ...]:
    """Return the cards that a run loads now."""
    return tuple(card for load in state.run.loads if isinstance(load, CardStatus) for card in load.cards)


class FramesCard(PaintedWidget):
    """Below the tape, one row a card; not there while no card is loaded. `scene_wanted` carries the card's name."""

    scene_wanted = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin without height."""
        super().__init__(state, look, "Graphics load", parent)
        self.setFixedHeight(0)
        self._areas: list[tuple[QRectF, str]] = []
        self._history = FrameHistory()
        state.refreshed.connect(self._fit)

    def _fit(self) -> None:
        cards = cards_of_run(self.state)[:_MOST_CARDS]
        height = int(6 + _CARD * len(cards)) if cards else 0
        if height != self.height():
            self.setFixedHeight(height)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open the scene of the card under the mouse."""
        if event is not None:
            for area, card in self._areas:
                if area.contains(event.position()):
                    self.scene_wanted.emit(card)
        super().mousePressEvent(event)

    def draw(self, painter: QPainter) -> None:
        """Draw one card below the other."""
        self._areas = []
        if self.height() < 10:
            return
        scheme = self.look.scheme
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawLine(QPointF(8, 1), QPointF(self.width() - 8.0, 1))
        y = 4.0
        for card in cards_of_run(self.state)[:_MOST_CARDS]:
            self._draw_card(painter, card, y)
            y += _CARD
        self.setAccessibleDescription("; ".join(f"{card.card}: {card.words}" for card in cards_of_run(self.state)))

    def _draw_card(self, painter: QPainter, card: LoadedCard, y: float) -> None:
        scheme, right = self.look.scheme, self.width() - 12.0
        times = self._history.add(card.card, card.recent_ms)
        painter.fillRect(QRectF(12, y + 5, 4, 10), scheme.part(PartKind.GRAPHICS))
        draw_text(painter, QPointF(21, y + 14), card.card, scheme.ink, 12, bold=True)
        if card.middle_ms is not None and card.longest_ms is not None:
            rate = f"{card.middle_ms:.1f} ms, worst {card.longest_ms:.1f}"
            draw_text(painter, QPointF(right, y + 14), rate, scheme.soft, 11, right=True)
        draw_frames(painter, QRectF(12, y + 20, right - 12, 26), times, card.middle_ms or 0.0, scheme)
        draw_fitting(painter, QPointF(12, y + 58), card.words, scheme.ink, 11, right - 12)
        if card.mirror:
            draw_text(painter, QPointF(12, y + 72), "Show scene: Ctrl+K or click", scheme.soft, 10.5)
        odd = stutters(times, card.middle_ms or 0.0)
        summary = (
            f"{card.card}: {card.words}.\n"
            f"A stroke is a frame (a beat where nothing is drawn), the line is the median.\n"
            f"{odd} of the last {len(times)} took more than 1.6 times the median: stutter."
        )
        area = QRectF(0, y, self.width(), _CARD - 2)
        self.spots.append(Spot(area, summary))
        if card.mirror:
            self._areas.append((area, card.card))
