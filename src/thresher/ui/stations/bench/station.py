"""The Bench: vitals on top, machine map left, run sheet and lanes in the middle, tape and suspects right."""

from dataclasses import replace

from PyQt6.QtCore import QPointF, QRectF, QSettings, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from thresher.compose.announce import announcement
from thresher.compose.entry import EntryError, length_text
from thresher.compose.geometry import sheet_rows
from thresher.compose.ready_made import ReadyMade, loads_of
from thresher.model.parts import Inventory, PartKind
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block, clock_text
from thresher.protocol.commands import AppendBlock
from thresher.ui.look import Look, draw_text, panel, text_width, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.sheet_editor import SheetEditor
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.block_details import BlockDetails
from thresher.ui.stations.bench.drum_view import DrumView
from thresher.ui.stations.bench.ending_view import EndingView
from thresher.ui.stations.bench.lanes_view import LanesView
from thresher.ui.stations.bench.load_picker import LoadPicker
from thresher.ui.stations.bench.machine_map import MachineMap
from thresher.ui.stations.bench.right_column import RightColumn
from thresher.ui.stations.bench.run_sheet_view import RunSheetView
from thresher.ui.stations.bench.sheet_bar import SheetBar
from thresher.ui.stations.bench.sheet_list import short_title
from thresher.ui.stations.bench.vitals import VitalsBar
from thresher.ui.time_axis import TimeAxis

_NARROW_SHEET, _LOW_STATION = 480, 690
_EMPTY_S = 1800.0
"""What an empty sheet shows."""
_BEFORE_S = 30.0
_AFTER_S = 60.0
"""How much of the idle readings before a run is shown at the left of the axis, and after it at the right."""


_MANY_ROWS = 6
"""With more rows than these there is no room for a scan and the lanes both."""


