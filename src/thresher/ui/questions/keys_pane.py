"""Every key and button that comes, as a tile that lights up."""

import time

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QPen

from thresher.compose.key_times import KeyTimes
from thresher.model.questions import CHATTERED, PRESSED, STUCK, Answer, Question
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.questions.pane import Pane

_BUTTONS = {
    Qt.MouseButton.LeftButton: "left button",
    Qt.MouseButton.MiddleButton: "middle button",
    Qt.MouseButton.RightButton: "right button",
}
_TILE_HIGH = 26.0


def button_name(event: QMouseEvent) -> str:
    """Return what a person calls a mouse button."""
    return _BUTTONS.get(event.button()) or f"button {event.button().value}"


def key_name(event: QKeyEvent) -> str:
    """Return what is written on a key; both keys of a pair (left and right Shift) differ by their scan codes."""
    name = QKeySequence(event.key()).toString() or "?"
    if event.key() in (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_AltGr, Qt.Key.Key_Meta):
        name = f"{Qt.Key(event.key()).name.removeprefix('Key_')} {event.nativeScanCode()}"
    elif event.modifiers() & Qt.KeyboardModifier.KeypadModifier:
        name = f"pad {name}"
    return name


def times_answer(word: str, times: KeyTimes) -> Answer:
    """Return an answer with what the times of keys or buttons show."""
    stuck = times.stuck(time.monotonic())
    measured = ((PRESSED, len(times.came)), (CHATTERED, len(times.chattered)), (STUCK, len(stuck)))
    return Answer(word, measured, ", ".join([*sorted(times.chattered), *stuck]))


class KeysPane(Pane):
    """Lights up a tile for each key or button; one that is down is dark, one that chatters is marked."""

    takes_keys = True

    def __init__(self, look: Look, question: Question) -> None:
        """Begin with no key."""
        super().__init__(look, question)
        self.times = KeyTimes()
        self.setMinimumHeight(260)

    def answer(self, word: str) -> Answer:
        """Return how many keys came, and which chattered or stuck."""
        return times_answer(word, self.times)

    def key(self, event: QKeyEvent, pressed: bool) -> bool:
        """Note a key; repeats while it is held are none of its own."""
        if not event.isAutoRepeat():
            self.note(key_name(event), pressed)
        return True

    def note(self, name: str, pressed: bool) -> None:
        """Note that a key or button went down or up."""
        if pressed:
            self.times.press(name, time.monotonic())
        else:
            self.times.release(name, time.monotonic())
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the tiles in the order in which they came."""
        painter, scheme = QPainter(self), self.look.scheme
        x, y = 0.0, 14.0
        draw_text(painter, QPointF(x, y), f"{len(self.times.came)} keys and buttons came", scheme.soft, 13)
        y += 14
        for name in self.times.came:
            wide = max(28.0, text_width(name, 13) + 14)
            if x + wide > self.width():
                x, y = 0.0, y + _TILE_HIGH + 5
            area = QRectF(x + 1, y, wide, _TILE_HIGH)
            down, bad = name in self.times.down, name in self.times.chattered
            painter.setPen(QPen(QColor(scheme.fault if bad else scheme.rule), 2.2 if bad else 1.2))
            painter.setBrush(QColor(scheme.ink if down else scheme.field))
            painter.drawRoundedRect(area, 2, 2)
            ink = scheme.panel if down else scheme.fault if bad else scheme.ink
            draw_text(painter, QPointF(x + 8, y + 18), name, ink, 13)
            x += wide + 5
        painter.end()
