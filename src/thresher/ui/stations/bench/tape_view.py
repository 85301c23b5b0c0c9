"""The tape: what happened, newest first."""

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QObject, QPersistentModelIndex, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QListView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from thresher.model.findings import Severity, TapeEntry
from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_text, text_width, wrap
from thresher.ui.state import BenchState

Index = QModelIndex | QPersistentModelIndex

ENTRY_ROLE = Qt.ItemDataRole.UserRole


class TapeModel(QAbstractListModel):
    """The tape's entries, newest first."""

    def __init__(self, state: BenchState, parent: QObject | None = None) -> None:
        """Follow the state."""
        super().__init__(parent)
        self._state = state
        self._shown = 0
        state.refreshed.connect(self._take_new)
        state.machine_changed.connect(self._reset)

    def rowCount(self, parent: Index | None = None) -> int:
        """Return the number of entries shown."""
        return 0 if parent is not None and parent.isValid() else self._shown

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return an entry, or its text."""
        if not index.isValid() or index.row() >= self._shown:
            return None
        entry = self._state.tape[self._shown - 1 - index.row()]
        if role == ENTRY_ROLE:
            return entry
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            code = f"{entry.code} " if entry.code else ""
            return f"{_time_text(entry)}  {code}{entry.title}\n{entry.detail}"
        return None

    def _reset(self) -> None:
        self.beginResetModel()
        self._shown = len(self._state.tape)
        self.endResetModel()

    def _take_new(self) -> None:
        new = len(self._state.tape) - self._shown
        if new > 0:
            self.beginInsertRows(QModelIndex(), 0, new - 1)
            self._shown += new
            self.endInsertRows()


def _time_text(entry: TapeEntry) -> str:
    return clock_text(entry.run_at) if entry.run_at is not None else "before the run"


class TapeDelegate(QStyledItemDelegate):
    """Draws an entry: a bar that shows the severity, time, code, title, detail on up to three lines."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        """Measure against the list's own width."""
        super().__init__(parent)
        self._look = look
        self._list = parent

    def _lines(self, text: str, width: float) -> list[str]:
        return wrap(text, 11.5, width, 3)

    def _text_width(self) -> float:
        viewport = self._list.viewport() if isinstance(self._list, QListView) else None
        return (viewport.width() if viewport is not None else self._list.width()) - 34.0

    def sizeHint(self, _option: QStyleOptionViewItem, index: Index) -> QSize:
        """Return the height that the detail needs."""
        entry = index.data(ENTRY_ROLE)
        lines = len(self._lines(entry.detail, self._text_width())) if isinstance(entry, TapeEntry) else 1
        return QSize(100, 44 + 15 * lines)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one entry."""
        entry = index.data(ENTRY_ROLE)
        if painter is None or not isinstance(entry, TapeEntry):
            return
        scheme = self._look.scheme
        area = QRectF(option.rect)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(area, QColor(scheme.grid))
        bar = scheme.severity(entry.severity)
        painter.fillRect(QRectF(area.x() + 12, area.y() + 5, 3, area.height() - 10), bar)
        x, width = area.x() + 22, self._text_width()
        draw_text(painter, QPointF(x, area.y() + 16), _time_text(entry), scheme.soft, 11.5)
        if entry.code:
            colour = scheme.fault if entry.severity is Severity.FAULT else scheme.ink
            draw_text(painter, QPointF(area.right() - 12, area.y() + 16), entry.code, colour, 11.5, True, True, True)
        draw_text(painter, QPointF(x, area.y() + 33), entry.title, scheme.ink, 12.5, bold=True, width=width)
        for number, line in enumerate(self._lines(entry.detail, width)):
            draw_text(painter, QPointF(x, area.y() + 49 + 15 * number), line, scheme.soft, 11.5, width=width)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawLine(QPointF(area.x() + 12, area.bottom()), QPointF(area.right() - 12, area.bottom()))
        painter.restore()


class TapeView(QListView):
    """The list itself; reading back stops it from jumping to the newest."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show the state's tape."""
        super().__init__(parent)
        self.setObjectName("Tape")
        self.setAccessibleName("Tape, newest first")
        self.setModel(TapeModel(state, self))
        self.setItemDelegate(TapeDelegate(look, self))
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # always there, so that the width that the details are broken at never changes
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setFrameShape(self.Shape.NoFrame)
        self.setResizeMode(QListView.ResizeMode.Adjust)
        self.setUniformItemSizes(False)
        self._look = look
        look.changed.connect(self._restyle)
        self._restyle()

    def _restyle(self) -> None:
        self.setStyleSheet(f"QListView {{ background: {self._look.scheme.panel}; }}")


def column_width() -> int:
    """Return the width that the tape needs for its usual lines."""
    return max(258, int(text_width("0:00:00  Machine check, core 10  P-310", 12.5)))
