"""One question to a person over the whole window, in large type, answered by a key; the run goes on meanwhile."""

from PyQt6.QtCore import QEvent, QObject, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from thresher.model.parts import PartKind
from thresher.model.questions import Answer, Picture, Question
from thresher.protocol.events import QuestionEvent
from thresher.ui.centred import centred_labels
from thresher.ui.look import Look
from thresher.ui.questions.full_screen import FullScreen
from thresher.ui.questions.keys_pane import KeysPane, button_name
from thresher.ui.questions.pane import Pane
from thresher.ui.questions.panes import pane_for
from thresher.ui.questions.pictures import draw_picture
from thresher.ui.state import BenchState

_LEAVE_MS = 2000
_BETWEEN = 16


def rows_of(widths: list[int], room: int, between: int = _BETWEEN) -> list[list[int]]:
    """Return the numbers of buttons by row, so that each row fits into `room` pixels and all are about as full."""
    whole = sum(widths) + between * max(0, len(widths) - 1)
    if whole <= room or len(widths) < 2:
        return [list(range(len(widths)))]
    half = (len(widths) + 1) // 2
    first, second = rows_of(widths[:half], room), rows_of(widths[half:], room)
    return first + [[number + half for number in row] for row in second]


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
        self._screen = FullScreen(window)
        self.words_shown = True
        self.pane: Pane | None = None
        self._esc_down = 0
        self.setObjectName("question_view")
        self.setAccessibleName("Question")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        names = ("question_about", "question_text", "question_hint")
        self.about, self.text, self.hint = centred_labels(self, *names)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(12)
        self.buttons: dict[str, QPushButton] = {}
        self._placed: list[list[int]] = []
        self._column = column = QVBoxLayout(self)
        column.setContentsMargins(80, 40, 80, 40)
        column.setSpacing(18)
        column.addStretch(2)
        for label in (self.about, self.text, self.hint):
            column.addWidget(label)
        column.addSpacing(12)
        column.addLayout(self._rows)
        self._below = column.count()
        column.addStretch(3)
        self.leave = QLabel("", self)
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
        back = "rgba(20, 24, 28, 215)" if field else "transparent" if self.pane is None else scheme.paper
        # a picture is judged as a whole, and fields are passed over: the words stand small beside them
        large = 22 if field or (self.pane is not None and self.pane.covers) else 34
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
    def _question(self) -> Question | None:
        return self.event_.question if self.event_ is not None else None

    @property
    def _picture(self) -> Picture | None:
        return self._question.picture if self._question is not None else None

    @property
    def _tests_keys(self) -> bool:
        return self.pane is not None and self.pane.takes_keys

    def _follow(self) -> None:
        """Show the question that is open, or go away with it."""
        event = self._state.asked
        if event is None or event.question is None or event.number in self._left:
            self._close()
            return
        if event == self.event_:
            return
        self._drop_pane()
        self.event_ = event
        self._fill(event.question)
        picture = event.question.picture
        if picture is not None or (self.pane is not None and self.pane.covers):
            # what is cut off at an edge, or dead there, shows on the whole screen only
            self._screen.take(self._output_of(picture))
        self.setGeometry(self._window.rect())
        self.show()
        self._fit()
        self.raise_()
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self.update()
        if self.pane is not None:
            self.pane.begin()

    def _output_of(self, picture: Picture | None) -> str:
        """Return the connector whose screen a picture has to be on, empty where it does not matter.

        A simulated machine's displays are nowhere, and a machine's only one is the one that shows the window.
        """
        snapshot = self._state.snapshot
        if picture is None or snapshot is None or snapshot.machine.simulated:
            return ""
        return picture.output if len(snapshot.machine.parts_of(PartKind.DISPLAY)) > 1 else ""

    def _fit(self) -> None:
        """Lay everything out at this size, and let a pane that covers everything know what lies over it."""
        self._place_buttons()
        self._column.activate()
        if self.pane is not None and self.pane.covers:
            self.pane.setGeometry(self.rect())
            self.pane.leave_out([button.geometry() for button in self.buttons.values()])

    def _fill(self, question: Question) -> None:
        """Put the words, the choices and the pane of a question in place."""
        self.about.setText(question.about)
        self.text.setText(question.text)
        self.hint.setText(question.hint)
        self._fill_choices(question)
        picture = question.picture is not None
        self.pane = pane = pane_for(question, self._look)
        covers = pane is not None and pane.covers
        if pane is not None:
            pane.by_itself.connect(self._take_answer)
            pane.said.connect(self.hint.setText)
            if covers:
                pane.setParent(self)
                pane.lower()
                pane.show()
            else:
                self._column.insertWidget(1, pane, 8)
        for label in (self.about, self.text, self.hint, self.leave):
            label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents, covers)
        tall = pane is not None and not covers and pane.minimumHeight() != pane.maximumHeight()
        self._column.setStretch(0, 20 if picture else 0 if tall else 2)
        self._column.setStretch(self._column.count() - 2, 0 if picture or tall else 2 if covers else 3)
        self._column.setSpacing(4 if picture else 0 if covers else 18)
        hides = "Space hides these words; " if picture else ""
        leaves = "Hold Esc for two seconds to leave" if self._tests_keys else "Esc leaves"
        self.leave.setText(f"{hides}{leaves} the question unanswered")
        self._show_words(shown=True)
        self._restyle()

    def _fill_choices(self, question: Question) -> None:
        for old in self.buttons.values():
            old.hide()
            old.deleteLater()
        self.buttons, self._placed = {}, []
        for choice in question.choices:
            button = QPushButton(f"{choice.key}   {choice.text}".strip(), self)
            button.setObjectName(f"answer_{choice.word}")
            button.setAccessibleName(f"{choice.text}, key {choice.key}" if choice.key else choice.text)
            # where keys are tested they answer nothing, and none may leave the view
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus if choice.key else Qt.FocusPolicy.NoFocus)
            button.clicked.connect(lambda _checked=False, word=choice.word: self._answer(word))
            self.buttons[choice.word] = button

    def _place_buttons(self) -> None:
        """Put the buttons into as many rows as they need at this width."""
        room = self.width() - 2 * self._column.contentsMargins().left()
        rows = rows_of([button.sizeHint().width() for button in self.buttons.values()], room)
        if rows == self._placed:
            return
        self._placed = rows
        while (row := self._rows.takeAt(0)) is not None:
            row_layout = row.layout()
            if row_layout is not None:
                while row_layout.takeAt(0) is not None:
                    continue
                row_layout.deleteLater()
        for row_buttons in rows:
            layout = QHBoxLayout()
            layout.setSpacing(_BETWEEN)
            layout.addStretch(1)
            for number in row_buttons:
                layout.addWidget(list(self.buttons.values())[number])
            layout.addStretch(1)
            self._rows.addLayout(layout)

    def _close(self) -> None:
        """Go away, with whatever the question had open."""
        self._drop_pane()
        self.event_ = None
        self.hide()
        self._screen.give_back_soon()

    def _drop_pane(self) -> None:
        pane, self.pane = self.pane, None
        if pane is not None:
            pane.end()
            self._column.removeWidget(pane)
            pane.hide()
            pane.deleteLater()

    def _show_words(self, shown: bool) -> None:
        """Show or hide everything but the picture."""
        question = self._question
        self.words_shown = shown
        for widget in (self.text, self.leave, *self.buttons.values()):
            widget.setVisible(shown)
        self.about.setVisible(shown and self._picture is None)
        self.hint.setVisible(shown and question is not None and bool(question.hint))

    def _answer(self, word: str) -> None:
        snapshot = self._state.snapshot
        if self.pane is not None:
            self._take_answer(self.pane.answer(word))
        elif snapshot is not None and snapshot.machine.simulated:  # its displays are not the screen that shows this
            self._take_answer(Answer(word))
        else:
            self._take_answer(self._screen.answer(word))

    def _take_answer(self, answer: Answer) -> None:
        asked = self.event_
        if asked is not None:
            self._left.add(asked.number)
            self._close()
            self.answered.emit(asked.number, answer)

    def _leave(self, asked: QuestionEvent) -> None:
        """Go away without an answer."""
        self._left.add(asked.number)
        self._close()
        self.left.emit(asked.number)

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
        if self._tests_keys and event.key() == Qt.Key.Key_Escape and not event.isAutoRepeat():
            self._esc_down += 1
            QTimer.singleShot(_LEAVE_MS, lambda down=self._esc_down: self._leave_if_held(down))
        if self.pane is not None and self.pane.key(event, pressed=True):
            return
        if event.key() == Qt.Key.Key_Escape:
            self._leave(open_)
            return
        if event.key() == Qt.Key.Key_Space and self._picture is not None:
            self._show_words(shown=not self.words_shown)
            return
        pressed = event.text().upper()
        word = next((each.word for each in open_.question.choices if each.key and each.key.upper() == pressed), "")
        if word:
            self._answer(word)
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        """Note a key that goes up while keys are tested."""
        if event is None:
            return
        if event.key() == Qt.Key.Key_Escape and not event.isAutoRepeat():
            self._esc_down += 1
        if self.pane is not None:
            self.pane.key(event, pressed=False)

    def _leave_if_held(self, down: int) -> None:
        """Leave where keys are tested: there a key pressed for a moment is only noted."""
        if self._tests_keys and self.event_ is not None and down == self._esc_down:
            self._leave(self.event_)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Note a mouse button anywhere while keys are tested."""
        if event is not None and isinstance(self.pane, KeysPane):
            self.pane.note(button_name(event), pressed=True)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Note a mouse button that goes up."""
        if event is not None and isinstance(self.pane, KeysPane):
            self.pane.note(button_name(event), pressed=False)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Stay as large as the window."""
        if watched is self._window and event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self.setGeometry(self._window.rect())
            self._fit()
        return False

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper, or the picture that is to be judged."""
        painter = QPainter(self)
        picture = self._picture
        if picture is None:
            painter.fillRect(self.rect(), QColor(self._look.scheme.paper))
        else:
            draw_picture(painter, QRectF(self.rect()), picture)
        painter.end()
