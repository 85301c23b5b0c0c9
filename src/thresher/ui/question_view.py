"""One question to a person over the whole window, in large type, answered by a key; the run goes on meanwhile."""

import time

from PyQt6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QKeyEvent,
    QKeySequence,
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from thresher.compose.key_times import KeyTimes
from thresher.model.questions import CHATTERED, PRESSED, STUCK, Answer, Picture, PictureKind
from thresher.protocol.events import QuestionEvent
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.state import BenchState

_STEPS = 17
_GRID = 12


class QuestionView(QWidget):
    """Covers the window while a question is open, and the whole screen with a picture.

    `answered` carries its number and the answer. Esc leaves the question unanswered: `left` carries its number then.
    """

    answered = pyqtSignal(int, object)
    left = pyqtSignal(int)

    def __init__(self, state: BenchState, look: Look, window: QWidget) -> None:
        """Be hidden until something is asked."""
        super().__init__(window)
        self._state, self._look, self._window = state, look, window
        self.event_: QuestionEvent | None = None
        self._left: set[int] = set()
        self._before_picture: Qt.WindowState | None = None
        self.words_shown = True
        self.keys = KeyTimes()
        self.setObjectName("question_view")
        self.setAccessibleName("Question")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.about, self.text, self.hint = (QLabel("", self) for _ in range(3))
        for label, name in ((self.about, "question_about"), (self.text, "question_text"), (self.hint, "question_hint")):
            label.setObjectName(name)
            label.setWordWrap(True)
            label.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self._buttons = QHBoxLayout()
        self._buttons.setSpacing(16)
        self.buttons: dict[str, QPushButton] = {}
        self._column = column = QVBoxLayout(self)
        column.setContentsMargins(80, 40, 80, 40)
        column.setSpacing(18)
        column.addStretch(2)
        for label in (self.about, self.text, self.hint):
            column.addWidget(label)
        column.addSpacing(12)
        column.addLayout(self._buttons)
        self._below = column.count()
        column.addStretch(3)
        self.leave = QLabel("Esc leaves the question unanswered", self)
        self.leave.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.leave.setObjectName("question_leave")
        column.addWidget(self.leave)
        window.installEventFilter(self)
        state.question_changed.connect(self._follow)
        state.machine_changed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self.hide()

    def _restyle(self) -> None:
        scheme, field = self._look.scheme, self._picture is not None
        ink, soft = (scheme.panel, scheme.panel) if field else (scheme.ink, scheme.soft)
        back = "rgba(20, 24, 28, 215)" if field else "transparent"
        large = 22 if field else 34  # a picture is judged as a whole: the words stand small at its lower edge
        self.setStyleSheet(
            f"QLabel {{ color: {ink}; background: {back}; padding: 4px; }}"
            f"QLabel#question_about {{ font-size: 15px; color: {soft}; }}"
            f"QLabel#question_text {{ font-size: {large}px; font-weight: bold; }}"
            f"QLabel#question_hint {{ font-size: 16px; color: {soft}; }}"
            f"QLabel#question_leave {{ font-size: 13px; color: {soft}; }}"
            f"QPushButton {{ font-size: 19px; padding: 12px 22px; color: {scheme.ink}; background: {scheme.field};"
            f" border: 1.5px solid {scheme.rule}; }}"
            f"QPushButton:focus {{ border: 2.5px solid {scheme.straw}; }}"
        )

    @property
    def _picture(self) -> Picture | None:
        event = self.event_
        return event.question.picture if event is not None and event.question is not None else None

    def _follow(self) -> None:
        """Show the question that is open, or go away with it."""
        event = self._state.asked
        if event is None or event.question is None or event.number in self._left:
            self.event_ = None
            self.hide()
            self._leave_full_screen_soon()
            return
        self.event_ = event
        question = event.question
        self.about.setText(question.about)
        self.text.setText(question.text)
        self.hint.setText(question.hint)
        self.keys = KeyTimes()
        while (item := self._buttons.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        self.buttons = {}
        self._buttons.addStretch(1)
        for choice in question.choices:
            button = QPushButton(f"{choice.key}   {choice.text}".strip(), self)
            button.setObjectName(f"answer_{choice.word}")
            button.setAccessibleName(f"{choice.text}, key {choice.key}" if choice.key else choice.text)
            # where keys are tested they answer nothing, and none may leave the view
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus if question.keys else Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _checked=False, word=choice.word: self._answer(word))
            self.buttons[choice.word] = button
            self._buttons.addWidget(button)
        self._buttons.addStretch(1)
        picture = question.picture is not None
        self._column.setStretch(0, 20 if picture else 2)
        self._column.setStretch(self._below, 0 if picture else 3)
        self._column.setSpacing(4 if picture else 18)
        self.about.setVisible(not picture)
        hides = "Space hides these words; " if picture else ""
        leaves = "Hold Esc for two seconds to leave" if question.keys else "Esc leaves"
        self.leave.setText(f"{hides}{leaves} the question unanswered")
        self._show_words(shown=True)
        self._restyle()
        if picture and self._before_picture is None:  # what is cut off at an edge shows on the whole screen only
            self._before_picture = self._window.windowState()
            self._window.showFullScreen()
        self.setGeometry(self._window.rect())
        self.show()
        self.raise_()
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self.update()

    def _leave_full_screen_soon(self) -> None:
        """Give the window its size back, unless the next picture comes at once."""
        if self._before_picture is not None:
            QTimer.singleShot(_NEXT_PICTURE_MS, self._leave_full_screen)

    def _leave_full_screen(self) -> None:
        if self._before_picture is not None and self._picture is None:
            self._window.setWindowState(self._before_picture)
            self._before_picture = None

    def _show_words(self, shown: bool) -> None:
        """Show or hide everything but the picture."""
        question = self.event_.question if self.event_ is not None else None
        self.words_shown = shown
        for widget in (self.text, self.leave, *self.buttons.values()):
            widget.setVisible(shown)
        self.about.setVisible(shown and self._picture is None)
        self.hint.setVisible(shown and question is not None and bool(question.hint))

    def _answer(self, word: str) -> None:
        if self.event_ is not None:
            number, answer = self.event_.number, Answer(word)
            if self._tests_keys:
                now = time.monotonic()
                stuck = self.keys.stuck(now)
                measured = ((PRESSED, len(self.keys.came)), (CHATTERED, len(self.keys.chattered)), (STUCK, len(stuck)))
                answer = Answer(word, measured, ", ".join([*sorted(self.keys.chattered), *stuck]))
            self._left.add(number)
            self.event_ = None
            self.hide()
            self._leave_full_screen_soon()
            self.answered.emit(number, answer)

    def event(self, event: QEvent | None) -> bool:
        """Take keys before the window's shortcuts do: Esc leaves the question here and stops nothing."""
        if event is not None and event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Answer by the key of a choice; Esc leaves."""
        open_ = self.event_
        if event is None or open_ is None or open_.question is None:
            return
        if self._tests_keys:
            self._note_key(event, pressed=True)
            return
        if event.key() == Qt.Key.Key_Escape:
            self._leave(open_)
            return
        if event.key() == Qt.Key.Key_Space and self._picture is not None:
            self._show_words(shown=not self.words_shown)
            return
        pressed = event.text().upper()
        word = next((each.word for each in open_.question.choices if each.key.upper() == pressed), "")
        if word:
            self._answer(word)
        else:
            super().keyPressEvent(event)

    @property
    def _tests_keys(self) -> bool:
        return self.event_ is not None and self.event_.question is not None and self.event_.question.keys

    def _note_key(self, event: QKeyEvent, pressed: bool) -> None:
        if event.isAutoRepeat():
            return
        name, now = _key_name(event), time.monotonic()
        if pressed:
            self.keys.press(name, now)
            if event.key() == Qt.Key.Key_Escape:
                QTimer.singleShot(_LEAVE_MS, lambda: self._leave_if_held(name, now))
        else:
            self.keys.release(name, now)
        self.update()

    def _leave(self, asked: QuestionEvent) -> None:
        """Go away without an answer."""
        self._left.add(asked.number)
        self.event_ = None
        self.hide()
        self._leave_full_screen_soon()
        self.left.emit(asked.number)

    def _leave_if_held(self, name: str, since: float) -> None:
        """Leave where keys are tested: there a key pressed for a moment is only noted."""
        if self._tests_keys and self.event_ is not None and self.keys.down.get(name) == since:
            self._leave(self.event_)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        """Note a key that goes up while keys are tested."""
        if event is not None and self._tests_keys:
            self._note_key(event, pressed=False)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Note a mouse button while keys are tested."""
        if event is not None and self._tests_keys:
            self.keys.press(_button_name(event), time.monotonic())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Note a mouse button that goes up."""
        if event is not None and self._tests_keys:
            self.keys.release(_button_name(event), time.monotonic())
            self.update()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Stay as large as the window."""
        if watched is self._window and event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self.setGeometry(self._window.rect())
        return False

    def _draw_keys(self, painter: QPainter) -> None:
        """Every key that has come as a tile, newest last; one that is down is dark, one that chatters is marked."""
        scheme = self._look.scheme
        x, y, right = 80.0, 40.0, self.width() - 80.0
        draw_text(painter, QPointF(x, y), f"{len(self.keys.came)} keys and buttons came", scheme.soft, 13)
        y += 14
        for name in self.keys.came:
            wide = max(28.0, text_width(name, 13) + 14)
            if x + wide > right:
                x, y = 80.0, y + _TILE_HIGH + 5
            area = QRectF(x, y, wide, _TILE_HIGH)
            down, bad = name in self.keys.down, name in self.keys.chattered
            painter.setPen(QPen(QColor(scheme.fault if bad else scheme.rule), 2.2 if bad else 1.2))
            painter.setBrush(QColor(scheme.ink if down else scheme.field))
            painter.drawRoundedRect(area, 2, 2)
            ink = scheme.panel if down else scheme.fault if bad else scheme.ink
            draw_text(painter, QPointF(x + 7, y + 18), name, ink, 13)
            x += wide + 5
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper, or the picture that is to be judged."""
        painter = QPainter(self)
        picture = self._picture
        if picture is None:
            painter.fillRect(self.rect(), QColor(self._look.scheme.paper))
            if self._tests_keys:
                self._draw_keys(painter)
        else:
            draw_picture(painter, QRectF(self.rect()), picture)
        painter.end()


_BUTTONS = {
    Qt.MouseButton.LeftButton: "left button",
    Qt.MouseButton.MiddleButton: "middle button",
    Qt.MouseButton.RightButton: "right button",
}
_TILE_HIGH = 26.0
_LEAVE_MS = 2000
_NEXT_PICTURE_MS = 1500


def _button_name(event: QMouseEvent) -> str:
    return _BUTTONS.get(event.button()) or f"button {event.button().value}"


def _key_name(event: QKeyEvent) -> str:
    """Return what is written on a key; both keys of a pair (left and right Shift) tell by their scan codes."""
    name = QKeySequence(event.key()).toString() or "?"
    if event.key() in (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_AltGr, Qt.Key.Key_Meta):
        name = f"{Qt.Key(event.key()).name.removeprefix('Key_')} {event.nativeScanCode()}"
    elif event.modifiers() & Qt.KeyboardModifier.KeypadModifier:
        name = f"pad {name}"
    return name


def draw_picture(painter: QPainter, area: QRectF, picture: Picture) -> None:
    """Draw what is to be judged: a field of one colour, steps of grey, a gradient, lines, or a grid with circles."""
    colour = QColor(*picture.colour)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    match picture.kind:
        case PictureKind.FIELD:
            painter.fillRect(area, colour)
        case PictureKind.GREYS:
            wide = area.width() / _STEPS
            for step in range(_STEPS):
                level = round(255 * step / (_STEPS - 1))
                strip = QRectF(area.x() + step * wide, area.y(), wide + 1, area.height())
                painter.fillRect(strip, QColor(level, level, level))
        case PictureKind.GRADIENT:
            gradient = QLinearGradient(area.topLeft(), area.topRight())
            gradient.setColorAt(0.0, QColor(0, 0, 0))
            gradient.setColorAt(1.0, colour)
            painter.fillRect(area, gradient)
        case PictureKind.LINES:
            painter.fillRect(area, QColor(0, 0, 0))
            painter.setPen(QPen(QColor(255, 255, 255), 1))
            for x in range(int(area.left()), int(area.right()), 2):
                painter.drawLine(x, int(area.top()), x, int(area.bottom()))
        case PictureKind.GRID:
            _draw_grid(painter, area)


def _draw_grid(painter: QPainter, area: QRectF) -> None:
    painter.fillRect(area, QColor(0, 0, 0))
    painter.setPen(QPen(QColor(255, 255, 255), 1))
    pitch = area.height() / _GRID
    for row in range(_GRID + 1):
        y = min(area.bottom() - 1, area.y() + row * pitch)
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
    for column in range(int(area.width() / pitch) + 1):
        x = area.x() + column * pitch
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
    painter.drawRect(area.adjusted(0, 0, -1, -1))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.drawEllipse(area.center(), area.height() * 0.45, area.height() * 0.45)
    for corner in (area.topLeft(), area.topRight(), area.bottomLeft(), area.bottomRight()):
        inwards = QPointF(
            pitch * 1.5 if corner.x() == area.left() else -pitch * 1.5,
            pitch * 1.5 if corner.y() == area.top() else -pitch * 1.5,
        )
        painter.drawEllipse(corner + inwards, pitch * 1.4, pitch * 1.4)
