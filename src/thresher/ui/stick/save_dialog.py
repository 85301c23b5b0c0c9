"""Saving jobs that are in memory: to another drive, to a network share, or as a QR code."""

from pathlib import Path

import segno
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QDialog, QGridLayout, QLabel, QLineEdit, QListWidget, QPushButton, QWidget

from thresher.app.job_summary import job_summary
from thresher.app.keeping_jobs import Share, Target, find_targets, jobs_in, save_to, save_to_share
from thresher.model.errors import ThresherError
from thresher.stick.boot import RUN, read_state
from thresher.ui.background import in_background
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme

_CODE = 340
_QUIET = 4
"""Light modules around the code (ISO/IEC 18004, 5.3.8)."""


class CodeView(QWidget):
    """A text as a QR code (ISO/IEC 18004)."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._rows: list[bytes] = []
        self.setFixedSize(_CODE, _CODE)

    def show_text(self, text: str) -> None:
        """Show a text, nothing for an empty one."""
        self._rows = [bytes(row) for row in segno.make_qr(text, error="m").matrix] if text else []
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the code, dark on light in either scheme: cameras want it so."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor("#FFFFFF"))
        if self._rows:
            size = _CODE // (len(self._rows) + 2 * _QUIET)
            start = (_CODE - size * len(self._rows)) // 2
            for y, row in enumerate(self._rows):
                for x, dark in enumerate(row):
                    if dark:
                        painter.fillRect(QRectF(start + x * size, start + y * size, size, size), QColor("#000000"))
        painter.end()


class SaveDialog(QDialog):
    """Three ways out of the memory, each by keyboard."""

    def __init__(self, home: Path, scheme: Scheme, parent: QWidget | None = None, run: Path = RUN) -> None:
        """`home` is where jobs are kept."""
        super().__init__(parent)
        self.setWindowTitle("Save jobs")
        self.setStyleSheet(
            form_style(scheme)
            + f"QDialog {{ background: {scheme.panel}; border: 2px solid {scheme.band}; }}"
            + f"QLabel {{ color: {scheme.ink}; }} QLabel#head {{ font-size: 15px; font-weight: 600; }}"
            + f"QListWidget {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule}; }}"
            + f"QListWidget::item:selected {{ background: {scheme.band}; color: {scheme.band_ink}; }}"
        )
        self._home, self._run = home, run
        self._drive = ""
        self._jobs: list[Path] = []
        self._targets: list[Target] = []
        self.said = QLabel("")
        self.said.setWordWrap(True)
        grid = QGridLayout(self)
        grid.setContentsMargins(20, 18, 20, 16)
        grid.setHorizontalSpacing(26)
        grid.setVerticalSpacing(7)
        self._to_drive(grid)
        self._to_share(grid)
        self._as_code(grid)
        grid.addWidget(self.said, 9, 0, 1, 2)
        self.end = QPushButton("Back   Esc")
        self.end.clicked.connect(self.reject)
        grid.addWidget(self.end, 9, 2, Qt.AlignmentFlag.AlignRight)
        in_background(
            self,
            lambda: (read_state(self._run).drive, jobs_in(self._home)),
            lambda found: self._begin(*found),
            self._say,
        )

    def _to_drive(self, grid: QGridLayout) -> None:
        grid.addWidget(_head("To another stick or drive"), 0, 0)
        self.drives = QListWidget()
        self.drives.setMinimumWidth(300)
        grid.addWidget(self.drives, 1, 0, 6, 1)
        again = QPushButton("Refresh list")
        again.clicked.connect(self.look)
        self.save = QPushButton("Save all jobs")
        self.save.clicked.connect(self._save_to_drive)
        grid.addWidget(again, 7, 0)
        grid.addWidget(self.save, 8, 0)

    def _to_share(self, grid: QGridLayout) -> None:
        grid.addWidget(_head("To a network share"), 0, 1)
        self.address, self.user, self.password = QLineEdit(), QLineEdit(), QLineEdit()
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        for row, (field, words) in enumerate(
            ((self.address, "//server/share"), (self.user, "User, empty for a guest"), (self.password, "Password")), 1
        ):
            field.setPlaceholderText(words)
            field.setMinimumWidth(220)
            grid.addWidget(field, row, 1)
        self.share = QPushButton("Save all jobs")
        self.share.clicked.connect(self._save_to_share)
        grid.addWidget(self.share, 4, 1)

    def _as_code(self, grid: QGridLayout) -> None:
        grid.addWidget(_head("As a QR code to photograph"), 0, 2)
        self.code = CodeView(self)
        self.which = QComboBox()
        self.which.currentIndexChanged.connect(self._show_code)
        grid.addWidget(self.which, 1, 2)
        grid.addWidget(self.code, 2, 2, 7, 1)

    def _begin(self, drive: str, jobs: list[Path]) -> None:
        self._drive, self._jobs = drive, jobs
        self.which.addItems([job.stem for job in jobs])
        self.which.setCurrentIndex(len(jobs) - 1)
        self.look()

    def look(self) -> None:
        """List the drives that jobs may be saved to."""
        self.drives.clear()
        drive = self._drive
        in_background(self, lambda: find_targets(drive), self._list, self._say)

    def _list(self, targets: list[Target]) -> None:
        self._targets = targets
        self.drives.addItems([each.words for each in targets])
        self.drives.setCurrentRow(0)
        if not targets:
            self.said.setText("No removable drive found. Thresher never writes to drives inside the machine.")

    def _save_to_drive(self) -> None:
        row = self.drives.currentRow()
        if 0 <= row < len(self._targets):
            target = self._targets[row]
            self.said.setText("Saving …")
            in_background(self, lambda: save_to(target, self._jobs), self.said.setText, self._say)

    def _save_to_share(self) -> None:
        share = Share(self.address.text().strip(), self.user.text(), self.password.text())
        self.said.setText("Saving …")
        in_background(self, lambda: save_to_share(share, self._jobs), self.said.setText, self._say)

    def _show_code(self, row: int) -> None:
        if 0 <= row < len(self._jobs):
            job = self._jobs[row]
            in_background(self, lambda: job_summary(job), self.code.show_text, self._say)

    def _say(self, error: ThresherError) -> None:
        self.said.setText(str(error))


def _head(words: str) -> QLabel:
    label = QLabel(words)
    label.setObjectName("head")
    return label
