"""The buttons below the run sheet: ready-made shapes and editing while nothing runs, changes while a run goes on."""

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QMenu, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from thresher.compose.entry import length_text
from thresher.compose.ready_made import READY_MADE, ReadyMade
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import GateKind
from thresher.protocol.commands import AddNote, AddTime, EndBlock, GoOn, LeaveOut
from thresher.protocol.status import PlanItem
from thresher.ui.form import form_style
from thresher.ui.look import Look
from thresher.ui.sheet_editor import SheetEditor
from thresher.ui.state import BenchState

_MORE_S = 600.0
_GATE_KEYS = {GateKind.COOL_DOWN: "Ctrl+G", GateKind.SETTLE: "Ctrl+Shift+G", GateKind.ASK: "Ctrl+Alt+G"}
_GATE_WORDS = {
    GateKind.COOL_DOWN: "Cool down: wait until it is as cool as at the start",
    GateKind.SETTLE: "Settle: wait until the temperature is steady",
    GateKind.ASK: "Ask: wait until you say go on",
}


def _button(text: str, name: str, tip: str, keys: str, do: Callable[[], object], parent: QWidget) -> QPushButton:
    button = QPushButton(text, parent)
    button.setObjectName(name)
    button.setAccessibleName(text.rstrip("…"))
    button.setToolTip(f"{tip} ({keys})" if keys else tip)
    if keys:
        button.setShortcut(keys)
    button.clicked.connect(lambda _checked=False: do())
    return button


@dataclass(frozen=True, slots=True)
class _Row:
    """A line of buttons that is shown together."""

    widget: QWidget
    buttons: dict[str, QPushButton]


