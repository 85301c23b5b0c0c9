"""Where the machine's own inventory contradicts the book of trials: what it shows, and whose word is taken."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from thresher.ui.look import Look
from thresher.ui.state import BenchState

_SHOWN = 2


class QuestionBar(QWidget):
    """Hidden while nothing is asked."""

    machine_is_right = pyqtSignal()
    book_is_right = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Ask what the state holds."""
        super().__init__(parent)
        self.setObjectName("questions")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._state, self._look = state, look
        self.words = QLabel(self)
        self.words.setWordWrap(True)
        self.words.setAccessibleName("Where the machine and the book of trials differ")
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 4, 8, 4)
        row.addWidget(self.words, 1)
        for text, name, tip, signal in (
            (
                "As the machine shows",
                "machine_is_right",
                "Start a trial with what the machine reports as installed",
                self.machine_is_right,
            ),
            (
                "The book is right",
                "book_is_right",
                "Keep the book: the machine misreports this part",
                self.book_is_right,
            ),
        ):
            button = QPushButton(text, self)
            button.setObjectName(name)
            button.setAccessibleName(text)
            button.setToolTip(tip)
            button.clicked.connect(signal.emit)
            row.addWidget(button)
        state.refreshed.connect(self._fit)
        look.changed.connect(self._restyle)
        self._restyle()
        self._fit()

    def _fit(self) -> None:
        asked = self._state.questions
        more = f"; and {len(asked) - _SHOWN} more" if len(asked) > _SHOWN else ""
        self.words.setText(f"{'; '.join(asked[:_SHOWN])}{more}. Which is correct?")
        self.words.setToolTip("\n".join(asked))
        self.setVisible(bool(asked))

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.words.setStyleSheet(f"color: {scheme.ink}; font-size: 12px; font-weight: bold;")
        self.setStyleSheet(f"#questions {{ background: {scheme.rail}; border-left: 4px solid {scheme.straw}; }}")
