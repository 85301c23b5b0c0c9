"""The fields of the blocks that are selected on the run sheet, where they stand, without a dialog."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from thresher.compose.details import FIELDS, MIXED, about, fields_of, shown_text
from thresher.compose.entry import EntryError
from thresher.compose.sheet_words import AFTER_CRASH, LIMITS, crash_words, limits_words, parse_crash, parse_limits
from thresher.model.sheet import SheetItem
from thresher.ui.chooser import Chooser
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text, panel, wrap
from thresher.ui.sheet_editor import SheetEditor

_MOST_REPEATS = 50
_ALWAYS = "until stopped"
_NARROW = 470


@dataclass(frozen=True, slots=True)
class _Slot:
    """A field with its label; `shown` is the text that it had when it was filled."""

    label: QLabel
    field: Chooser
    commit: Callable[[str], None]


class BlockDetails(QWidget):
    """A line of fields for what is selected, with what it strains, finds and misses below."""

    def __init__(
        self, look: Look, editor: SheetEditor, power_limit: Callable[[], float | None], parent: QWidget | None = None
    ) -> None:
        """Follow the editor's selection; `power_limit` gives the package limit in watts."""
        super().__init__(parent)
        self._look, self._editor, self._power_limit = look, editor, power_limit
        self.setObjectName("block_details")
        self.setAccessibleName("Fields of the selected blocks")
        self.slots: dict[str, _Slot] = {}
        self._shown: tuple[str, ...] = ()
        self._columns = 0
        self._texts: dict[str, str] = {}
        self._trouble = self._words = ""
        self._shows_trouble = False
        self.grid = QGridLayout()
        self.grid.setContentsMargins(0, 0, 0, 0)
        self.grid.setHorizontalSpacing(8)
        self.grid.setVerticalSpacing(1)
        self.words = QLabel(self)
        self.words.setObjectName("block_words")
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 27, 12, 7)
        column.setSpacing(4)
        column.addLayout(self.grid)
        column.addWidget(self.words)
        for field in FIELDS:
            self._add(field.name, field.label, partial(self._write, field.write), field.free)
        self._add("stop", "run stops at", lambda text: editor.set_limits(parse_limits(text)), True)
        self._add("repeat", "repeat", self._repeat, True)
        self._add("crash", "after a crash", lambda text: editor.set_crash(parse_crash(text, editor.draft.crash)), True)
        self.slots["crash"].field.addItems(tuple(AFTER_CRASH))
        self.slots["stop"].field.addItems(tuple(LIMITS))
        self.slots["repeat"].field.addItems(("1 ×", "2 ×", "5 ×", _ALWAYS))
        editor.changed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self._follow()

    def _add(self, name: str, label: str, commit: Callable[[str], None], free: bool) -> None:
        field = Chooser(self)
        field.setObjectName(f"block_{name}")
        field.setAccessibleName(f"{label} of the selected blocks")
        field.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        field.setMinimumSize(60, 23)
        field.setEditable(free)
        field.setInsertPolicy(Chooser.InsertPolicy.NoInsert)
        field.setMaxVisibleItems(16)
        words = QLabel(label, self)
        words.setBuddy(field)
        self.slots[name] = _Slot(words, field, commit)
        field.activated.connect(lambda _index, name=name: self._commit(name))
        if (edit := field.lineEdit()) is not None:
            edit.editingFinished.connect(lambda name=name: self._commit(name))

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self._shows_trouble = bool(self._trouble)
        self.setStyleSheet(
            form_style(scheme)
            + "QComboBox, QLineEdit { padding: 1px 3px; font-size: 12px; } QLabel { font-size: 11px; }"
            + f"QLabel#block_words {{ color: {scheme.fault if self._trouble else scheme.soft}; font-size: 11px; }}"
        )

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper with what is selected."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        count = len(self._editor.selection)
        title = f"{count} block{'s' if count > 1 else ''} selected"
        panel(painter, QRectF(self.rect()), self._look.scheme, title)
        hint = "Tab goes from field to field; Delete removes, Ctrl+D copies"
        if self.width() > 420:
            draw_text(painter, QPointF(self.width() - 12.0, 21), hint, self._look.scheme.soft, 11, right=True)
        painter.end()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Take fewer columns where it is narrow."""
        super().resizeEvent(event)
        self._lay_out()
        self._write_words(self._words)

    # ---- following the selection

    def _items(self) -> tuple[SheetItem, ...]:
        return tuple(each.item for each in self._editor.selection)

    def _follow(self) -> None:
        items = self._items()
        self.setVisible(self._editor.composing and bool(items))
        if not items:
            self._shown = ()
            return
        shared = fields_of(items)
        names = (*(field.name for field in shared), "stop", "repeat", "crash")
        if names != self._shown:
            self._shown = names
            self._lay_out(anew=True)
        for field in shared:
            offered = self._editor.check.choices if self._editor.check is not None else {}
            choices = tuple(dict.fromkeys((*field.choices(items[0]), *offered.get(field.name, ()))))
            box = self.slots[field.name].field
            if tuple(box.itemText(place) for place in range(box.count())) != choices:
                box.clear()
                box.addItems(choices)
            self._fill(field.name, shown_text(field, items))
        self._fill("stop", limits_words(self._editor.draft.limits))
        self._fill("crash", crash_words(self._editor.draft.crash))
        self._fill("repeat", _ALWAYS if self._editor.draft.repeat else "1 ×")
        self._say()

    def _fill(self, name: str, text: str) -> None:
        self._texts[name] = text
        box = self.slots[name].field
        box.setToolTip(text)
        if box.isEditable():
            if box.currentText() != text:
                box.setEditText(text)
            if (edit := box.lineEdit()) is not None:
                edit.setCursorPosition(0)
        elif text == MIXED:
            box.setPlaceholderText(MIXED)
            box.setCurrentIndex(-1)
        else:
            box.setCurrentText(text)

    def _say(self) -> None:
        faults = [fault for each in self._editor.selection if (fault := self._editor.fault_of(each))]
        self._trouble = "; ".join(dict.fromkeys(faults))
        items = self._items()
        kinds = {item.load if hasattr(item, "load") else item.kind for item in items}
        words = about(items[0], self._power_limit()) if len(kinds) == 1 else "Fields that all of them have."
        self._write_words(self._trouble or words)

    def _write_words(self, words: str) -> None:
        """Write what the selection does, or what is wrong with it, on few lines; the tooltip has it whole."""
        self._words = words
        if bool(self._trouble) != self._shows_trouble:
            self._restyle()
        most = 4 if self.width() < _NARROW else 3
        self.words.setText("\n".join(wrap(words, 11, max(60.0, self.width() - 26.0), most)))
        self.words.setToolTip(words)

    def _lay_out(self, anew: bool = False) -> None:
        columns = 3 if self.width() < _NARROW else 4
        if columns == self._columns and not anew:
            return
        self._columns = columns
        while self.grid.takeAt(0) is not None:
            pass
        for name, slot in self.slots.items():
            for widget in (slot.label, slot.field):
                widget.setVisible(name in self._shown)
        for place, name in enumerate(self._shown):
            row, column = divmod(place, columns)
            self.grid.addWidget(self.slots[name].label, 2 * row, column)
            self.grid.addWidget(self.slots[name].field, 2 * row + 1, column)
        for column in range(4):
            self.grid.setColumnStretch(column, 1 if column < columns else 0)
        previous: QWidget | None = None
        for name in self._shown:
            if previous is not None:
                QWidget.setTabOrder(previous, self.slots[name].field)
            previous = self.slots[name].field

    # ---- typing

    def _commit(self, name: str) -> None:
        text = self.slots[name].field.currentText()
        if text == self._texts.get(name) or name not in self._shown:
            return
        try:
            self.slots[name].commit(text)
        except EntryError as error:
            self._trouble = f"{self.slots[name].label.text()}: {error}"
            self._write_words(self._trouble)

    def _write(self, write: Callable[[SheetItem, str], SheetItem], text: str) -> None:
        for item in self._items():
            write(item, text)  # refused before anything is changed
        self._editor.change(lambda item: write(item, text))

    def _repeat(self, text: str) -> None:
        wanted = text.strip().lower()
        if wanted == _ALWAYS:
            self._editor.set_repeat(True)
            return
        words = wanted.removesuffix("×").removesuffix("x").strip()
        if not words.isdecimal() or not 1 <= int(words) <= _MOST_REPEATS:
            raise EntryError(f"expected 1 to {_MOST_REPEATS}, or {_ALWAYS}; found {text.strip()!r}")
        self._editor.set_repeat(False)
        if int(words) > 1:
            self._editor.duplicate(int(words) - 1)

    def enter(self) -> None:
        """Give the first field the keyboard."""
        if self._shown:
            self.slots[self._shown[0]].field.setFocus()
