"""What goes into the report: a card a section, in or out by click or Space."""

from PyQt6.QtCore import (
    QAbstractListModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    QPointF,
    QRectF,
    QSize,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from thresher.report.sections import USUAL, Reader, Section
from thresher.ui.look import Look, draw_text
from thresher.ui.paper_list import PickList

Index = QModelIndex | QPersistentModelIndex
SECTION_ROLE = Qt.ItemDataRole.UserRole
_ROW = 39


class SectionsModel(QAbstractListModel):
    """All sections, which of them go in, and a note on what each holds."""

    def __init__(self, parent: QObject | None = None) -> None:
        """Begin with what a customer gets."""
        super().__init__(parent)
        self.chosen: set[Section] = set(USUAL[Reader.CUSTOMER])
        self.notes: dict[str, str] = {}

    def rowCount(self, parent: Index | None = None) -> int:
        """Return the number of sections."""
        return 0 if parent is not None and parent.isValid() else len(Section)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a section, or its text."""
        if not index.isValid():
            return None
        section = tuple(Section)[index.row()]
        if role == SECTION_ROLE:
            return section
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            return f"{section.value}, {'goes in' if section in self.chosen else 'left out'}: {self.note(section)}"
        return None

    def note(self, section: Section) -> str:
        """Return what a section holds, in a few words."""
        return self.notes.get(section.value, "")

    def refresh(self) -> None:
        """Draw all rows again."""
        self.dataChanged.emit(self.index(0), self.index(len(Section) - 1))


class _SectionDelegate(QStyledItemDelegate):
    """Draws a section as a card: a full line round what goes in, a dashed one round what is left out."""

    def __init__(self, look: Look, model: SectionsModel, parent: QWidget) -> None:
        super().__init__(parent)
        self._look, self._model = look, model

    def sizeHint(self, _option: QStyleOptionViewItem, _index: Index) -> QSize:
        """All rows are equally high."""
        return QSize(200, _ROW)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one section."""
        section = index.data(SECTION_ROLE)
        if painter is None or not isinstance(section, Section):
            return
        scheme, chosen = self._look.scheme, section in self._model.chosen
        area = QRectF(option.rect).adjusted(2, 2, -4, -2)
        focused = bool(option.state & QStyle.StateFlag.State_HasFocus)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(area, QColor(scheme.field if chosen else scheme.rail))
        line = Qt.PenStyle.SolidLine if chosen else Qt.PenStyle.DashLine
        colour = scheme.processor if focused else scheme.ink if chosen else scheme.rule
        painter.setPen(QPen(QColor(colour), 2.4 if focused else 1.3, line))
        painter.drawRect(area)
        ink, width = scheme.ink if chosen else scheme.soft, area.width() - 18
        draw_text(painter, QPointF(area.x() + 9, area.y() + 14.5), section.value, ink, 12, bold=chosen, width=width)
        note = self._model.note(section)
        draw_text(painter, QPointF(area.x() + 9, area.y() + 28.5), note, scheme.soft, 11, width=width)
        painter.restore()


class SectionsList(PickList):
    """The list. `changed` comes when a section is put in or left out, with a click, Space or Enter."""

    changed = pyqtSignal()

    def __init__(self, look: Look, parent: QWidget | None = None) -> None:
        """Show every section."""
        super().__init__(look, "report_sections", "What goes into the report: Space puts a section in or out", parent)
        self.sections = SectionsModel(self)
        self.setModel(self.sections)
        self.setItemDelegate(_SectionDelegate(look, self.sections, self))

    def chosen(self) -> tuple[Section, ...]:
        """Return what goes in, in the order in which it is printed."""
        return tuple(each for each in Section if each in self.sections.chosen)

    def choose(self, sections: tuple[Section, ...]) -> None:
        """Put these in, and no others, without saying so."""
        self.sections.chosen = set(sections)
        self.sections.refresh()

    def toggle(self, section: Section) -> None:
        """Put a section in, or leave it out."""
        self.sections.chosen ^= {section}
        self.sections.refresh()
        self.changed.emit()

    def set_notes(self, notes: dict[str, str]) -> None:
        """Show what each section holds."""
        self.sections.notes = notes
        self.sections.refresh()

    def pick(self, index: QModelIndex) -> None:
        """Put a row in, or leave it out."""
        section = index.data(SECTION_ROLE)
        if isinstance(section, Section):
            self.toggle(section)
