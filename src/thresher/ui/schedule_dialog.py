"""Rounds at chosen times: a week with a mark for each, one more by its days and time, and each to be taken off."""

import re
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from thresher.app.schedule import Scheduled, UserManager, add, listed, remove
from thresher.model.checks import Round
from thresher.model.errors import ThresherError
from thresher.model.own_program import own_command
from thresher.ui.background import in_background
from thresher.ui.chooser import Chooser
from thresher.ui.form import emptied, form_style
from thresher.ui.look import Look, draw_text, text_width

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_HOURS = 24
_MARK_HIGH = 18.0


def days_of(when: str) -> frozenset[int]:
    """Return the days of the week of a time on the schedule, 0 for Monday; all where it names none."""
    named = when.strip().rpartition(" ")[0]
    if not named:
        return frozenset(range(7))
    found: set[int] = set()
    for piece in named.split(","):
        ends = [DAYS.index(each.capitalize()) for each in piece.split("..")]
        found |= (
            set(range(ends[0], ends[-1] + 1)) if ends[0] <= ends[-1] else {*range(ends[0], 7), *range(ends[-1] + 1)}
        )
    return frozenset(found)


def hour_of(when: str) -> float:
    """Return the time of day of a time on the schedule, in hours."""
    match = re.search(r"(\d{1,2}):(\d\d)$", when.strip())
    return int(match[1]) + int(match[2]) / 60.0 if match else 0.0


def when_of(days: frozenset[int], time: str) -> str:
    """Return a time on the schedule in words: each day where all are chosen, or the days by name."""
    chosen = sorted(days)
    if len(chosen) == len(DAYS):
        return time.strip()
    if len(chosen) > 2 and chosen == list(range(chosen[0], chosen[-1] + 1)):
        return f"{DAYS[chosen[0]]}..{DAYS[chosen[-1]]} {time.strip()}"
    return f"{','.join(DAYS[day] for day in chosen)} {time.strip()}"


class WeekStrip(QWidget):
    """A week from midnight to midnight, a column a day, with a mark where a round runs."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        """Begin with an empty week."""
        super().__init__(parent)
        self._look = look
        self.rounds: tuple[Scheduled, ...] = ()
        self.setMinimumHeight(250)
        self.setAccessibleName("Week")

    def show_rounds(self, rounds: tuple[Scheduled, ...]) -> None:
        """Show what is on the schedule."""
        self.rounds = rounds
        words = "; ".join(f"{each.name}: {each.kind.value} round, {each.when}" for each in rounds)
        self.setAccessibleDescription(words or "nothing is on the schedule")
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the days, every sixth hour, and the marks."""
        painter, scheme = QPainter(self), self._look.scheme
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, top = 44.0, 24.0
        wide, high = (self.width() - left - 4) / len(DAYS), self.height() - top - 8
        for hour in range(0, _HOURS + 1, 6):
            y = top + high * hour / _HOURS
            painter.setPen(QPen(QColor(scheme.rule), 1))
            painter.drawLine(QPointF(left, y), QPointF(self.width() - 4.0, y))
            draw_text(painter, QPointF(2, y + 4), f"{hour % _HOURS:02d}:00", scheme.soft, 11)
        for day, name in enumerate(DAYS):
            draw_text(painter, QPointF(left + day * wide + 6, 15), name, scheme.ink, 12, bold=True)
            painter.setPen(QPen(QColor(scheme.rule), 1))
            painter.drawLine(QPointF(left + day * wide, top), QPointF(left + day * wide, top + high))
        for each in self.rounds:
            y = min(top + high * hour_of(each.when) / _HOURS, top + high - _MARK_HIGH)
            for day in days_of(each.when):
                area = QRectF(left + day * wide + 3, y, wide - 6, _MARK_HIGH)
                filled = each.kind is Round.THOROUGH
                painter.setPen(QPen(QColor(scheme.ink), 1.4))
                painter.setBrush(QColor(scheme.ink if filled else scheme.field))
                painter.drawRoundedRect(area, 3, 3)
                words = each.name if text_width(each.name, 11) < area.width() - 8 else each.name[:6] + "…"
                ink = scheme.panel if filled else scheme.ink
                draw_text(painter, QPointF(area.x() + 5, area.y() + 13), words, ink, 11)
        painter.end()


