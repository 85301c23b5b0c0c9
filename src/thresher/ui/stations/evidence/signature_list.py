"""The list of signatures: what, where, how often, how fast, and which part it points at."""

from datetime import datetime

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QObject, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from thresher.model.findings import Severity
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.paper_list import PaperList
from thresher.ui.stations.evidence.entries import Entry

Index = QModelIndex | QPersistentModelIndex
ENTRY_ROLE = Qt.ItemDataRole.UserRole
_ROW = 50


class EntriesModel(QAbstractListModel):
    """The entries that pass the filter."""

    def __init__(self, parent: QObject | None = None) -> None:
        """Begin empty."""
        super().__init__(parent)
        self._entries: list[Entry] = []

    def set_entries(self, entries: list[Entry]) -> None:
        """Show other entries; while they are as many as before the selection stays where it is."""
        if len(entries) == len(self._entries):
            self._entries = entries
            if entries:
                self.dataChanged.emit(self.index(0), self.index(len(entries) - 1))
            return
        self.beginResetModel()
        self._entries = entries
        self.endResetModel()

    def entries(self) -> list[Entry]:
        """Return what is shown."""
        return self._entries

    def rowCount(self, parent: Index | None = None) -> int:
        """Return the number of entries."""
        return 0 if parent is not None and parent.isValid() else len(self._entries)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return an entry, or its text."""
        if not index.isValid() or index.row() >= len(self._entries):
            return None
        entry = self._entries[index.row()]
        if role == ENTRY_ROLE:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            often = count_words(entry)
            return f"{entry.thing.code} {entry.thing.title}{f', {often}' if often else ''}\n{entry.thing.words}"
        return None


def count_words(entry: Entry) -> str:
    """Say how often and how fast."""
    group = entry.group
    if group is None:
        return next((line for line in entry.thing.lines if line == "once" or line.endswith(" times")), "")
    often = f"{group.count} ×"
    if group.per_hour is not None and group.last - group.first >= 60:
        often += f", {group.per_hour:.3g} per hour"
    return f"{often}, {group.trend}" if group.trend else often


def moment(seconds: float, wall_offset: float | None) -> str:
    """Say a time of a finding: the time of day where it is known, otherwise seconds since boot."""
    wall = seconds if seconds > 1e8 else None if wall_offset is None else seconds + wall_offset
    if wall is None:
        return f"{seconds:.0f} s"
    return datetime.fromtimestamp(wall).astimezone().strftime("%d %b %H:%M:%S").lstrip("0")


class EntryDelegate(QStyledItemDelegate):
    """Draws an entry: a bar in the part's colour, code, title and count; below when, and what it is."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        """`wall_offset` turns machine time into Unix time."""
        super().__init__(parent)
        self._look = look
        self.wall_offset: float | None = None

    def sizeHint(self, _option: QStyleOptionViewItem, _index: Index) -> QSize:
        """All rows are equally high."""
        return QSize(200, _ROW)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one entry."""
        entry = index.data(ENTRY_ROLE)
        if painter is None or not isinstance(entry, Entry):
            return
        scheme, area = self._look.scheme, QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, QColor(scheme.grid))
            painter.fillRect(QRectF(area.x(), area.y(), 3, area.height()), QColor(scheme.ink))
        bar = scheme.part(entry.part) if entry.part is not None else QColor(scheme.soft)
        painter.fillRect(QRectF(area.x() + 10, area.y() + 7, 4, area.height() - 14), bar)
        x, right = area.x() + 22, area.right() - 12
        often = count_words(entry)
        wide = draw_text(painter, QPointF(right, area.y() + 20), often, scheme.ink, 12, right=True) if often else 0.0
        colour = scheme.fault if entry.severity is Severity.FAULT else scheme.ink
        draw_text(painter, QPointF(x, area.y() + 20), entry.thing.code, colour, 11.5, True, True)
        left = x + max(48.0, text_width(entry.thing.code, 11.5, bold=True, mono=True) + 10)
        draw_text(
            painter,
            QPointF(left, area.y() + 20),
            entry.thing.title,
            scheme.ink,
            12.5,
            bold=True,
            width=right - wide - left - 12,
        )
        when = self._when(entry)
        reported = draw_text(painter, QPointF(right, area.y() + 38), when, scheme.soft, 11, right=True) if when else 0.0
        words = "perhaps noise: " + entry.group.noise if entry.group and entry.group.noise else entry.thing.words
        draw_text(painter, QPointF(left, area.y() + 38), words, scheme.soft, 11, width=right - reported - left - 12)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawLine(QPointF(area.x() + 10, area.bottom()), QPointF(area.right() - 10, area.bottom()))
        painter.restore()

    def _when(self, entry: Entry) -> str:
        group = entry.group
        if group is None or group.last <= 0:
            return ""
        first, last = moment(group.first, self.wall_offset), moment(group.last, self.wall_offset)
        return last if first == last else f"{first} to {last.rpartition(' ')[2] if first[:6] == last[:6] else last}"


class SignatureList(PaperList):
    """The list itself."""

    def __init__(self, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(look, "Signatures", "Signatures: what happened where, and how often", parent)
        self.entries = EntriesModel(self)
        self.setModel(self.entries)
        self.delegate = EntryDelegate(look, self)
        self.setItemDelegate(self.delegate)

    def chosen(self) -> Entry | None:
        """Return the selected entry."""
        entry = self.currentIndex().data(ENTRY_ROLE)
        return entry if isinstance(entry, Entry) else None
