"""What was decided and what became of it: the newest locked verdict and the actual cause."""

from datetime import datetime

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QWidget

from thresher.model.decisions import compare
from thresher.model.verdict import percent, suspect_title
from thresher.ui.look import Look
from thresher.ui.state import BenchState

_BUTTONS = (
    ("Lock verdict", "lock", "Lock the verdict as it is now, with date and reasons, to compare it later"),
    (
        "Record actual cause…",
        "actual_cause",
        "Record what it really was; the shop's closed jobs adjust how common faults are",
    ),
    ("Runs…", "assign_runs", "Choose the trial that each run belongs to"),
    ("Part tags…", "print_tags", "Tags for all parts of this job as a PDF, to be printed, cut and tied on"),
    ("Closed jobs…", "closed_jobs", "The shop's closed jobs, what they change, and which of them count"),
)
_GROUPS = {"lock": "Verdict", "assign_runs": "   This job", "closed_jobs": "   Shop"}
"""The word before the first button of a group."""


class RecordBar(QWidget):
    """A line with buttons; each sends a signal of its own when it is pressed."""

    lock_wanted = pyqtSignal()
    actual_cause_wanted = pyqtSignal()
    closed_wanted = pyqtSignal()
    runs_wanted = pyqtSignal()
    tags_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Show what the state holds."""
        super().__init__(parent)
        self._state, self._look = state, look
        self.words = QLabel(self)
        self.words.setObjectName("decided")
        self.words.setAccessibleName("What was decided")
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row = QHBoxLayout(self)
        row.setContentsMargins(4, 0, 4, 0)
        row.addWidget(self.words, 1)
        signals = (
            self.lock_wanted,
            self.actual_cause_wanted,
            self.runs_wanted,
            self.tags_wanted,
            self.closed_wanted,
        )
        self.buttons: dict[str, QPushButton] = {}
        for (text, name, tip), signal in zip(_BUTTONS, signals, strict=True):
            if name in _GROUPS:
                row.addWidget(QLabel(_GROUPS[name], self))
            button = QPushButton(text, self)
            button.setObjectName(name)
            button.setAccessibleName(text.rstrip("…"))
            button.setToolTip(tip)
            button.clicked.connect(signal.emit)
            row.addWidget(button)
            self.buttons[name] = button
        state.refreshed.connect(self._fit)
        self._fit()

    def _fit(self) -> None:
        state = self._state
        words, summary = decided_words(state)
        self.words.setText(words)
        self.words.setToolTip(summary)
        trials = bool(state.book.trials)
        self.buttons["lock"].setEnabled(state.verdict is not None and bool(state.verdict.acts))
        self.buttons["actual_cause"].setEnabled(trials)
        self.buttons["assign_runs"].setEnabled(len(state.book.trials) > 1 and last_run(state) > 0)
        self.buttons["print_tags"].setEnabled(trials)


def last_run(state: BenchState) -> int:
    """Return the number of the newest run of the job, 0 without one."""
    reported = [run for trial in state.book.trials for run in trial.runs] + [each.run or 0 for each in state.findings]
    return max([*reported, state.run.run or 0])


def decided_words(state: BenchState) -> tuple[str, str]:
    """Say what was decided and what became of it: a line, and the story behind it."""
    frozen, actual_cause = state.decided.decisions.locked, state.decided.decisions.actual_cause
    if not frozen:
        if actual_cause is not None:
            return "Closed; no verdict had been locked.", actual_cause.note
        return "No verdict locked yet.", "Lock it when you decide: it keeps date and reasons."
    last = frozen[-1]
    when = f"{datetime.fromtimestamp(last.wall).astimezone():%d %b %Y, %H:%M}"
    summary = [f"Locked {when}, after {last.trials} trial{'s' if last.trials != 1 else ''}: {last.sentence}"]
    for suspect in last.suspects[:4]:
        summary.append(f"{percent(suspect.probability)}  {suspect_title(suspect)}, {suspect.title}")
        strongest = sorted(suspect.reasons, key=lambda reason: -abs(reason.decibans))[:3]
        summary += [f"      {reason.decibans:+.0f}  {reason.text}" for reason in strongest]
    if last.note:
        summary.append(last.note)
    if actual_cause is not None:
        return compare(last, actual_cause), "\n".join(summary)
    return f"Locked {when}: {last.act}", "\n".join(summary)
