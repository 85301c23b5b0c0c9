"""What a question watches or plays meanwhile, as a widget above its words."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from thresher.model.questions import Answer, Question
from thresher.ui.look import Look


class Pane(QWidget):
    """One of them. `by_itself` carries an answer that needs no person.

    `takes_keys` says that keys answer nothing, since they are what is tested.
    """

    by_itself = pyqtSignal(object)
    takes_keys = False

    def __init__(self, look: Look, question: Question) -> None:
        """Be made for one question."""
        super().__init__()
        self.look, self.question = look, question
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def begin(self) -> None:
        """Start to play, record or watch; the pane is shown."""

    def end(self) -> None:
        """Let go of every device; the question is answered or left."""

    def answer(self, word: str) -> Answer:
        """Return the answer with what was measured."""
        return Answer(word)

    def key(self, event: QKeyEvent, pressed: bool) -> bool:
        """Take a key that goes down or up; return whether it was for the pane."""
        del event, pressed
        return False
