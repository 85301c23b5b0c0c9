"""The shop's closed jobs: the actual cause, which of them count, and what they change."""

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog, QLabel, QPushButton, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from thresher.model.decisions import PriorChange, culprit_words
from thresher.model.verdict import percent
from thresher.ui.form import form_style
from thresher.ui.state import BenchState
from thresher.ui.theme import Scheme

_CHANGES = 6
_ROLE = Qt.ItemDataRole.UserRole


class ClosedJobsDialog(QDialog):
    """A tick a job: taken away, the job stays in the list and changes nothing."""

    counting = pyqtSignal(str, bool)
    reopen_wanted = pyqtSignal()

    def __init__(self, state: BenchState, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Show the jobs that the state holds."""
        super().__init__(parent)
        self.setObjectName("closed_dialog")
        self.setWindowTitle("Closed jobs of the shop")
        self.setStyleSheet(
            form_style(scheme) + f"QDialog {{ background: {scheme.panel}; }}"
            f"QTreeWidget {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule}; }}"
            f"QHeaderView::section {{ background: {scheme.rail}; color: {scheme.soft}; border: 0; padding: 3px; }}"
        )
        self._state = state
        self.list = QTreeWidget()
        self.list.setObjectName("closed_list")
        self.list.setAccessibleName("Closed jobs")
        self.list.setHeaderLabels(["counts", "job", "closed", "it was", "was given"])
        self.list.setRootIsDecorated(False)
        self.changes = QLabel()
        self.changes.setObjectName("prior_changes")
        self.changes.setWordWrap(True)
        self.reopen = QPushButton("Remove the actual cause and reopen the job")
        self.reopen.setObjectName("reopen")
        self.reopen.clicked.connect(self.reopen_wanted.emit)
        column = QVBoxLayout(self)
        for widget in (self.list, self.changes, self.reopen):
            column.addWidget(widget)
        self._filling = False
        self._shown: object = None
        self.list.itemChanged.connect(self._report)
        state.refreshed.connect(self._fill)
        self._fill()
        self.resize(640, 420)

    def _fill(self) -> None:
        decided = self._state.decided
        if decided is self._shown:
            return
        self._shown, self._filling = decided, True
        self.list.clear()
        for job in reversed(decided.closed):
            was = ", ".join(culprit_words(each) for each in job.culprits) or "nothing faulty"
            given = percent(job.predicted) if job.predicted is not None else "–"
            name = f"{job.number}, {job.job}" if job.number else job.job
            item = QTreeWidgetItem(["", name, f"{datetime.fromtimestamp(job.wall).astimezone():%Y-%m-%d}", was, given])
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(0, Qt.CheckState.Checked if job.counted else Qt.CheckState.Unchecked)
            item.setData(0, _ROLE, job.job)
            self.list.addTopLevelItem(item)
        for number in range(5):
            self.list.resizeColumnToContents(number)
        self.changes.setText(changes_words(decided.changes))
        self.reopen.setEnabled(decided.decisions.actual_cause is not None)
        self._filling = False

    def _report(self, item: QTreeWidgetItem) -> None:
        if not self._filling:
            self.counting.emit(str(item.data(0, _ROLE)), item.checkState(0) is Qt.CheckState.Checked)


def changes_words(changes: tuple[PriorChange, ...]) -> str:
    """Say what the closed jobs change in how common faults are taken to be."""
    if not changes:
        return "No closed job counts: how common faults are is by the knowledge base alone."
    lines = [
        f"{f'{each.kind.value}: ' if each.kind is not None else ''}{each.title}: {each.before * 100:.1f} % of all jobs"
        f" by the knowledge base, {each.after * 100:.1f} % with this shop's ({each.jobs:g} of them)"
        for each in changes[:_CHANGES]
    ]
    return "\n".join(lines)
