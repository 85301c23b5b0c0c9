"""Asking where evidence from outside is from, when it was, and what was installed then."""

from PyQt6.QtCore import QDateTime
from PyQt6.QtWidgets import (
    QCheckBox,
    QDateTimeEdit,
    QDialog,
    QDialogButtonBox,
    QDoubleSpinBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QWidget,
)

from thresher.model.findings import Finding
from thresher.protocol.commands import AddEvidence
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme


class AddEvidenceDialog(QDialog):
    """One sentence of what is added, then from where, when, on what configuration, and in how much use it came."""

    def __init__(
        self,
        findings: tuple[Finding, ...],
        origin: str,
        when: float | None,
        hours: float,
        scheme: Scheme,
        parent: QWidget | None = None,
    ) -> None:
        """`when` is Unix time where the log gives it, `hours` the span of the log."""
        super().__init__(parent)
        self.setObjectName("add_evidence")
        self.setWindowTitle("Add to this job as evidence")
        self.setStyleSheet(form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}")
        many = sum(each.count for each in findings)
        what = findings[0].title if len(findings) == 1 else f"{len(findings)} kinds of findings"
        words = QLabel(
            f"{what}{f', {many} times' if many > len(findings) else ''}. It counts in the verdict of this job."
        )
        words.setWordWrap(True)
        self.origin = QLineEdit(origin)
        self.origin.setObjectName("origin")
        self.known = QCheckBox("known")
        self.known.setObjectName("when_known")
        self.when = QDateTimeEdit(QDateTime.currentDateTime() if when is None else _moment(when))
        self.when.setObjectName("when")
        self.when.setDisplayFormat("yyyy-MM-dd HH:mm:ss")
        self.when.setCalendarPopup(True)
        self.known.setChecked(when is not None)
        self.when.setEnabled(when is not None)
        self.known.toggled.connect(self.when.setEnabled)
        self.configuration = QLineEdit()
        self.configuration.setObjectName("configuration")
        self.configuration.setPlaceholderText("as on the bench now, or what was different")
        self.hours = QDoubleSpinBox()
        self.hours.setObjectName("hours")
        self.hours.setRange(0.0, 87600.0)
        self.hours.setDecimals(1)
        self.hours.setSuffix(" h")
        self.hours.setValue(round(hours, 1))
        self.hours.setToolTip("How long the machine was in use meanwhile; 0 if unknown.")
        self.buttons = QDialogButtonBox()
        self.buttons.addButton("Add", QDialogButtonBox.ButtonRole.AcceptRole)
        self.buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        form = QFormLayout(self)
        form.addRow(words)
        form.addRow("From", self.origin)
        form.addRow("When", self.when)
        form.addRow("", self.known)
        form.addRow("Installed then", self.configuration)
        form.addRow("Used for", self.hours)
        form.addRow(self.buttons)
        self.setMinimumWidth(420)

    def answer(self, findings: tuple[Finding, ...]) -> AddEvidence:
        """Return the command that adds findings with what was given here."""
        return AddEvidence(
            findings,
            self.origin.text().strip() or "outside",
            float(self.when.dateTime().toSecsSinceEpoch()) if self.known.isChecked() else None,
            self.configuration.text(),
            self.hours.value() * 60.0,
        )


def _moment(when: float) -> QDateTime:
    return QDateTime.fromSecsSinceEpoch(int(when))