class ScheduleDialog(QDialog):
    """Shows what is on the schedule of this user on this machine, and changes it."""

    changed = pyqtSignal()

    def __init__(self, look: Look, folder: Path, manager: UserManager, parent: QWidget | None = None) -> None:
        """`folder` holds the user's own units, `manager` is the user's service manager."""
        super().__init__(parent)
        self._look, self._folder, self._manager = look, folder, manager
        self.setObjectName("schedule_dialog")
        self.setWindowTitle("Scheduled rounds")
        self.resize(820, 560)
        self.week = WeekStrip(look, self)
        self.rows = QGridLayout()
        self.name, self.time = QLineEdit(self), QLineEdit("07:30", self)
        self.kind = Chooser(self)
        self.days: list[QPushButton] = []
        self.trouble = QLabel("", self)
        self._lay_out()
        self.setStyleSheet(f"QDialog {{ background: {look.scheme.panel}; }}" + form_style(look.scheme))
        self.refresh()

    def _lay_out(self) -> None:
        note = QLabel(
            "Each round runs at its time without a person, also when the window is closed. A missed time is caught up."
            " It stays quiet when all is well; when a check fails, the desktop shows a notification.",
            self,
        )
        note.setWordWrap(True)
        column = QVBoxLayout(self)
        column.addWidget(note)
        column.addWidget(self.week, 1)
        column.addLayout(self.rows)
        line = QHBoxLayout()
        for field, name, hint, wide in (
            (self.name, "schedule_name", "name, such as evening", 170),
            (self.time, "schedule_time", "time, such as 07:30", 70),
        ):
            field.setObjectName(name)
            field.setAccessibleName(hint)
            field.setPlaceholderText(hint)
            field.setMaximumWidth(wide)
            line.addWidget(field)
        for number, day in enumerate(DAYS):
            button = QPushButton(day, self)
            button.setObjectName(f"schedule_{day}")
            button.setCheckable(True)
            button.setChecked(number < 5)
            self.days.append(button)
            line.addWidget(button)
        for each in Round:
            self.kind.addItem(f"{each.value} round", each.value)
        self.kind.setObjectName("schedule_round")
        self.kind.setAccessibleName("Which round")
        line.addWidget(self.kind)
        put = QPushButton("Add round", self)
        put.setObjectName("schedule_add")
        put.clicked.connect(self.put)
        line.addWidget(put)
        self.trouble.setObjectName("trouble")
        self.trouble.setWordWrap(True)
        column.addLayout(line)
        column.addWidget(self.trouble)

    def refresh(self) -> None:
        """Read what is on the schedule, beside the window's thread."""
        self._do(lambda: tuple(listed(self._folder)), self._show)

    def put(self) -> None:
        """Put the round of the form on the schedule."""
        days = frozenset(number for number, button in enumerate(self.days) if button.isChecked())
        if not days:
            self.trouble.setText("Choose at least one day.")
            return
        kind = Round(str(self.kind.currentData()))
        wanted = Scheduled(self.name.text().strip(), when_of(days, self.time.text()), kind)
        command = own_command("thresher.cli", "schedule", "carry-out", kind.value)
        self._do(lambda: add(self._folder, self._manager, wanted, command), lambda _none: self._done())

    def take_off(self, name: str) -> None:
        """Take a round off the schedule."""
        self._do(lambda: remove(self._folder, self._manager, name), lambda _none: self._done())

    def _done(self) -> None:
        self.name.clear()
        self.refresh()

    def _do(self, work: Callable[[], object], done: Callable[[object], None]) -> None:
        self.trouble.setText("")
        in_background(self, work, done, self._failed)

    def _failed(self, error: ThresherError) -> None:
        self.trouble.setText(str(error))

    def _show(self, found: object) -> None:
        assert isinstance(found, tuple)
        self.week.show_rounds(found)
        emptied(self.rows)
        for row, each in enumerate(found):
            days = "" if " " in each.when else "every day "
            words = QLabel(f"{each.name}: {each.kind.value} round, {days}{each.when}", self)
            button = QPushButton("Remove round", self)
            button.setObjectName(f"schedule_remove_{each.name}")
            button.setAccessibleName(f"Remove {each.name}")
            button.clicked.connect(partial(self.take_off, each.name))
            self.rows.addWidget(words, row, 0)
            self.rows.addWidget(button, row, 1)
            self.rows.setColumnStretch(0, 1)
        self.changed.emit()
