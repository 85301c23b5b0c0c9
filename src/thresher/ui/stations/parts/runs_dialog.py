"""Saying under which trial each run was made: older runs too, that were made before the book was kept."""

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QFormLayout, QLabel, QVBoxLayout, QWidget

from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style, scrolled
from thresher.ui.state import BenchState
from thresher.ui.stations.parts.record_bar import last_run
from thresher.ui.theme import Scheme


class RunsDialog(QDialog):
    """A row a run with the trials to choose from; `assigned` carries run and trial."""

    assigned = pyqtSignal(int, int)

    def __init__(self, state: BenchState, scheme: Scheme, parent: QWidget | None = None) -> None:
        """Show all runs of the job."""
        super().__init__(parent)
        self.setObjectName("runs_dialog")
        self.setWindowTitle("Which trial each run belongs to")
        self.setStyleSheet(form_style(scheme) + f"QDialog, QWidget#runs {{ background: {scheme.panel}; }}")
        rows = QWidget()
        rows.setObjectName("runs")
        form = QFormLayout(rows)
        for run in range(1, last_run(state) + 1):
            box = Chooser()
            box.setObjectName(f"run_{run}")
            box.setAccessibleName(f"Trial of run {run}")
            for trial in state.book.trials:
                box.addItem(f"{trial.number + 1}  {trial.title}", trial.number)
            mine = state.book.trial_of(run)
            box.setCurrentIndex(mine.number if mine is not None else 0)
            box.activated.connect(lambda number, run=run: self.assigned.emit(run, number))
            found = sum(each.count for each in state.findings if each.run == run)
            form.addRow(f"Run {run}, {found} finding{'s' if found != 1 else ''}" if found else f"Run {run}, clean", box)
        column = QVBoxLayout(self)
        column.addWidget(QLabel("Evidence stays with the parts that were installed: a run counts for its trial."))
        column.addWidget(scrolled(rows, self), 1)
        self.resize(480, 360)
