"""The Compare station: runs of this machine or others over each other, what changed, how sure, and what would help."""

from pathlib import Path

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from thresher.compare.apart import Request, compare_apart
from thresher.compare.comparison import MOST_RUNS, Comparison
from thresher.compare.proof import proof_sheet
from thresher.compare.stored_spans import HotPart, RunChoice, RunRef, list_runs
from thresher.model.errors import ThresherError
from thresher.model.job import JOB_FILE_ENDING
from thresher.ui.background import in_background
from thresher.ui.form import Panel, form_style, scrolled
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.change_panel import ChangePanel
from thresher.ui.stations.compare.conditions_view import ConditionsView
from thresher.ui.stations.compare.curves_view import CurvesView
from thresher.ui.stations.compare.remedies_view import RemediesView
from thresher.ui.stations.compare.runs_list import RunsList

_FIRST_PICKS = 3
_USUAL_ROOM_C = 22.0
_SELECT = "Select runs on the left, by click or Space."


class CompareStation(QWidget):
    """The whole station. `room_wanted` brings a run of this job and its room temperature in °C,
    `proof_wanted` the run sheet of a proof run, `note_wanted` a sentence for the report, `trouble` what went wrong."""

    room_wanted = pyqtSignal(int, float)
    proof_wanted = pyqtSignal(object)
    note_wanted = pyqtSignal(str)
    trouble = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._others: list[Path] = []
        self._rooms: dict[RunRef, float] = {}
        self._good: RunRef | None = None
        self._listed = 0
        self._wanted: Request | None = None
        self._running = False
        self._listed_for: tuple[str, int | None, str] | None = None
        self.comparison: Comparison | None = None
        self.list = RunsList(look, self)
        self.list.picks_changed.connect(self._compare)
        self.part = QComboBox(self)
        self.part.setObjectName("compare_part")
        self.part.setAccessibleName("Part whose heat is compared")
        self.part.activated.connect(lambda _index: self._compare())
        self.conditions = ConditionsView(state, look, self)
        self.curves = CurvesView(state, look, self)
        self.remedies = RemediesView(state, look, self)
        self.change = ChangePanel(state, look, self)
        self.change.proof.clicked.connect(self._want_proof)
        self.change.note.clicked.connect(self._want_note)
        self._lay_out()
        state.refreshed.connect(self._follow)
        state.machine_changed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self._show(None, _SELECT)

    def _lay_out(self) -> None:
        left = Panel("Runs", self._look, self)
        left.aside = "select one or more"
        self.add = QPushButton("Add job…", left)
        self.add.setObjectName("compare_add")
        self.add.setToolTip("List the runs of another job too: of this machine before, or of one like it")
        self.add.clicked.connect(self._ask_job)
        self.room = QPushButton("Room…", left)
        self.room.setObjectName("compare_room")
        self.room.setToolTip("Enter the room temperature of the highlighted run")
        self.room.clicked.connect(self._ask_room)
        self.good = QPushButton("Known good", left)
        self.good.setObjectName("compare_good")
        self.good.setCheckable(True)
        self.good.setToolTip("Judge by the highlighted run: it is the known-good reference")
        self.good.clicked.connect(self._set_good)
        part_row = QHBoxLayout()
        part_row.addWidget(QLabel("Heat of", left))
        part_row.addWidget(self.part, 1)
        buttons = QHBoxLayout()
        buttons.addWidget(self.add, 1)
        buttons.addWidget(self.room)
        buttons.addWidget(self.good)
        left.column.addLayout(part_row)
        left.column.addWidget(self.list, 1)
        left.column.addLayout(buttons)
        left.column.addWidget(scrolled(self.conditions, left), 1)
        middle = QVBoxLayout()
        middle.setSpacing(8)
        middle.addWidget(self.curves, 5)
        middle.addWidget(self.remedies, 2)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(8)
        row.addWidget(left)
        row.addLayout(middle, 1)
        row.addWidget(self.change)
        left.setFixedWidth(270)
        self.change.setFixedWidth(252)

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))

    # ---- which runs there are

    def showEvent(self, event: QShowEvent | None) -> None:
        """Look which runs there are now."""
        super().showEvent(event)
        self._listed_for = None
        self._follow()

    def _follow(self) -> None:
        """List the runs again when another job is open or a run has ended."""
        snapshot = self._state.snapshot
        if snapshot is None or not self.isVisible():
            return
        now = (snapshot.job_file, self._state.run.run, str(self._state.run.state))
        if now != self._listed_for and not self._state.active:
            if self._listed_for is None or now[0] != self._listed_for[0]:
                self.list.runs.own_job = snapshot.job_file
            self._listed_for = now
            self.reload()

    def reload(self) -> None:
        """Read which runs the open job and the added ones have."""
        snapshot = self._state.snapshot
        if snapshot is None:
            return
        self._listed += 1
        number, paths = self._listed, [Path(snapshot.job_file), *self._others]
        in_background(
            self,
            lambda: tuple(choice for path in paths for choice in list_runs(path)),
            lambda choices: self._take_choices(number, choices),
            self._say_trouble,
        )

    def _take_choices(self, number: int, choices: tuple[RunChoice, ...]) -> None:
        if number != self._listed:
            return
        before, known = list(self.list.runs.picked), {each.ref for each in self.list.runs.choices}
        self.list.runs.set_choices(choices)
        if not self.list.runs.picked:
            self.list.runs.picked = first_picks(choices)
        else:
            self.list.runs.picked += newly_ended(choices, known, self.list.runs.picked)
        if self.list.runs.choices and not self.list.currentIndex().isValid():
            self.list.setCurrentIndex(self.list.runs.index(0))
        self._show_parts()
        if self.list.runs.picked != before or self.comparison is None:
            self._compare()

    def _show_parts(self) -> None:
        """Offer the parts whose temperature any of the runs has."""
        chosen = self.part.currentData()
        parts = list(dict.fromkeys(part for each in self.list.runs.choices for part in each.parts))
        self.part.clear()
        for part in parts:
            self.part.addItem(part.words, part)
        self.part.setCurrentIndex(parts.index(chosen) if chosen in parts else 0)

    def _ask_job(self) -> None:
        snapshot = self._state.snapshot
        folder = str(Path(snapshot.job_file).parent) if snapshot is not None else ""
        name, _ = QFileDialog.getOpenFileName(self, "Job with runs to compare", folder, f"Jobs (*{JOB_FILE_ENDING})")
        if name:
            self.add_job(Path(name))

    def add_job(self, path: Path) -> None:
        """List the runs of another job too."""
        snapshot = self._state.snapshot
        if snapshot is not None and path not in self._others and str(path) != snapshot.job_file:
            self._others.append(path)
            self.reload()

    def _ask_room(self) -> None:
        choice = self.list.chosen()
        if choice is None:
            return
        dialog = QInputDialog(self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setObjectName("compare_room_dialog")
        dialog.setWindowTitle("Room temperature")
        dialog.setLabelText(f"Room temperature during “{choice.name}”, in °C:")
        dialog.setInputMode(QInputDialog.InputMode.DoubleInput)
        dialog.setDoubleRange(-30.0, 60.0)
        dialog.setDoubleDecimals(1)
        dialog.setDoubleValue(self._rooms.get(choice.ref, _USUAL_ROOM_C if choice.room_c is None else choice.room_c))
        dialog.doubleValueSelected.connect(lambda celsius: self.set_room(choice, celsius))
        dialog.open()

    def set_room(self, choice: RunChoice, celsius: float) -> None:
        """Use a room temperature for a run: in this comparison, and in the job where it is the open one."""
        self._rooms[choice.ref] = celsius
        if choice.ref.job == self.list.runs.own_job:
            self.room_wanted.emit(choice.ref.run, celsius)
        self._compare()

    def _set_good(self) -> None:
        """Judge by the highlighted run, or by the part's own limits again."""
        choice = self.list.chosen()
        self._good = choice.ref if self.good.isChecked() and choice is not None and not choice.unfit else None
        self.good.setChecked(self._good is not None)
        self.list.runs.set_good(self._good)
        self._compare()

    # ---- the comparison

    def _compare(self) -> None:
        """Compare what is selected now; while a comparison is being worked out only the newest wish is kept."""
        picked = tuple(self.list.runs.picked)
        if not picked:
            none_fits = "No run of this job can be compared yet: run a steady load, such as the heat hunt."
            fits = any(not each.unfit for each in self.list.runs.choices)
            self._wanted = None
            self._show(None, _SELECT if fits else none_fits)
            return
        part = self.part.currentData()
        rooms = {place: self._rooms[ref] for place, ref in enumerate(picked) if ref in self._rooms}
        self._wanted = Request(picked, part if isinstance(part, HotPart) else None, rooms, self._good)
        self.curves.show_comparison(self.comparison, "Comparing…")
        self._ask_next()

    def _ask_next(self) -> None:
        request = self._wanted
        if self._running or request is None:
            return
        self._running = True
        in_background(
            self,
            lambda: compare_apart(request),
            lambda found: self._take(request, found, ""),
            lambda error: self._take(request, None, str(error).replace("\n", " ")),
        )

    def _take(self, request: Request, found: Comparison | None, trouble: str) -> None:
        """Show what came of a request, unless something else is wanted by now."""
        self._running = False
        if request is self._wanted:
            self._wanted = None
            self._show(found, trouble)
        self._ask_next()

    def _say_trouble(self, error: ThresherError) -> None:
        self.trouble.emit(str(error))

    def _show(self, found: Comparison | None, waiting: str) -> None:
        self.comparison = found
        self.list.runs.set_heats({each.choice.ref: each for each in found.runs} if found is not None else {})
        self.curves.show_comparison(found, waiting)
        self.conditions.show_comparison(found)
        self.remedies.show_comparison(found)
        self.change.show_comparison(found)

    def _want_proof(self) -> None:
        if self.comparison is not None:
            self.proof_wanted.emit(proof_sheet(self.comparison))

    def _want_note(self) -> None:
        if self.comparison is not None:
            self.note_wanted.emit(self.comparison.sentence)


def newly_ended(choices: tuple[RunChoice, ...], known: set[RunRef], picked: list[RunRef]) -> list[RunRef]:
    """Return runs that have ended since and belong to what is compared: of the same job and load as the last pick."""
    last = next((each for each in choices if each.ref == picked[-1]), None)
    return [
        each.ref
        for each in choices
        if last is not None
        and each.ref not in known
        and not each.unfit
        and (each.ref.job, each.load) == (last.ref.job, last.load)
        and each.minutes >= 0.5 * last.minutes
    ][: MOST_RUNS - len(picked)]


def first_picks(choices: tuple[RunChoice, ...]) -> list[RunRef]:
    """Return what is selected at first: the newest runs with the same load as the newest long one, oldest first."""
    fit = [each for each in choices if not each.unfit]
    longest = max((each.minutes for each in fit), default=0.0)
    long = [each for each in fit if each.minutes >= 0.5 * longest]
    if not long:
        return []
    return [each.ref for each in long if each.load == long[-1].load][-_FIRST_PICKS:]
