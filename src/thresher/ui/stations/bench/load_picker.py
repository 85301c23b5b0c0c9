"""What to do with the parts that are picked on the machine map, in one card, and one key that puts it on the sheet."""

from dataclasses import replace
from itertools import islice, product

from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from thresher.compose.details import AS_HOT, shape_of, shape_word
from thresher.compose.entry import ALL_FREE, EntryError, parse_amount, parse_hold, parse_length
from thresher.compose.ready_made import Pick, Wish, block_of, loads_of
from thresher.compose.sheet_words import LIMITS, parse_limits
from thresher.loads.drive_loads import DriveUse
from thresher.loads.registry import SheetLoad
from thresher.model.channels import Quantity
from thresher.model.parts import PartKind
from thresher.model.sheet import ShapeKind, SheetItem, SheetLimits, WorkingSet
from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.map_picks import pick_words

_LENGTHS = ("5 min", "10 min", "30 min", "1 h", "3 h", "8 h")
_HEATS = (AS_HOT, "hold at 60 °C", "hold at 70 °C", "hold at 80 °C", "hold at 90 °C")
_MOST_COMBINATIONS = 40
_ROWS = ("load", "data", "memory", "file", "shape", "heat", "for", "stop at")


class LoadPicker(QWidget):
    """The card; `put_wanted` comes when it is to be put on the sheet, or behind the run in progress.

    `scan_wanted` comes when a picked drive is to be read, a sample of it or all; `check_wanted` when the checks of the
    picked parts, or the short round over all, are to be put on the sheet.
    """

    put_wanted = pyqtSignal()
    scan_wanted = pyqtSignal(bool)
    check_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin with nothing picked."""
        super().__init__(parent)
        self._state, self._look = state, look
        self.pick = Pick(())
        self.title = QLabel(self)
        self.title.setObjectName("load_title")
        self.fields: dict[str, Chooser] = {}
        self._labels: dict[str, QLabel] = {}
        grid = self._make_fields()
        self.words = QLabel(self)
        self.words.setObjectName("load_words")
        self.words.setWordWrap(True)
        self.button = QPushButton(self)
        self.button.setObjectName("put_on_sheet")
        self.button.setAccessibleName("Put the load on the sheet")
        self.button.clicked.connect(self._put)
        bottom = QHBoxLayout()
        bottom.setContentsMargins(0, 0, 0, 0)
        now = QHBoxLayout()
        now.setContentsMargins(0, 0, 0, 0)
        self.scans: list[QPushButton] = []
        for text, quick in (("Read a sample now", True), ("Read all now", False)):
            scan = QPushButton(text, self)
            scan.setObjectName("quick_scan" if quick else "whole_scan")
            scan.setAccessibleName(text)
            scan.setToolTip("Reads the picked drive at once, beside any run; finds slow and bad places, writes nothing")
            scan.clicked.connect(lambda _checked=False, quick=quick: self.scan_wanted.emit(quick))
            self.scans.append(scan)
            now.addWidget(scan)
        self.check_button = QPushButton("Short round", self)
        self.check_button.setObjectName("check_round")
        self.check_button.setAccessibleName("Put the checks of the picked parts on the bench, of all without")
        self.check_button.setToolTip("Checks every part, or the picked ones, without a person; minutes (Ctrl+H)")
        self.check_button.clicked.connect(self.check_wanted)
        bottom.addWidget(self.check_button)
        bottom.addStretch(1)
        bottom.addWidget(self.button)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 7, 10, 8)
        column.setSpacing(4)
        column.addWidget(self.title)
        column.addLayout(grid)
        column.addWidget(self.words)
        column.addLayout(now)
        column.addLayout(bottom)
        self._fill()
        look.changed.connect(self._restyle)
        self._restyle()
        state.refreshed.connect(self._follow_run)
        self.set_pick(Pick(()))

    def _make_fields(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        for number, name in enumerate(_ROWS):
            field = Chooser(self)
            field.setObjectName(f"load_{name.replace(' ', '_')}")
            field.setAccessibleName(f"{name}, for the picked parts")
            field.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            field.setMaxVisibleItems(16)
            field.activated.connect(lambda _index: self._follow_load())
            label = QLabel(name, self)
            label.setBuddy(field)
            grid.addWidget(label, number, 0)
            grid.addWidget(field, number, 1)
            self.fields[name], self._labels[name] = field, label
        for name in ("memory", "file", "heat", "for", "stop at"):
            self.fields[name].setEditable(True)
            self.fields[name].setInsertPolicy(Chooser.InsertPolicy.NoInsert)
            edit = self.fields[name].lineEdit()
            assert edit is not None
            edit.returnPressed.connect(self._put)
        return grid

    def _fill(self) -> None:
        self.fields["memory"].addItems((ALL_FREE, "80 %", "50 %", "4 GiB", "1 GiB"))
        self.fields["file"].addItems(("4 GiB", "1 GiB", "16 GiB", "64 GiB"))
        self.fields["file"].setToolTip("Size of the scratch file; a reserve of the free space is never used")
        self.fields["shape"].addItems(tuple(shape_word(kind) for kind in ShapeKind))
        self.fields["heat"].addItems(_HEATS)
        self.fields["for"].addItems(_LENGTHS)
        self.fields["stop at"].addItems(tuple(LIMITS))

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.setStyleSheet(
            form_style(scheme)
            + "QComboBox, QLineEdit { padding: 1px 3px; font-size: 12px; }"
            + f"QLabel#load_title {{ color: {scheme.ink}; font-weight: bold; }}"
            + f"QLabel#load_words {{ color: {scheme.soft}; font-size: 11px; }}"
            + f"QPushButton#put_on_sheet {{ background: {scheme.ink}; color: {scheme.panel}; font-weight: bold; }}"
            + f"QPushButton#put_on_sheet:disabled {{ background: {scheme.panel}; color: {scheme.soft}; }}"
        )
        self._say()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the card."""
        painter = QPainter(self)
        scheme = self._look.scheme
        painter.fillRect(QRectF(self.rect()), QColor(scheme.rail))
        painter.setPen(QPen(QColor(scheme.straw), 1.6))
        painter.drawRect(QRectF(self.rect()).adjusted(0.8, 0.8, -0.8, -0.8))
        painter.end()

    # ---- what is picked

    def set_pick(self, pick: Pick) -> None:
        """Show what can be done with other parts."""
        self.pick = pick
        self.check_button.setText("Check these" if pick.kinds else "Short round")
        field = self.fields["load"]
        before = field.currentText()
        field.clear()
        field.addItems([" + ".join(load.name for load in loads) for loads in self._combinations()])
        field.setCurrentIndex(max(0, field.findText(before)))
        self._follow_load()

    def _combinations(self) -> list[tuple[SheetLoad, ...]]:
        """Return what can be loaded together: one load a kind of part, the usual ones first."""
        kinds = [loads for kind in self.pick.kinds if (loads := loads_of(kind))]
        return list(islice(product(*kinds), _MOST_COMBINATIONS)) if kinds else []

    def _loads(self) -> tuple[SheetLoad, ...]:
        combinations = self._combinations()
        index = self.fields["load"].currentIndex()
        return combinations[index] if 0 <= index < len(combinations) else ()

    def _follow_load(self) -> None:
        """Show the fields that the chosen loads have, and what they do."""
        loads = self._loads()
        compute = [load for load in loads if load.row is PartKind.PROCESSOR]
        shaped = [load for load in loads if load.shaped]
        data = self.fields["data"]
        places = compute[0].working_sets if compute else ()
        if [data.itemText(place) for place in range(data.count())] != [each.value for each in places]:
            data.clear()
            data.addItems([each.value for each in places])
            data.setCurrentIndex(max(0, data.findText(WorkingSet.SHARED_CACHE.value)))
        self._show("data", bool(compute))
        self._show("memory", any(load.walks_memory for load in loads))
        self._show("file", any(load.name == DriveUse.VERIFIED for load in loads))
        self._show("shape", bool(shaped))
        self._show("heat", bool(shaped))
        for name in ("load", "for", "stop at"):
            self._show(name, bool(loads))
        self.title.setText(f"LOAD {pick_words(self.pick)}" if self.pick.kinds else "LOAD")
        self._say()

    def _show(self, name: str, shown: bool) -> None:
        self.fields[name].setVisible(shown)
        self._labels[name].setVisible(shown)

    def _say(self, trouble: str = "") -> None:
        scheme = self._look.scheme
        loads = self._loads()
        self.words.setText(trouble or self._sentence(loads))
        self.words.setStyleSheet(f"color: {scheme.fault if trouble else scheme.soft}; font-size: 11px;")
        self.words.setToolTip("\n".join(f"{load.name} finds {load.finds}; misses {load.misses}." for load in loads))
        self.button.setEnabled(bool(loads))
        drive = self.pick.kinds == (PartKind.DRIVE,)
        for scan in self.scans:
            scan.setVisible(drive)
        running = self._state.active
        self.button.setText("Put behind the last" if running else "Put on sheet ↵")
        self.button.setToolTip(
            "Puts it behind the last block of the run in progress (Enter on the machine map)"
            if running
            else "Puts it on the run sheet (Enter on the machine map or in a field here)"
        )

    def _sentence(self, loads: tuple[SheetLoad, ...]) -> str:
        none = [kind.value for kind in self.pick.kinds if not loads_of(kind)]
        if none:
            there = f" The {' and '.join(load.row.value for load in loads)} will be loaded." if loads else ""
            return f"There is no load for the {' or the '.join(none)} yet.{there}"
        if not loads:
            return "Click parts on the map above: a core, the processor's frame for all cores, a memory module."
        if PartKind.MEMORY in self.pick.kinds and len(loads) == 1:
            return f"Strains {loads[0].strains}; it walks all modules, not a single one."
        return f"Strains {loads[0].strains}." if len(loads) == 1 else "Strains supply, cooling and parts together."

    def _follow_run(self) -> None:
        if self.button.text().startswith("Put behind") != self._state.active:
            self._say()

    # ---- what is wished

    def wish(self) -> Wish:
        """Return what is to be done with a part. Raises EntryError."""
        loads = self._loads()
        share, amount = parse_amount(self.fields["memory"].currentText())
        compute = next((load for load in loads if load.row is PartKind.PROCESSOR), None)
        data = self.fields["data"].currentText()
        return Wish(
            parse_length(self.fields["for"].currentText()),
            compute.name if compute is not None else "",
            WorkingSet(data) if data else None,
            shape_of(self.fields["shape"].currentText()),
            parse_hold(self.fields["heat"].currentText()),
            share,
            amount,
        )

    def wish_or_usual(self) -> Wish:
        """Return the wish, the usual one where a field cannot be understood."""
        try:
            return self.wish()
        except EntryError:
            return Wish()

    def limits(self) -> SheetLimits:
        """Return what is to stop the run. Raises EntryError."""
        return parse_limits(self.fields["stop at"].currentText())

    def items(self) -> tuple[SheetItem, ...]:
        """Return a block for each kind of part that is picked, all from the same time. Raises EntryError."""
        wish, loads = self.wish(), {load.row: load for load in self._loads()}
        blocks = (
            block_of(kind, self._for_load(wish, loads[kind]), 0.0, self.pick)
            for kind in self.pick.kinds
            if kind in loads
        )
        return tuple(block for block in blocks if block is not None)

    def _for_load(self, wish: Wish, load: SheetLoad) -> Wish:
        """Return the wish with this load; a scratch file has a size of its own. Raises EntryError."""
        if load.name != DriveUse.VERIFIED:
            return replace(wish, load=load.name)
        return replace(wish, load=load.name, amount=parse_amount(self.fields["file"].currentText())[1])

    def say_trouble(self, text: str) -> None:
        """Show what is wrong with what was typed, in place."""
        self._say(text)

    def _put(self) -> None:
        if self._loads():
            self.put_wanted.emit()

    def power_limit(self) -> float | None:
        """Return the package's power limit in watts, None where the machine reports none."""
        for index in self._state.find_channels(Quantity.POWER, PartKind.PROCESSOR):
            for limit in self._state.channels[index].limits:
                return limit.value
        return None