class SheetBar(QWidget):
    """Shows the line that fits: composing, following a run, or after one.

    `shape_wanted` carries the ready-made shape, `save_wanted` comes for saving, `change_wanted` carries a command to
    the engine.
    """

    shape_wanted = pyqtSignal(object)
    save_wanted = pyqtSignal()
    change_wanted = pyqtSignal(object)

    def __init__(self, state: BenchState, look: Look, editor: SheetEditor, parent: QWidget | None = None) -> None:
        """Follow the state and the editor."""
        super().__init__(parent)
        self._state, self._look, self._editor = state, look, editor
        self.buttons: dict[str, QPushButton] = {}
        self.shapes = self._row([self._shape(shape) for shape in READY_MADE])
        self.edits = self._row(self._edit_buttons())
        self.changes = self._row(self._change_buttons())
        self.target = QLabel(self.changes)
        self.target.setObjectName("change_target")
        self.target.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        changes_line = self.changes.layout()
        assert isinstance(changes_line, QHBoxLayout)
        changes_line.addWidget(self.target, 20)
        self.after = self._row(
            [
                _button(
                    "Compose next run",
                    "compose_next",
                    "Edit the run sheet for another run; the record stays in the lanes",
                    "Ctrl+E",
                    editor.compose,
                    self,
                )
            ]
        )
        self.note = QLineEdit(self)
        self.note.setObjectName("tape_note")
        self.note.setAccessibleName("Note for the tape")
        self.note.setPlaceholderText("Note for the tape, such as: opened the side panel")
        self.note.returnPressed.connect(self._write_note)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 2, 10, 6)
        column.setSpacing(4)
        for row in (self.shapes, self.edits, self.changes, self.after):
            column.addWidget(row)
        column.addWidget(self.note)
        look.changed.connect(self._restyle)
        state.refreshed.connect(self.follow)
        editor.changed.connect(self.follow)
        self._restyle()
        self.follow()

    def _row(self, buttons: list[QPushButton]) -> QWidget:
        row = QWidget(self)
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(5)
        for button in buttons:
            button.setParent(row)
            button.setSizePolicy(QSizePolicy.Policy.Maximum, QSizePolicy.Policy.Fixed)
            self.buttons[button.objectName()] = button
            line.addWidget(button)
        line.addStretch(1)
        return row

    def _shape(self, shape: ReadyMade) -> QPushButton:
        name = "shape_" + shape.title.lower().replace(" ", "_")
        tip = f"Makes a run sheet of the picked parts: {shape.about}"
        return _button(shape.title, name, tip, "", lambda: self.shape_wanted.emit(shape), self)

    def _edit_buttons(self) -> list[QPushButton]:
        editor = self._editor
        gate = QPushButton("Gate", self)
        gate.setObjectName("put_gate")
        gate.setAccessibleName("Put a gate")
        gate.setToolTip("Puts a point that waits before the selected block, or at the end")
        menu = QMenu(gate)
        self._gates: list[QAction] = []
        for kind, words in _GATE_WORDS.items():
            action = QAction(words, self)
            action.setShortcut(QKeySequence(_GATE_KEYS[kind]))
            action.triggered.connect(lambda _checked=False, kind=kind: editor.put_gate(kind))
            self.addAction(action)
            menu.addAction(action)
            self._gates.append(action)
        gate.setMenu(menu)
        return [
            gate,
            _button("Split", "split", "Cuts the selected block in two (S on the sheet)", "", editor.split, self),
            _button("Undo", "undo_edit", "Undoes the last edit of the sheet (Ctrl+Z)", "", editor.undo, self),
            _button("Redo", "redo_edit", "Carries out again what was undone (Ctrl+Shift+Z)", "", editor.redo, self),
            _button("Save sheet…", "save_sheet", "Saves the sheet as the shop's own", "Ctrl+S", self._save, self),
            _button(
                "Back to the record",
                "back_to_record",
                "Shows the last run again; the draft is kept",
                "",
                lambda: editor.compose(False),
                self,
            ),
        ]

    def _save(self) -> None:
        self.save_wanted.emit()

    def _change_buttons(self) -> list[QPushButton]:
        more = length_text(_MORE_S)
        return [
            _button(
                f"+ {more}", "add_time", f"Lets the block that runs go on for {more} more", "F6", self._add_time, self
            ),
            _button("End block", "end_block", "Ends the block that runs and goes on", "F7", self._end_block, self),
            _button(
                "Leave out next",
                "leave_out",
                "Leaves out the next block to come",
                "F8",
                self._leave,
                self,
            ),
            _button("Go on", "go_on", "Opens the gate that waits", "F9", self._go_on, self),
        ]

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme) + "QPushButton { padding: 2px 8px; font-size: 12px; }")

    # ---- what is shown

    def follow(self) -> None:
        """Show what can be done now."""
        editor, state = self._editor, self._state
        stored = state.snapshot is not None and state.snapshot.kind == "stored job"
        self.shapes.setVisible(editor.composing)
        self.edits.setVisible(editor.composing)
        self.changes.setVisible(state.active)
        self.after.setVisible(not editor.composing and state.run.state is RunState.ENDED and not stored)
        self.note.setVisible(state.active)
        for action in self._gates:
            action.setEnabled(editor.composing)
        self.buttons["undo_edit"].setEnabled(bool(editor.history.past))
        self.buttons["redo_edit"].setEnabled(bool(editor.history.undone))
        self.buttons["split"].setEnabled(bool(editor.chosen))
        self.buttons["back_to_record"].setVisible(state.run.run is not None)
        running, coming = self._running(), self._coming()
        waits = running is not None and running.gate and running.state is StepState.RUNNING
        self.buttons["add_time"].setEnabled(running is not None and not running.gate)
        self.buttons["end_block"].setEnabled(
            running is not None and not running.gate and running.state is StepState.RUNNING
        )
        self.buttons["leave_out"].setEnabled(coming is not None)
        self.buttons["go_on"].setVisible(waits)
        picked = editor.picked_step
        self.target.setText(f"for {picked.title}" if picked is not None else "")

    def _running(self) -> PlanItem | None:
        """Return the step that more time or an end is for: the picked one, else the first that runs."""
        picked = self._editor.picked_step
        return picked or next((item for item in self._state.run.plan if item.state is StepState.RUNNING), None)

    def _coming(self) -> PlanItem | None:
        """Return the step that would be left out: the picked one, else the next block."""
        picked = self._editor.picked_step
        if picked is not None:
            return picked if picked.state is StepState.COMING else None
        return next((item for item in self._state.run.plan if item.state is StepState.COMING and not item.gate), None)

    # ---- changing a run

    def _add_time(self) -> None:
        if (item := self._running()) is not None:
            self.change_wanted.emit(AddTime(item.step, _MORE_S))

    def _end_block(self) -> None:
        if (item := self._running()) is not None:
            self.change_wanted.emit(EndBlock(item.step))

    def _leave(self) -> None:
        if (item := self._coming()) is not None:
            self.change_wanted.emit(LeaveOut(item.step))

    def _go_on(self) -> None:
        if (item := self._running()) is not None and item.gate:
            self.change_wanted.emit(GoOn(item.step))

    def _write_note(self) -> None:
        text = self.note.text().strip()
        if text:
            self.change_wanted.emit(AddNote(text))
            self.note.clear()
