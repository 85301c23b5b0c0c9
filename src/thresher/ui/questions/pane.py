"""What a question watches or plays meanwhile, as a widget above its words."""

from PyQt6.QtCore import QRect, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from thresher.model.questions import Answer, Question
from thresher.ui.look import Look


class Pane(QWidget):
    """One of them. `by_itself` carries an answer that needs no person.

    `takes_keys` says that keys answer nothing, since they are what is tested. `covers` says that it lies under the
    words over the whole screen; `said` carries what it has to say instead of the hint then.
    """

    by_itself = pyqtSignal(object)
    said = pyqtSignal(str)
    takes_keys = False
    covers = False

    def __init__(self, look: Look, question: Question) -> None:
        """Be made for one question."""
        super().__init__()
        self.look, self.question = look, question
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def begin(self) -> None:
        """Start to play, record or watch; the pane is shown."""

    def leave_out(self, areas: list[QRect]) -> None:
        """Take note of what lies over it, in its own pixels."""

    def end(self) -> None:
        """Let go of every device; the question is answered or left."""

    def answer(self, word: str) -> Answer:
        """Return the answer with what was measured."""
        return Answer(word)

    def key(self, event: QKeyEvent, pressed: bool) -> bool:
        """Take a key that goes down or up; return whether it was for the pane."""
        del event, pressed
        return False
