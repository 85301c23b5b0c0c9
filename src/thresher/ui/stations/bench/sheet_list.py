"""The run sheets to start from: proposed ones and the shop's own, with what each finds and when it was used last."""

import re
from dataclasses import dataclass
from datetime import datetime

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QGridLayout,
    QLabel,
    QLineEdit,
    QListView,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from thresher.compose.entry import length_text
from thresher.protocol.commands import DeleteSheet, RenameSheet
from thresher.protocol.intake import SheetOffer
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text, text_width, wrap
from thresher.ui.state import BenchState

_OFFER_ROLE = Qt.ItemDataRole.UserRole
_HEAD_HIGH, _ROW_HIGH = 26, 58
Index = QModelIndex


@dataclass(frozen=True, slots=True)
class _Entry:
    """A line of the list: a sheet, or the head of a section."""

    head: str = ""
    offer: SheetOffer | None = None


def short_title(title: str) -> str:
    """Return a title without the length at its end, which is written beside it."""
    return re.sub(r", \d+ (min|h)$", "", title)


def offer_line(offer: SheetOffer) -> str:
    """Return the one line that says why to take a sheet: its last use, its first reason, else what it does."""
    if offer.trouble:
        return f"cannot be used: {offer.trouble}"
    if offer.own:
        if offer.last_used is None:
            return "not used yet"
        return f"last used {datetime.fromtimestamp(offer.last_used).astimezone():%-d %b %Y}"
    return offer.reasons[0] if offer.reasons else offer.about


