"""The job itself: number, machine, the customer's words, how much time there is, and the symptoms."""

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from thresher.model.job import Complaint, complaints_field, parse_complaints
from thresher.ui.form import Panel, emptied, scrolled
from thresher.ui.look import Look, text_width
from thresher.ui.state import BenchState

_SAVE_AFTER_MS = 400
_CHIP_ROOM = 262.0
_CHIP_EDGE = 22.0
_HEAD_EDGE = 8.0
_TIMES = (("15 min", "15"), ("45 min", "45"), ("2 h", "120"), ("a night", "720"))


class _Chip(QPushButton):
    """A symptom that can be picked."""

    def __init__(self, text: str, parent: QWidget) -> None:
        super().__init__(text, parent)
        self.setCheckable(True)
        self.setObjectName(f"symptom {text}".replace(" ", "_"))
        self.setAccessibleName(f"Symptom: {text}")
        self.setToolTip("Pick what the customer reports; it changes which suspects are likely before any load has run")


class _ComplaintField(QWidget):
    """What more is known of one symptom: when it comes, and a note."""

    def __init__(self, complaint: Complaint, touched: Callable[[], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.text = complaint.text
        self.when = QLineEdit(complaint.when, self)
        self.note = QLineEdit(complaint.note, self)
        name = complaint.text.replace(" ", "_")
        for field, title, hint in ((self.when, "when", "when"), (self.note, "note", "what else")):
            field.setObjectName(f"{title}_{name}")
            field.setAccessibleName(f"{complaint.text}: {title}")
            field.setPlaceholderText(hint)
            field.textEdited.connect(touched)
        self.when.setFixedWidth(56)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(4)
        row.addWidget(QLabel(complaint.text, self))
        row.addWidget(self.when)
        row.addWidget(self.note, 1)

    def complaint(self) -> Complaint:
        """Return what stands in the fields."""
        return Complaint(self.text, self.when.text().strip(), self.note.text().strip())


class JobForm(Panel):
    """The form. Everything typed goes out by `changed` a moment later, as fields of the job to be kept."""

    changed = pyqtSignal(dict)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Lay the form out; it is filled when a job comes."""
        super().__init__("Job", look, parent)
        self._state = state
        self._filling = False
        self._chips: dict[str, _Chip] = {}
        self._complaints: list[_ComplaintField] = []
        self._shown: tuple[str, ...] | None = None
        self._save = QTimer(self)
        self._save.setSingleShot(True)
        self._save.setInterval(_SAVE_AFTER_MS)
        self._save.timeout.connect(self.send)
        inside = QWidget(self)
        self._inside = QVBoxLayout(inside)
        self._inside.setContentsMargins(0, 0, 4, 0)
        self._inside.setSpacing(5)
        self.column.setContentsMargins(10, 34, 6, 10)
        self.column.addWidget(scrolled(inside, self))
        self.number = QLineEdit(inside)
        self.machine = QLineEdit(inside)
        self.customer = QLineEdit(inside)
        self.contact = QLineEdit(inside)
        self.words = QPlainTextEdit(inside)
        self._make_fields(inside)
        self._make_times(inside)
        self._known = QVBoxLayout()
        self._known.setSpacing(5)
        self._inside.addLayout(self._known)
        self._symptoms = QVBoxLayout()
        self._symptoms.setSpacing(1)
        self._inside.addLayout(self._symptoms)
        self._inside.addStretch(1)
        state.machine_changed.connect(self._fill)
        state.refreshed.connect(self._follow)

    def _make_fields(self, inside: QWidget) -> None:
        fields = QHBoxLayout()
        fields.setSpacing(4)
        for label, field, name in (("Number", self.number, "job_number"), ("Machine", self.machine, "job_machine")):
            field.setObjectName(name)
            field.setAccessibleName(label)
            field.setPlaceholderText(label.lower())
            field.setToolTip(f"{label} of the job" if field is self.number else "Whose machine it is, and which")
            fields.addWidget(field, 0 if field is self.number else 1)
            field.textEdited.connect(self._touched)
        self.number.setFixedWidth(62)
        self._inside.addLayout(fields)
        person = QHBoxLayout()
        person.setSpacing(4)
        for label, field in (("Customer", self.customer), ("Contact", self.contact)):
            field.setObjectName(f"job_{label.lower()}")
            field.setAccessibleName(label)
            field.setPlaceholderText(label.lower())
            field.setToolTip("Printed on the customer's report; can be removed from old jobs: thresher forget")
            person.addWidget(field, 1)
            field.textEdited.connect(self._touched)
        self._inside.addLayout(person)
        self.words.setObjectName("job_words")
        self.words.setAccessibleName("What the customer reports")
        self.words.setPlaceholderText("What the customer reports, in their own words: since when, what changed")
        self.words.setTabChangesFocus(True)
        self.words.setFixedHeight(44)
        self.words.textChanged.connect(self._touched)
        self._inside.addWidget(self.words)

    def _make_times(self, inside: QWidget) -> None:
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addWidget(QLabel("Time", inside))
        self._times: dict[str, QPushButton] = {}
        for text, minutes in _TIMES:
            button = QPushButton(text, inside)
            button.setCheckable(True)
            button.setObjectName(f"time_{minutes}")
            button.setAccessibleName(f"Bench time: {text}")
            button.setToolTip("How long the machine may stay on the bench; what takes longer is proposed last")
            button.clicked.connect(lambda checked, m=minutes: self._choose_time(m if checked else ""))
            self._times[minutes] = button
            row.addWidget(button)
        row.addStretch(1)
        self._inside.addLayout(row)

    def _choose_time(self, minutes: str) -> None:
        self.changed.emit({"minutes": minutes})

    def _fill(self) -> None:
        snapshot = self._state.snapshot
        if snapshot is None:
            return
        self._filling = True
        self.number.setText(snapshot.job.get("number", ""))
        self.machine.setText(snapshot.job.get("machine", ""))
        self.machine.setCursorPosition(0)
        self.customer.setText(snapshot.job.get("customer", ""))
        self.contact.setText(snapshot.job.get("contact", ""))
        self.customer.setCursorPosition(0)
        self.contact.setCursorPosition(0)
        self.words.setPlainText(snapshot.job.get("words", ""))
        stored = snapshot.kind == "stored job"
        for field in (self.number, self.machine, self.customer, self.contact, self.words):
            field.setReadOnly(stored)
        for button in self._times.values():
            button.setEnabled(not stored)
        self._make_chips(stored)
        self._filling = False
        self._shown = None
        self._follow()

    def _make_chips(self, stored: bool) -> None:
        emptied(self._symptoms)
        self._chips = {}
        snapshot = self._state.snapshot
        groups: dict[str, list[str]] = {}
        for choice in snapshot.symptom_choices if snapshot else ():
            groups.setdefault(choice.group, []).append(choice.text)
        for row in _rows(groups):
            line = QHBoxLayout()
            line.setSpacing(4)
            for word in row:
                if isinstance(word, _Head):
                    line.addWidget(QLabel(word.text, self))
                    continue
                chip = _Chip(word, self)
                chip.setEnabled(not stored)
                chip.clicked.connect(self.send)
                self._chips[word] = chip
                line.addWidget(chip)
            line.addStretch(1)
            self._symptoms.addLayout(line)

    def _follow(self) -> None:
        """Show the symptoms and the time that are kept."""
        minutes = self._state.job.get("minutes", "")
        for value, button in self._times.items():
            button.setChecked(value == minutes)
        symptoms = self._state.symptoms
        if self._state.snapshot is None or symptoms == self._shown:
            return
        self._shown = symptoms
        for text, chip in self._chips.items():
            chip.setChecked(text in symptoms)
        emptied(self._known)
        stored = self._state.snapshot.kind == "stored job"
        self._complaints = [
            _ComplaintField(complaint, self._touched, self)
            for complaint in parse_complaints(self._state.job.get("symptoms", ""))
        ]
        for each in self._complaints:
            each.setEnabled(not stored)
            self._known.addWidget(each)

    def _touched(self) -> None:
        if not self._filling:
            self._save.start()

    def send(self) -> None:
        """Send what stands in the form."""
        self._save.stop()
        notes = {each.text: each.complaint() for each in self._complaints}
        picked = [notes.get(text, Complaint(text)) for text, chip in self._chips.items() if chip.isChecked()]
        self.changed.emit(
            {
                "number": self.number.text().strip(),
                "machine": self.machine.text().strip(),
                "customer": self.customer.text().strip(),
                "contact": self.contact.text().strip(),
                "words": self.words.toPlainText(),
                "symptoms": complaints_field(tuple(picked)),
            }
        )

    def flush(self) -> None:
        """Send what was typed and not yet sent."""
        if self._save.isActive():
            self.send()


@dataclass(frozen=True, slots=True)
class _Head:
    """The name of a group, which stands before its first symptom."""

    text: str


def _rows(groups: dict[str, list[str]]) -> list[list[_Head | str]]:
    """Break the symptoms of all groups into rows that are filled from the left; a group's name is never left alone."""
    rows: list[list[_Head | str]] = [[]]
    used = 0.0
    for group, texts in groups.items():
        for number, text in enumerate(texts):
            words: list[_Head | str] = [_Head(f"{group}:"), text] if number == 0 else [text]
            wide = text_width(text, 12) + _CHIP_EDGE
            wide += text_width(f"{group}:", 12) + _HEAD_EDGE if number == 0 else 0.0
            if rows[-1] and used + wide > _CHIP_ROOM:
                rows.append([])
                used = 0.0
            rows[-1] += words
            used += wide
    return rows
