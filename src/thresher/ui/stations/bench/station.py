"""The Bench: vitals on top, machine map left, run sheet and lanes in the middle, tape and suspects right."""

from PyQt6.QtCore import QPointF, QRectF, QSettings
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import RunSheet, clock_text
from thresher.ui.look import Look, draw_text, panel, text_width, wrap
from thresher.ui.painted import PaintedWidget
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.lanes_view import LanesView
from thresher.ui.stations.bench.load_card import LoadCard
from thresher.ui.stations.bench.machine_map import MachineMap
from thresher.ui.stations.bench.run_sheet_view import RunSheetView
from thresher.ui.stations.bench.suspect_card import SuspectCard
from thresher.ui.stations.bench.tape_view import TapeView, column_width
from thresher.ui.stations.bench.vitals import VitalsBar
from thresher.ui.time_axis import TimeAxis

_BEFORE_S = 30.0
_AFTER_S = 60.0
"""How much of the idle readings before a run is shown at the left of the axis, and after it at the right."""


def start_sentence(sheet: RunSheet, cpus: int) -> str:
    """Say in one sentence what starting the sheet will do."""
    seconds = sum(block.length_s for block in sheet.blocks)
    threads = max(block.threads or cpus for block in sheet.blocks)
    limit = sheet.limits.temperature_c
    stops = f"It stops at {limit:.0f} °C" if limit is not None else "Only the chip's own limits hold the heat"
    plural = "s" if threads > 1 else ""
    return (
        f"Start puts {threads} thread{plural} under load for {clock_text(seconds)}, as hot as the cooling allows."
        f" {stops}. An unstable machine may reset; Esc ends the load at once."
    )


class _SheetHead(PaintedWidget):
    """Title of the run sheet, and what Start will do or what the run does now."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        super().__init__(state, look, "What the run does", parent)
        self.setFixedHeight(62)

    def sentence(self) -> str:
        """Return the sentence below the title."""
        state = self.state
        run = state.run
        if state.sheet is None:
            return "No run sheet is on the bench. Open one with Ctrl+O."
        if run.state is RunState.IDLE:
            cpus = len(state.snapshot.machine.cpus) if state.snapshot else 1
            return start_sentence(state.sheet, cpus)
        if run.state is RunState.ENDED:
            return f"Run {run.run} {run.ending}: {run.outcome}. {run.ending_detail.capitalize()}."
        now = next((item.title for item in run.plan if item.state is StepState.RUNNING), "")
        beats = f"; {run.beats:,} beats checked".replace(",", " ") if run.beats else ""
        wrong = f", {run.mismatches} of them wrong" if run.mismatches else ""
        return f"Run {run.run}, {run.state}{': ' + now if now else ''}{beats}{wrong}"

    def draw(self, painter: QPainter) -> None:
        """Draw title and sentence."""
        scheme, state = self.look.scheme, self.state
        draw_text(painter, QPointF(12, 21), "RUN SHEET", scheme.soft, 11, bold=True)
        title = state.sheet.title if state.sheet else ""
        right = self.width() - 14.0
        draw_text(painter, QPointF(right, 21), title, scheme.ink, 12.5, right=True, bold=True)
        for number, line in enumerate(wrap(self.sentence(), 11.5, self.width() - 26.0, 2)):
            draw_text(painter, QPointF(12, 39 + 15 * number), line, scheme.ink, 11.5)
        left = 12 + text_width("RUN SHEET", 11, bold=True) + 14
        if state.run.run is not None:
            text = f"{clock_text(state.now)} of {clock_text(state.run.length_s)}"
            draw_text(painter, QPointF(left, 21), text, scheme.soft, 11.5)
        self.setAccessibleDescription(f"{title}. {self.sentence()}")


class _Sheet(QWidget):
    """A panel with widgets on it."""

    def __init__(self, look: Look, parent: QWidget, title: str = "", aside: str = "") -> None:
        super().__init__(parent)
        self._look = look
        self._title, self._aside = title, aside
        look.changed.connect(self.update)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(2, 30 if title else 2, 2, 2)
        self.column.setSpacing(0)

    def paintEvent(self, _event: object) -> None:
        """Paint the paper."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        panel(painter, QRectF(self.rect()), self._look.scheme, self._title, self._aside)
        painter.end()


class BenchStation(QWidget):
    """The whole station."""

    def __init__(
        self, state: BenchState, look: Look, parent: QWidget | None = None, settings: QSettings | None = None
    ) -> None:
        """Lay the station out; `settings` keeps how lanes were arranged."""
        super().__init__(parent)
        self._state = state
        self.axis = TimeAxis(self)
        self.vitals = VitalsBar(state, look, self)
        self.map = MachineMap(state, look, self)
        middle = _Sheet(look, self)
        self.head = _SheetHead(state, look, middle)
        self.run_sheet = RunSheetView(state, look, self.axis, middle)
        self.lanes = LanesView(state, look, self.axis, middle, settings)
        for widget, stretch in ((self.head, 0), (self.run_sheet, 0), (self.lanes, 1)):
            middle.column.addWidget(widget, stretch)
        right = _Sheet(look, self, "Tape", "newest first")
        self.tape = TapeView(state, look, right)
        self.suspects = SuspectCard(state, look, right)
        self.load_card = LoadCard(state, look, right)
        right.column.addWidget(self.tape, 1)
        right.column.addWidget(self.load_card)
        right.column.addWidget(self.suspects)
        right.setFixedWidth(column_width())
        self.map.setFixedWidth(self.map.sizeHint().width())
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(self.map)
        row.addWidget(middle, 1)
        row.addWidget(right)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addWidget(self.vitals)
        column.addLayout(row, 1)
        state.refreshed.connect(self._fit_axis)
        state.machine_changed.connect(self._fit_axis)

    def _fit_axis(self) -> None:
        """Show the whole plan while nobody has zoomed, and let it grow when the record outgrows it."""
        state = self._state
        after_end = _AFTER_S if state.run.state is RunState.ENDED else float("inf")
        length = max(state.run.length_s, 60.0, min(state.now, state.run.length_s + after_end))
        self.axis.fit(-_BEFORE_S, length * 1.01)
        self.axis.move_now(state.now)

    def show_all(self) -> None:
        """Show the whole run and follow it."""
        self.axis.follow()
        self._fit_axis()

    def show_last_minute(self) -> None:
        """Show the last minute, and keep up with it."""
        self.axis.follow_last(60.0)
        self.axis.move_now(self._state.now)
