"""Asking how a trial ended that no run here saw: on another bench, reported by others, or it did not start at all."""

from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QWidget,
)

from thresher.model.findings import FindingKind
from thresher.model.trials import Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE
from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme

_SEEN = (
    FindingKind.MEMORY_WRONG,
    FindingKind.WRONG_RESULT,
    FindingKind.CORRECTED_CHECK,
    FindingKind.UNCORRECTED_CHECK,
    FindingKind.ENDED_SUDDENLY,
    FindingKind.HEAT_THROTTLE,
    FindingKind.RAIL_OUT,
    FindingKind.GRAPHICS_HANG,
    FindingKind.DRIVE_FAILED,
)
_TRUST = (("seen in person", 0.95), ("reported by a colleague", 0.8), ("reported by the customer", 0.5))


class OutcomeDialog(QDialog):
    """How it ended, under what, after how long, and whose word it is."""

    def __init__(self, trial: Trial, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Ask about a trial."""
        super().__init__(parent)
        self.setObjectName("outcome")
        self.setWindowTitle(f"How trial {trial.number + 1} ended")
        self.setStyleSheet(form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}")
        self.ended, self.seen, self.load, self.trust = (Chooser() for _ in range(4))
        for name, box in (("ended", self.ended), ("seen", self.seen), ("load", self.load), ("trust", self.trust)):
            box.setObjectName(f"outcome_{name}")
        for ended in Ended:
            self.ended.addItem(ended.value, ended)
        for kind in _SEEN:
            self.seen.addItem(kind.value, kind)
        for load in ("memory", "matrix", EVERYDAY_USE):
            self.load.addItem(load, load)
        for words, share in _TRUST:
            self.trust.addItem(words, share)
        self.minutes = QDoubleSpinBox()
        self.minutes.setObjectName("outcome_minutes")
        self.minutes.setRange(0.0, 527000.0)
        self.minutes.setDecimals(0)
        self.minutes.setSuffix(" min")
        self.minutes.setValue(10)
        self.note = QLineEdit()
        self.note.setObjectName("outcome_note")
        self.note.setPlaceholderText("on the other bench, by whom")
        buttons = QDialogButtonBox()
        buttons.addButton("Enter", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form = QFormLayout(self)
        form.addRow(QLabel(trial.title))
        for title, widget in (
            ("It ended", self.ended),
            ("Seen", self.seen),
            ("Under", self.load),
            ("After", self.minutes),
            ("Reported by", self.trust),
            ("Note", self.note),
        ):
            form.addRow(title, widget)
        form.addRow(buttons)
        self.ended.currentIndexChanged.connect(self._fit)
        self._fit()
        self.setMinimumWidth(380)

    def _fit(self) -> None:
        ended = self.ended.currentData()
        self.seen.setEnabled(ended is Ended.FAILED)
        for widget in (self.load, self.minutes):
            widget.setEnabled(ended is not Ended.NO_START)

    def answer(self) -> Outcome:
        """Return the outcome."""
        ended: Ended = self.ended.currentData()
        started = ended is not Ended.NO_START
        return Outcome(
            ended,
            self.load.currentData() if started else "",
            self.minutes.value() if started else 0.0,
            self.seen.currentData() if ended is Ended.FAILED else None,
            self.trust.currentData(),
            self.note.text(),
        )
