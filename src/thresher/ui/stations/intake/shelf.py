"""The shop's shelf: its own parts that are known to be good, for trials."""

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QGridLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from thresher.model.parts import PartKind
from thresher.shop.store import ShopPart
from thresher.ui.chooser import Chooser
from thresher.ui.form import scrolled
from thresher.ui.look import Look, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_ROW = 40.0
_KINDS = (
    PartKind.PROCESSOR,
    PartKind.MEMORY,
    PartKind.GRAPHICS,
    PartKind.DRIVE,
    PartKind.POWER,
    PartKind.BOARD,
    PartKind.COOLING,
)


class ShelfList(PaintedWidget):
    """Draws the parts of the shelf; `picked` carries the tag of the chosen one."""

    picked = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin with nothing chosen."""
        super().__init__(state, look, "Shelf of known-good parts", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.chosen = ""
        state.intake_changed.connect(self._fit)

    def _fit(self) -> None:
        self.setMinimumHeight(int(_ROW * max(1, len(self.state.intake.shelf))) + 30)
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw a row a part, dashed as shop parts are everywhere."""
        scheme = self.look.scheme
        if not self.state.intake.shelf:
            draw_text(painter, QPointF(4, 20), "Nothing on the shelf yet.", scheme.soft, 12)
        for number, part in enumerate(self.state.intake.shelf):
            area = QRectF(1, number * _ROW + 2, self.width() - 2.0, _ROW - 5)
            chosen = part.tag == self.chosen
            painter.setPen(QPen(scheme.part(part.kind), 2.0 if chosen else 1.0, Qt.PenStyle.DashLine))
            painter.setBrush(QColor(scheme.field if chosen else scheme.panel))
            painter.drawRect(area)
            wide = draw_text(
                painter,
                QPointF(area.x() + 9, area.y() + 15),
                part.tag,
                scheme.part(part.kind),
                12,
                bold=True,
                mono=True,
            )
            room = area.width() - wide - 28
            draw_text(painter, QPointF(area.x() + 17 + wide, area.y() + 15), part.name, scheme.ink, 12, width=room)
            proved = f"last proved good {part.proved}" if part.proved else "never proved on this bench"
            words = f"{part.kind.value}, {proved}{', ' + part.note if part.note else ''}"
            draw_text(painter, QPointF(area.x() + 9, area.y() + 30), words, scheme.soft, 11, width=area.width() - 18)
            self.spots.append(Spot(area, f"{part.tag} {part.name}\n{words}"))

    def pick(self, tag: str) -> None:
        """Choose a part."""
        self.chosen = tag
        self.picked.emit(tag)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the part under the mouse."""
        shelf = self.state.intake.shelf
        number = int((event.position().y() - 2) // _ROW) if event is not None else -1
        if 0 <= number < len(shelf):
            self.pick(shelf[number].tag)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from part to part."""
        tags = [part.tag for part in self.state.intake.shelf]
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key())) if event is not None else None
        if step is None or not tags:
            super().keyPressEvent(event)
            return
        now = tags.index(self.chosen) if self.chosen in tags else -1 if step > 0 else 0
        self.pick(tags[(now + step) % len(tags)])


class ShelfPanel(QWidget):
    """The list and the form below it. `wanted` carries the whole shelf as it should be kept."""

    wanted = pyqtSignal(object)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Lay the panel out."""
        super().__init__(parent)
        self._state = state
        self.list = ShelfList(state, look, self)
        self.list.picked.connect(self._show)
        self.kind = Chooser(self)
        self.kind.setObjectName("shelf_kind")
        self.kind.setAccessibleName("Kind of part")
        for kind in _KINDS:
            self.kind.addItem(kind.value)
        self.tag, self.name, self.note = QLineEdit(self), QLineEdit(self), QLineEdit(self)
        for field, name, hint in (
            (self.tag, "shelf_tag", "tag"),
            (self.name, "shelf_name", "what it is"),
            (self.note, "shelf_note", "note"),
        ):
            field.setObjectName(name)
            field.setAccessibleName(f"Shelf: {hint}")
            field.setPlaceholderText(hint)
        self.notice = QLabel("", self)
        self.notice.setObjectName("trouble")
        self.notice.setWordWrap(True)
        grid = QGridLayout()
        grid.setSpacing(4)
        grid.addWidget(self.kind, 0, 0)
        grid.addWidget(self.tag, 0, 1)
        grid.addWidget(self.name, 1, 0, 1, 2)
        grid.addWidget(self.note, 2, 0, 1, 2)
        self.keep = self._button("Keep", "shelf_keep", self._keep)
        self.proved = self._button("Proved good today", "shelf_proved", self._prove)
        self.remove = self._button("Remove from shelf", "shelf_remove", self._remove)
        grid.addWidget(self.proved, 3, 0)
        grid.addWidget(self.keep, 3, 1)
        grid.addWidget(self.remove, 4, 0)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(QLabel("The shop's own parts, known to be good", self))
        column.addWidget(scrolled(self.list, self), 1)
        column.addWidget(self.notice)
        column.addLayout(grid)

    def _button(self, text: str, name: str, slot: Callable[[], None]) -> QPushButton:
        button = QPushButton(text, self)
        button.setObjectName(name)
        button.setAccessibleName(f"Shelf: {text}")
        button.clicked.connect(slot)
        return button

    def _chosen(self) -> ShopPart | None:
        return next((part for part in self._state.intake.shelf if part.tag == self.list.chosen), None)

    def _show(self, _tag: str) -> None:
        part = self._chosen()
        if part is not None:
            self.kind.setCurrentText(part.kind.value)
            self.tag.setText(part.tag)
            self.name.setText(part.name)
            self.note.setText(part.note)

    def _keep(self) -> None:
        """Add a part, or change the one with this tag."""
        tag, name = self.tag.text().strip(), self.name.text().strip()
        if not tag or not name:
            self.notice.setText("A part of the shelf needs a tag and a name")
            return
        self.notice.setText("")
        old = next((part for part in self._state.intake.shelf if part.tag == tag), None)
        kind = PartKind(self.kind.currentText())
        part = ShopPart(tag=tag, kind=kind, name=name, proved=old.proved if old else "", note=self.note.text().strip())
        self._want(part, tag)
        self.list.pick(tag)

    def _prove(self) -> None:
        part = self._chosen()
        if part is not None:
            self._want(replace(part, proved=f"{datetime.now().astimezone():%Y-%m-%d}"), part.tag)

    def _remove(self) -> None:
        part = self._chosen()
        if part is not None:
            self._want(None, part.tag)

    def _want(self, part: ShopPart | None, tag: str) -> None:
        """Ask for the shelf with one part put in the place of the one with its tag, or taken away."""
        shelf = list(self._state.intake.shelf)
        place = next((number for number, each in enumerate(shelf) if each.tag == tag), len(shelf))
        shelf[place : place + 1] = [part] if part is not None else []
        self.wanted.emit(tuple(shelf))