class SheetModel(QAbstractListModel):
    """Proposed sheets first, the shop's own below."""

    def __init__(self, parent: QWidget) -> None:
        """Begin empty."""
        super().__init__(parent)
        self.entries: tuple[_Entry, ...] = ()

    def show_offers(self, offers: tuple[SheetOffer, ...]) -> None:
        """Show these sheets."""
        ours = [_Entry(offer=offer) for offer in offers if offer.own]
        head = [_Entry(head="The shop's own")] if ours else []
        entries = (*(_Entry(offer=offer) for offer in offers if not offer.own), *head, *ours)
        if entries != self.entries:
            self.beginResetModel()
            self.entries = entries
            self.endResetModel()

    def rowCount(self, _parent: Index | None = None) -> int:
        """Return the number of lines."""
        return len(self.entries)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a line, or its text."""
        if not index.isValid() or index.row() >= len(self.entries):
            return None
        entry = self.entries[index.row()]
        if role == _OFFER_ROLE:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return entry.head or f"{entry.offer.title}, {offer_line(entry.offer)}" if entry.offer else entry.head
        if role == Qt.ItemDataRole.ToolTipRole and entry.offer is not None:
            return offer_story(entry.offer)
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        """Heads cannot be selected."""
        entry = self.entries[index.row()] if index.isValid() else _Entry()
        return super().flags(index) if entry.offer is not None else Qt.ItemFlag.NoItemFlags


def offer_story(offer: SheetOffer) -> str:
    """Return all that there is to say about a sheet."""
    lines = [offer.trouble or offer.about, *(f"– {reason}" for reason in offer.reasons)]
    lines += [f"Finds {offer.finds}"] if offer.finds else []
    lines += [f"Misses {offer.misses}"] if offer.misses else []
    return "\n".join(line for line in lines if line)


class _Delegate(QStyledItemDelegate):
    """Draws a sheet: title and length, and one line why."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._look = look

    def sizeHint(self, _option: QStyleOptionViewItem, index: Index) -> QSize:
        """Return the height of a line."""
        entry = index.data(_OFFER_ROLE)
        return QSize(100, _HEAD_HIGH if isinstance(entry, _Entry) and entry.head else _ROW_HIGH)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one line."""
        entry = index.data(_OFFER_ROLE)
        if painter is None or not isinstance(entry, _Entry):
            return
        scheme, area = self._look.scheme, QRectF(option.rect).adjusted(8, 0, -8, 0)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if entry.offer is None:
            draw_text(painter, QPointF(area.x() + 2, area.y() + 18), entry.head.upper(), scheme.soft, 11, bold=True)
            painter.restore()
            return
        offer = entry.offer
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        box = area.adjusted(0.8, 2, -0.8, -2)
        painter.setBrush(QColor(scheme.grid if selected else scheme.field))
        edge = scheme.straw if selected or offer.fits else scheme.rule
        painter.setPen(QPen(QColor(edge), 1.6 if selected or offer.fits else 1.0))
        painter.drawRect(box)
        length = "" if offer.trouble else length_text(offer.length_s)
        room = box.width() - 20 - text_width(length, 11)
        title = short_title(offer.title)
        draw_text(painter, QPointF(box.x() + 8, box.y() + 16), title, scheme.ink, 12, bold=True, width=room)
        draw_text(painter, QPointF(box.right() - 8, box.y() + 16), length, scheme.soft, 11, right=True)
        ink = scheme.fault if offer.trouble else scheme.soft
        for number, line in enumerate(wrap(offer_line(offer), 11, box.width() - 16, 2)):
            draw_text(painter, QPointF(box.x() + 8, box.y() + 32 + 14 * number), line, ink, 11)
        painter.restore()


class _List(QListView):
    """The list itself: Enter opens a sheet, F2 renames and Delete deletes one of the shop's own."""

    opened = pyqtSignal()
    rename_wanted = pyqtSignal()
    delete_wanted = pyqtSignal()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Take the keys of the list."""
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.opened.emit()
        elif key is Qt.Key.Key_F2:
            self.rename_wanted.emit()
        elif key is Qt.Key.Key_Delete:
            self.delete_wanted.emit()
        else:
            super().keyPressEvent(event)


class SheetList(QWidget):
    """The list with what the selected sheet is for and the buttons for it.

    `open_wanted` carries a name, `command_wanted` a command to the engine, `save_wanted` the title that the draft is
    to be saved under, `import_wanted` and `export_wanted` come for files elsewhere.
    """

    open_wanted = pyqtSignal(str)
    command_wanted = pyqtSignal(object)
    save_wanted = pyqtSignal(str)
    import_wanted = pyqtSignal()
    export_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Follow the offers of the intake."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._renaming: SheetOffer | None = None
        self.model = SheetModel(self)
        self.list = self._make_list()
        self.name = QLineEdit(self)
        self.name.setObjectName("sheet_name")
        self.name.setAccessibleName("Name of the run sheet")
        self.name.returnPressed.connect(self._named)
        self.name.hide()
        self.story = QLabel(self)
        self.story.setObjectName("sheet_story")
        self.story.setWordWrap(True)
        self.buttons: dict[str, QPushButton] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 8)
        column.addWidget(self.list, 1)
        below = QVBoxLayout()
        below.setContentsMargins(10, 0, 10, 0)
        below.setSpacing(5)
        below.addWidget(self.story)
        below.addWidget(self.name)
        below.addLayout(self._make_buttons())
        column.addLayout(below)
        state.intake_changed.connect(self._take)
        look.changed.connect(self._restyle)
        self._restyle()
        self._follow()

    def _make_list(self) -> _List:
        made = _List(self)
        made.setObjectName("sheet_list")
        made.setAccessibleName("Run sheets to start from")
        made.setModel(self.model)
        made.setItemDelegate(_Delegate(self._look, made))
        made.setFrameShape(QListView.Shape.NoFrame)
        made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        made.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        made.doubleClicked.connect(lambda _index: self._open())
        made.opened.connect(self._open)
        made.rename_wanted.connect(self._rename)
        made.delete_wanted.connect(self._delete)
        selection = made.selectionModel()
        if selection is not None:
            selection.currentChanged.connect(lambda _now, _before: self._follow())
        return made

    def _make_buttons(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        for place, (text, name, tip, do) in enumerate(
            (
                ("Start from this ↵", "open_sheet", "Opens the sheet to be edited; nothing is started", self._open),
                ("Rename…", "rename_sheet", "Renames one of the shop's own (F2)", self._rename),
                ("Delete", "delete_sheet", "Moves one of the shop's own among the deleted ones (Del)", self._delete),
                ("Import…", "import_sheet", "Opens a run sheet file (Ctrl+O)", self.import_wanted.emit),
                ("Export…", "export_sheet", "Writes the sheet being edited into a file", self.export_wanted.emit),
            )
        ):
            button = QPushButton(text, self)
            button.setObjectName(name)
            button.setAccessibleName(text.rstrip("…↵ "))
            button.setToolTip(tip)
            button.clicked.connect(lambda _checked=False, do=do: do())
            self.buttons[name] = button
            if place == 0:
                grid.addWidget(button, 0, 0, 1, 2)
            else:
                grid.addWidget(button, 1 + (place - 1) // 2, (place - 1) % 2)
        return grid

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.setStyleSheet(
            form_style(scheme)
            + "QPushButton { padding: 2px 6px; font-size: 11.5px; }"
            + f"QListView {{ background: {scheme.panel}; }} QLabel {{ font-size: 11px; }}"
        )

    def _take(self) -> None:
        chosen = self.offer()
        self.model.show_offers(self._state.intake.offers)
        names = [entry.offer.name if entry.offer else "" for entry in self.model.entries]
        if chosen is not None and chosen.name in names:
            self.list.setCurrentIndex(self.model.index(names.index(chosen.name)))
        self._follow()

    def offer(self) -> SheetOffer | None:
        """Return the selected sheet."""
        entry = self.list.currentIndex().data(_OFFER_ROLE)
        return entry.offer if isinstance(entry, _Entry) else None

    def _follow(self) -> None:
        offer = self.offer()
        own = offer is not None and offer.own
        self.buttons["open_sheet"].setEnabled(offer is not None and not offer.trouble)
        self.buttons["rename_sheet"].setEnabled(own and not (offer and offer.trouble))
        self.buttons["delete_sheet"].setEnabled(own)
        text = "Select a sheet to see what it finds." if offer is None else offer_story(offer)
        self.story.setText(text if len(text) < 260 else text[:257].rsplit(" ", 1)[0] + " …")
        self.story.setToolTip(text)

    def _open(self) -> None:
        offer = self.offer()
        if offer is not None and not offer.trouble:
            self.open_wanted.emit(offer.name)

    def _delete(self) -> None:
        offer = self.offer()
        if offer is not None and offer.own:
            self.command_wanted.emit(DeleteSheet(offer.name))

    def _rename(self) -> None:
        offer = self.offer()
        if offer is not None and offer.own and not offer.trouble:
            self._renaming = offer
            self._ask_name(offer.title)

    def ask_save(self, title: str) -> None:
        """Ask under which name the draft is to be saved."""
        self._renaming = None
        self._ask_name(title)

    def _ask_name(self, title: str) -> None:
        self.name.setText(title)
        self.name.setPlaceholderText("Name, then Enter")
        self.name.show()
        self.name.setFocus()
        self.name.selectAll()

    def _named(self) -> None:
        title = " ".join(self.name.text().split())
        if not title:
            return
        self.name.hide()
        if self._renaming is not None:
            self.command_wanted.emit(RenameSheet(self._renaming.name, title))
            self._renaming = None
        else:
            self.save_wanted.emit(title)
