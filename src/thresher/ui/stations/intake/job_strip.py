"""The strip of jobs on the bench: a card each, the current one first, and a new one at a keystroke."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.protocol.intake import JobCard
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_WIDE, _GAP, _NEW = 214.0, 8.0, 92.0


def card_line(card: JobCard) -> str:
    """Say in a few words how far a job is."""
    if card.trouble:
        return "cannot be read"
    if not card.runs:
        return ", ".join(card.symptoms) or "no symptom noted yet"
    runs = f"{card.runs} run{'s' if card.runs > 1 else ''}"
    found = f"{card.findings} finding{'s' if card.findings > 1 else ''}" if card.findings else "nothing found"
    ended = "" if card.last_ending == "finished" else f", last {card.last_ending or 'not ended'}"
    return f"{runs}, {found}{ended}"


class JobStrip(PaintedWidget):
    """Draws the cards. `opened` carries the job that a person wants, `wanted_new` comes for a new one."""

    opened = pyqtSignal(object)
    wanted_new = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin with no card."""
        super().__init__(state, look, "Jobs on the bench", parent)
        self.setFixedHeight(54)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.cards: tuple[JobCard, ...] = ()
        self._chosen = 0
        self._first = 0

    def set_cards(self, cards: tuple[JobCard, ...]) -> None:
        """Show these jobs."""
        self.cards = cards
        self._chosen = min(self._chosen, max(0, len(cards) - 1))
        self.update()

    def _room(self) -> int:
        """How many cards fit beside the place for a new one."""
        return max(1, int((self.width() - _NEW) // (_WIDE + _GAP)))

    def _areas(self) -> list[tuple[int, QRectF]]:
        shown = range(self._first, min(len(self.cards), self._first + self._room()))
        return [(n, QRectF((n - self._first) * (_WIDE + _GAP) + 1, 1, _WIDE, self.height() - 2)) for n in shown]

    def _new_area(self) -> QRectF:
        left = min(len(self.cards) - self._first, self._room()) * (_WIDE + _GAP)
        return QRectF(left + 1, 1, _NEW - _GAP - 2, self.height() - 2)

    def draw(self, painter: QPainter) -> None:
        """Draw the cards and the place for a new one."""
        scheme = self.look.scheme
        for number, area in self._areas():
            card = self.cards[number]
            chosen = number == self._chosen and self.hasFocus()
            painter.setPen(QPen(QColor(scheme.processor if chosen else scheme.rule), 2.0 if chosen else 1.0))
            painter.setBrush(QColor(scheme.field if card.current else scheme.panel))
            painter.drawRect(area)
            if card.current:
                painter.fillRect(QRectF(area.x(), area.bottom() - 3, area.width(), 3), QColor(scheme.straw))
            x, wide = area.x() + 10, area.width() - 20
            bold = draw_text(painter, QPointF(x, area.y() + 19), card.number or "–", scheme.ink, 13, bold=True)
            name = card.machine or "machine not named"
            draw_text(painter, QPointF(x + bold + 8, area.y() + 19), name, scheme.ink, 12, width=wide - bold - 8)
            ink = scheme.fault if card.trouble else scheme.soft
            draw_text(painter, QPointF(x, area.y() + 38), card_line(card), ink, 11, width=wide)
            lines = [f"Job {card.number}: {card.machine}", card_line(card), ", ".join(card.symptoms), card.trouble]
            lines.append("current" if card.current else "click or Return opens it")
            self.spots.append(Spot(area, "\n".join(filter(None, [*lines, card.path]))))
        area = self._new_area()
        painter.setPen(QPen(QColor(scheme.soft), 1.0, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area)
        for line, text in enumerate(("+ new job", "Ctrl+N")):
            left = area.x() + (area.width() - text_width(text, 11.5)) / 2
            draw_text(
                painter, QPointF(left, area.y() + 21 + 17 * line), text, scheme.ink if not line else scheme.soft, 11.5
            )
        self.spots.append(Spot(area, "A new job for the machine on the bench (Ctrl+N)"))
        beyond = len(self.cards) - self._first - self._room()
        if beyond > 0:
            text = f"{beyond} more ›"
            draw_text(painter, QPointF(self.width() - 6.0, self.height() / 2 + 4), text, scheme.soft, 11, right=True)
            room = QRectF(self.width() - 60.0, 0, 60, self.height())
            self.spots.append(Spot(room, "Older jobs; the arrow keys go there"))
        self.setAccessibleDescription(
            "; ".join(f"{card.number} {card.machine}{', current' if card.current else ''}" for card in self.cards)
        )

    def open(self, number: int) -> None:
        """Ask for a job to be opened; the current one needs no opening, and one that cannot be read has none."""
        self._chosen = number
        card = self.cards[number]
        if not card.current and not card.trouble:
            self.opened.emit(card)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open the job under the mouse, or begin a new one."""
        if event is None:
            return
        hit = next((number for number, area in self._areas() if area.contains(event.position())), None)
        if hit is not None:
            self.open(hit)
        elif self._new_area().contains(event.position()):
            self.wanted_new.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from card to card with the arrow keys, open one with Return."""
        if event is None or not self.cards:
            return
        step = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(event.key()))
        if step is not None:
            self._chosen = min(max(self._chosen + step, 0), len(self.cards) - 1)
            self._first = min(max(self._first, self._chosen - self._room() + 1), self._chosen)
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space):
            self.open(self._chosen)
        else:
            super().keyPressEvent(event)