class _SheetHead(PaintedWidget):
    """Title of the run sheet, and what Start will do or what the run does now."""

    def __init__(self, state: BenchState, look: Look, editor: SheetEditor, parent: QWidget) -> None:
        super().__init__(state, look, "What the run does", parent)
        self._editor = editor
        editor.changed.connect(self.update)
        self.setFixedHeight(62)

    def sentence(self) -> str:
        """Return the sentence below the title."""
        state = self.state
        run = state.run
        if self._editor.composing:
            return self._draft_sentence()
        if state.sheet is None:
            return "No run sheet is on the bench. Pick parts on the machine map, or open a sheet with Ctrl+O."
        if run.state is RunState.ENDED:
            return f"Run {run.run} {run.ending}: {run.outcome}. {run.ending_detail.capitalize()}."
        now = next((item.title for item in run.plan if item.state is StepState.RUNNING), "")
        beats = f"; {run.beats:,} beats checked".replace(",", " ") if run.beats else ""
        wrong = f", {run.mismatches} of them wrong" if run.mismatches else ""
        return f"Run {run.run}, {run.state}{': ' + now if now else ''}{beats}{wrong}"

    def _draft_sentence(self) -> str:
        """Return what is wrong with the draft, else what Start does with it."""
        editor, snapshot = self._editor, self.state.snapshot
        if editor.faults:
            more = f" ({len(editor.faults) - 1} more)" if len(editor.faults) > 1 else ""
            if not editor.draft.blocks:
                return announcement(editor.draft.sheet(), ())
            return f"Cannot start. {editor.faults[0]}{more}"
        cpus = tuple(cpu.core for cpu in snapshot.machine.cpus) if snapshot else ()
        words = announcement(editor.draft.sheet(), cpus)
        warnings = editor.check.warnings if editor.check is not None else ()
        return f"{words} Note: {'; '.join(warnings)}." if warnings else words

    def _title(self) -> str:
        """Return the sheet's title; of a draft also its length, and whether it is saved."""
        editor = self._editor
        if not editor.composing:
            return self.state.sheet.title if self.state.sheet else ""
        length = length_text(editor.draft.length_s) if editor.draft.items else "empty"
        kept = "" if not editor.history.past else ", saved" if editor.saved else ", not saved"
        return f"{short_title(editor.draft.title)}, {length}{kept}"

    def draw(self, painter: QPainter) -> None:
        """Draw title and sentence."""
        scheme, state = self.look.scheme, self.state
        draw_text(painter, QPointF(12, 21), "RUN SHEET", scheme.soft, 11, bold=True)
        title, sentence = self._title(), self.sentence()
        right = self.width() - 14.0
        left = 12 + text_width("RUN SHEET", 11, bold=True) + 14
        room = right - left - (0 if state.run.run is None or self._editor.composing else 130)
        draw_text(painter, QPointF(right, 21), title, scheme.ink, 12.5, right=True, bold=True, width=room)
        wrong = self._editor.composing and bool(self._editor.faults) and bool(self._editor.draft.blocks)
        for number, line in enumerate(wrap(sentence, 11.5, self.width() - 26.0, 2 if self.height() < 70 else 3)):
            draw_text(painter, QPointF(12, 39 + 15 * number), line, scheme.fault if wrong else scheme.ink, 11.5)
        self.spots.append(Spot(QRectF(self.rect()), f"{title}\n{sentence}"))
        if state.run.run is not None and not self._editor.composing:
            text = f"{clock_text(state.now)} of {clock_text(state.run.length_s)}"
            draw_text(painter, QPointF(left, 21), text, scheme.soft, 11.5)
        self.setAccessibleDescription(f"{title}. {sentence}")


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
        self.editor = SheetEditor(state, self)
        self.vitals = VitalsBar(state, look, self)
        self.map = MachineMap(state, look, self, several=True)
        self.picker = LoadPicker(state, look, self)
        middle = _Sheet(look, self)
        self.head = _SheetHead(state, look, self.editor, middle)
        self.run_sheet = RunSheetView(state, look, self.axis, self.editor, self.picker.wish_or_usual, middle)
        self.bar = SheetBar(state, look, self.editor, middle)
        self.details = BlockDetails(look, self.editor, self.picker.power_limit, middle)
        self.drum = DrumView(state, look, middle)
        self.lanes = LanesView(state, look, self.axis, middle, settings)
        self.ending = EndingView(state, look, middle)
        for widget in (self.head, self.run_sheet, self.bar, self.details):
            middle.column.addWidget(widget)
        middle.column.addWidget(self.drum, 1)
        middle.column.addWidget(self.lanes, 1)
        middle.column.addWidget(self.ending, 1)
        middle.column.addStretch(0)
        self.right = RightColumn(state, look, self.editor, self)
        self.tape, self.suspects, self.load_card = self.right.tape, self.right.suspects, self.right.load_card
        self.sheets = self.right.sheets
        self._lay_out(middle)
        self._connect()

    def _lay_out(self, middle: QWidget) -> None:
        self.map.setFixedWidth(self.map.sizeHint().width())
        self.picker.setFixedWidth(self.map.width())
        left = QVBoxLayout()
        left.setSpacing(6)
        left.addWidget(self.map, 1)
        left.addWidget(self.picker)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addLayout(left)
        row.addWidget(middle, 1)
        row.addWidget(self.right)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addWidget(self.vitals)
        column.addLayout(row, 1)

    def _connect(self) -> None:
        state, editor = self._state, self.editor
        self.map.picks_changed.connect(lambda: self.picker.set_pick(self.map.picks.pick()))
        self.map.picks_changed.connect(self._follow_mode)
        self.map.load_wanted.connect(self.put)
        self.picker.put_wanted.connect(self.put)
        self.bar.shape_wanted.connect(self.make)
        self.run_sheet.details_wanted.connect(self.details.enter)
        editor.changed.connect(self._follow_mode)
        state.refreshed.connect(self._follow_mode)
        state.endings_changed.connect(self._follow_mode)
        self.ending.lanes_wanted.connect(self._follow_mode)
        state.refreshed.connect(self._fit_axis)
        state.machine_changed.connect(self._fit_axis)
        editor.changed.connect(self._fit_axis)
        self._follow_mode()

    def _follow_mode(self) -> None:
        """While nothing runs there are no vitals to watch; the card of a run in progress is there for picked parts."""
        composing = self.editor.composing
        stored = self._state.snapshot is not None and self._state.snapshot.kind == "stored job"
        self.vitals.setVisible(not composing)
        narrow = self.head.width() < _NARROW_SHEET
        self.head.setFixedHeight(77 if composing and narrow else 62)
        # where not all of it fits, fields and a scan come before lanes in which nothing happens
        cramped = self.details.isVisibleTo(self) and self.height() < _LOW_STATION
        scanning = self.drum.isVisibleTo(self)
        crowded = scanning and len(self.run_sheet.rows()) > _MANY_ROWS
        room = not (composing and (cramped or scanning)) and not crowded
        ended = self.ending.wanted and not self.details.isVisibleTo(self) and not scanning
        self.ending.setVisible(ended)
        self.lanes.setVisible(room and not ended)
        self.drum.make_room(whole=self.lanes.isHidden())
        self.picker.setVisible(not stored and (composing or bool(self.map.picks.targets)))

    # ---- putting loads on the sheet

    def put(self) -> None:
        """Put what the card says on the sheet, or behind the last block of the run in progress."""
        try:
            items, limits = self.picker.items(), self.picker.limits()
        except EntryError as error:
            self.picker.say_trouble(str(error))
            return
        if not items:
            self.picker.say_trouble("Pick a part that there is a load for: the processor, a core, or the memory.")
        elif self._state.active:
            for item in items:
                if isinstance(item, Block):
                    self.bar.change_wanted.emit(AppendBlock(item))
        else:
            self.editor.put(items, limits)

    def make(self, shape: ReadyMade) -> None:
        """Make a run sheet of a ready-made shape from the picked parts, all that can be loaded where none is picked."""
        machine = self._state.snapshot.machine if self._state.snapshot is not None else None
        if machine is None:
            return
        pick = self.map.picks.pick()
        kinds = tuple(kind for kind in pick.kinds or _usual_kinds(machine) if loads_of(kind))
        try:
            wish, limits = self.picker.wish(), self.picker.limits()
        except EntryError as error:
            self.picker.say_trouble(str(error))
            return
        cores = tuple(sorted({cpu.core for cpu in machine.cpus}))
        self.editor.make(shape, replace(pick, kinds=kinds), wish, cores, limits)

    def picked_drive(self) -> str:
        """Return the kernel name of the drive that is picked, empty where none or several are."""
        names = [each.tag.removeprefix("drive ") for each in self.map.picks.targets if each.kind is PartKind.DRIVE]
        return names[0] if len(names) == 1 else ""

    def go_to_map(self) -> None:
        """Give the machine map the keyboard."""
        self.map.setFocus(Qt.FocusReason.ShortcutFocusReason)

    def go_to_sheet(self) -> None:
        """Give the run sheet the keyboard, with a block selected."""
        self.run_sheet.setFocus(Qt.FocusReason.ShortcutFocusReason)
        if self.editor.composing and not self.editor.chosen:
            self.editor.select_next(1)

    # ---- the axis

    def _fit_axis(self) -> None:
        """Show the whole plan while nobody has zoomed, and let it grow when the record outgrows it."""
        state = self._state
        after_end = _AFTER_S if state.run.state is RunState.ENDED else float("inf")
        planned = (self.editor.draft.length_s or _EMPTY_S) if self.editor.composing else state.run.length_s
        if state.run.run is not None:
            planned = state.run.length_s
        length = max(planned, 60.0, min(state.now, planned + after_end))
        self.axis.fit(-_BEFORE_S, length * (1.1 if self.editor.composing else 1.01))
        self.axis.move_now(state.now)

    def show_all(self) -> None:
        """Show the whole run and follow it."""
        self.run_sheet.axis.follow()
        self.axis.follow()
        self._fit_axis()

    def show_last_minute(self) -> None:
        """Show the last minute, and keep up with it."""
        self.axis.follow_last(60.0)
        self.axis.move_now(self._state.now)


def _usual_kinds(machine: Inventory) -> tuple[PartKind, ...]:
    """Return what a ready-made run loads where nothing is picked: drives are read where somebody asks for it."""
    left_out = {PartKind.DRIVE} | (set() if machine.parts_of(PartKind.GRAPHICS) else {PartKind.GRAPHICS})
    return tuple(kind for kind in sheet_rows() if kind not in left_out)
