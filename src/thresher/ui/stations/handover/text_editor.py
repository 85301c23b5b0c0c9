"""The texts of the report where a person should speak: the proposed words, to be changed, kept with the job."""

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from thresher.ui.chooser import Chooser

_SEND_AFTER_MS = 700
_CHOICES = (
    ("text_summary", "Summary"),
    ("text_wrong", "What was wrong"),
    ("text_done", "What we did"),
    ("text_watch", "What to watch"),
)
_LONGEST = 4_000


class TextEditor(QWidget):
    """One text at a time. `changed` brings the field and its text, empty for the proposed one."""

    changed = pyqtSignal(str, str)

    def __init__(self, parent: QWidget) -> None:
        """Begin with the summary."""
        super().__init__(parent)
        self._texts: dict[str, str] = {}
        self._proposed: dict[str, str] = {}
        self._waiting: dict[str, str] = {}
        self._filling = False
        self.which = Chooser(self)
        self.which.setObjectName("report_text_choice")
        self.which.setAccessibleName("Text to edit")
        for name, title in _CHOICES:
            self.which.addItem(title, name)
        self.which.activated.connect(lambda _index: self._show())
        self.reset = QPushButton("Reset", self)
        self.reset.setObjectName("report_text_reset")
        self.reset.setToolTip("Use the proposed text again")
        self.reset.clicked.connect(self._reset)
        self.field = QPlainTextEdit(self)
        self.field.setObjectName("report_text")
        self.field.setAccessibleName("Text of the report")
        self.field.setTabChangesFocus(True)
        self.field.textChanged.connect(self._touched)
        self._send = QTimer(self)
        self._send.setSingleShot(True)
        self._send.setInterval(_SEND_AFTER_MS)
        self._send.timeout.connect(self.flush)
        head = QHBoxLayout()
        head.addWidget(self.which, 1)
        head.addWidget(self.reset)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(head)
        column.addWidget(self.field, 1)

    @property
    def name(self) -> str:
        """The field that is being edited."""
        return str(self.which.currentData())

    @property
    def waiting(self) -> bool:
        """Whether something was typed and not sent yet."""
        return bool(self._waiting)

    def typed(self) -> dict[str, str]:
        """Return every text that a person has written, also what has not been sent yet."""
        return self._texts | self._waiting

    def open_job(self, texts: dict[str, str]) -> None:
        """Begin with the texts of another job."""
        self._send.stop()
        self._waiting, self._proposed = {}, {}
        self._texts = {name: texts.get(name, "") for name, _ in _CHOICES}
        self._show()

    def set_proposed(self, proposed: dict[str, str]) -> None:
        """Take what the report would say by itself; what a person has written, or is writing, stays."""
        if proposed == self._proposed:
            return
        self._proposed = dict(proposed)
        if not self.typed().get(self.name, "") and not self.field.hasFocus():
            self._show()

    def _show(self) -> None:
        self._filling = True
        own = self.typed().get(self.name, "")
        self.field.setPlainText(own or self._proposed.get(self.name, ""))
        self.reset.setEnabled(bool(own))
        self._filling = False

    def _touched(self) -> None:
        if self._filling:
            return
        text = self.field.toPlainText()[:_LONGEST]
        same = text.strip() == self._proposed.get(self.name, "").strip()
        self._waiting[self.name] = "" if same else text
        self.reset.setEnabled(not same)
        self._send.start()

    def _reset(self) -> None:
        self._waiting[self.name] = ""
        self.flush()
        self._show()

    def flush(self) -> None:
        """Send what was typed and not yet sent."""
        self._send.stop()
        waiting, self._waiting = self._waiting, {}
        self._texts |= waiting
        for name, text in waiting.items():
            self.changed.emit(name, text)
