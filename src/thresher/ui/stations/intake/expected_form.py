"""What should be in the machine, against which the machine is compared as it is typed."""

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QLineEdit, QWidget

from thresher.ui.state import BenchState

_SAVE_AFTER_MS = 500
_FIELDS = (
    ("processor", "Processor", "as on the invoice"),
    ("memory", "Memory", "2 x 16 GB 5600"),
    ("drives", "Drives", "1 TB, 500 GB"),
    ("graphics", "Graphics", "words of its name"),
)


class ExpectedForm(QWidget):
    """Four fields; what is typed goes out by `changed` a moment later."""

    changed = pyqtSignal(dict)

    def __init__(self, state: BenchState, parent: QWidget) -> None:
        """Lay the fields out under each other, so that what is typed can be read."""
        super().__init__(parent)
        self._state = state
        self._save = QTimer(self)
        self._save.setSingleShot(True)
        self._save.setInterval(_SAVE_AFTER_MS)
        self._save.timeout.connect(self.send)
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(4)
        self.fields: dict[str, QLineEdit] = {}
        for number, (name, title, hint) in enumerate(_FIELDS):
            label, field = QLabel(title, self), QLineEdit(self)
            label.setBuddy(field)
            field.setObjectName(f"expected_{name}")
            field.setAccessibleName(f"Should have: {title}")
            field.setPlaceholderText(hint)
            field.setToolTip("What should be there, from invoice, sticker or memory; what is missing becomes a doubt")
            field.textEdited.connect(self._save.start)
            grid.addWidget(label, number, 0)
            grid.addWidget(field, number, 1)
            self.fields[name] = field
        self.trouble = QLabel("", self)
        self.trouble.setObjectName("trouble")
        self.trouble.setWordWrap(True)
        self.trouble.hide()
        grid.addWidget(self.trouble, len(_FIELDS), 0, 1, 2)
        state.machine_changed.connect(self._fill)
        state.intake_changed.connect(self._follow)

    def _fill(self) -> None:
        snapshot = self._state.snapshot
        for name, field in self.fields.items():
            field.setText(self._state.job.get(f"expected_{name}", ""))
            field.setCursorPosition(0)
            field.setReadOnly(snapshot is not None and snapshot.kind == "stored job")

    def _follow(self) -> None:
        self.trouble.setText(self._state.intake.expected_trouble)
        self.trouble.setVisible(bool(self._state.intake.expected_trouble))

    def send(self) -> None:
        """Send what stands in the fields."""
        self._save.stop()
        self.changed.emit({f"expected_{name}": field.text().strip() for name, field in self.fields.items()})

    def flush(self) -> None:
        """Send what was typed and not yet sent."""
        if self._save.isActive():
            self.send()
