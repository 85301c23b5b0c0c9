"""The runs of this job, and of others that were added; selected ones have a letter and are compared."""

from datetime import datetime
from pathlib import Path

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

from thresher.compare.comparison import MOST_RUNS, RunHeat
from thresher.compare.stored_spans import RunChoice, RunRef
from thresher.ui.look import Look, draw_text
from thresher.ui.paper_list import PickList
from thresher.ui.stations.compare.marks import colour_of, letter_of

Index = QModelIndex | QPersistentModelIndex
CHOICE_ROLE = Qt.ItemDataRole.UserRole
_ROW = 68


class RunsModel(QAbstractListModel):
    """The runs, which of them are selected in which order, and what is known of those."""

    def __init__(self, parent: QObject | None = None) -> None:
        """Begin empty."""
        super().__init__(parent)
        self.choices: tuple[RunChoice, ...] = ()
        self.picked: list[RunRef] = []
        self.heats: dict[RunRef, RunHeat] = {}
        self.own_job = ""
        self.good: RunRef | None = None

    def set_choices(self, choices: tuple[RunChoice, ...]) -> None:
        """Show other runs; picks that are still there stay."""
        self.beginResetModel()
        self.choices = choices
        refs = {each.ref for each in choices}
        self.picked = [ref for ref in self.picked if ref in refs]
        self.endResetModel()

    def set_heats(self, heats: dict[RunRef, RunHeat]) -> None:
        """Show what a comparison found about the selected runs."""
        self.heats = heats
        self.refresh()

    def set_good(self, ref: RunRef | None) -> None:
        """Show which run is the known-good one."""
        self.good = ref
        self.refresh()

    def refresh(self) -> None:
        """Draw all rows again."""
        if self.choices:
            self.dataChanged.emit(self.index(0), self.index(len(self.choices) - 1))

    def rowCount(self, parent: Index | None = None) -> int:
        """Return the number of runs."""
        return 0 if parent is not None and parent.isValid() else len(self.choices)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Return a run, or its text."""
        if not index.isValid() or index.row() >= len(self.choices):
            return None
        choice = self.choices[index.row()]
        if role == CHOICE_ROLE:
            return choice
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole, Qt.ItemDataRole.ToolTipRole):
            chosen = choice.ref in self.picked
            picked = f"selected as {letter_of(self.picked.index(choice.ref))}" if chosen else "not selected"
            return f"{choice.name}, {picked}\n{self.second_line(choice)}\n{self.third_line(choice)}"
        return None

    def second_line(self, choice: RunChoice) -> str:
        """Say when it ran, with which sheet; for a run of another job which job."""
        when = datetime.fromtimestamp(choice.wall).astimezone().strftime("%d %b %H:%M").lstrip("0")
        other = "" if choice.ref.job == self.own_job else f"{choice.machine or Path(choice.ref.job).stem} · "
        return f"{other}{when} · {choice.load or 'no load'} {choice.minutes:.0f} min"

    def third_line(self, choice: RunChoice) -> str:
        """Say its plateau and resistance, or why it cannot be compared."""
        if choice.unfit:
            return choice.unfit
        known = "known good · " if choice.ref == self.good else ""
        heat = self.heats.get(choice.ref)
        if heat is None:
            return known + (f"room {choice.room_c:.1f} °C" if choice.room_c is not None else "room temperature unknown")
        plateau = f"plateau {heat.plateau.value:.1f} °C" if heat.reached else f"no plateau, {heat.plateau.value:.0f} °C"
        return known + plateau + (f" · {heat.resistance.value:.2f} K/W" if heat.resistance is not None else "")


class _RunDelegate(QStyledItemDelegate):
    """Draws a run as a card with its letter."""

    def __init__(self, look: Look, model: RunsModel, parent: QWidget) -> None:
        super().__init__(parent)
        self._look, self._model = look, model

    def sizeHint(self, _option: QStyleOptionViewItem, _index: Index) -> QSize:
        """All rows are equally high."""
        return QSize(200, _ROW)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: Index) -> None:
        """Draw one run."""
        choice = index.data(CHOICE_ROLE)
        if painter is None or not isinstance(choice, RunChoice):
            return
        scheme, picked = self._look.scheme, choice.ref in self._model.picked
        area = QRectF(option.rect).adjusted(2, 3, -2, -3)
        place = self._model.picked.index(choice.ref) if picked else 0
        colour = colour_of(place, scheme) if picked else QColor(scheme.rule)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(area, QColor(scheme.panel if not choice.unfit else scheme.rail))
        focused = bool(option.state & QStyle.StateFlag.State_HasFocus)
        painter.setPen(QPen(colour, 2.4 if focused else 1.5, Qt.PenStyle.SolidLine if picked else Qt.PenStyle.DashLine))
        painter.drawRect(area)
        if picked:
            painter.fillRect(QRectF(area.x(), area.y(), 5, area.height()), colour)
        x, width = area.x() + 36, area.width() - 44
        letter = letter_of(place) if picked else "–"
        draw_text(painter, QPointF(area.x() + 14, area.y() + 21), letter, colour if picked else scheme.soft, 14, True)
        ink = scheme.soft if choice.unfit else scheme.ink
        draw_text(painter, QPointF(x, area.y() + 20), choice.name, ink, 12.5, bold=True, width=width)
        draw_text(painter, QPointF(x, area.y() + 37), self._model.second_line(choice), scheme.soft, 11, width=width)
        third = scheme.fault if choice.unfit else scheme.ink
        draw_text(painter, QPointF(x, area.y() + 54), self._model.third_line(choice), third, 11.5, width=width)
        painter.restore()


class RunsList(PickList):
    """The list. `picks_changed` comes when a run is selected or deselected, with a click, Space or Enter."""

    picks_changed = pyqtSignal()

    def __init__(self, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(look, "compare_runs", "Runs: Space adds a run to the comparison or takes it out", parent)
        self.runs = RunsModel(self)
        self.setModel(self.runs)
        self.setItemDelegate(_RunDelegate(look, self.runs, self))

    def chosen(self) -> RunChoice | None:
        """Return the run that has the focus."""
        choice = self.currentIndex().data(CHOICE_ROLE)
        return choice if isinstance(choice, RunChoice) else None

    def toggle(self, choice: RunChoice) -> None:
        """Add a run to the comparison or take it out; one that cannot be compared stays out."""
        picked = self.runs.picked
        if choice.ref in picked:
            picked.remove(choice.ref)
        elif not choice.unfit and len(picked) < MOST_RUNS:
            picked.append(choice.ref)
            order = {each.ref: place for place, each in enumerate(self.runs.choices)}
            picked.sort(key=lambda ref: order[ref])
        else:
            return
        self.runs.refresh()
        self.picks_changed.emit()

    def pick(self, index: QModelIndex) -> None:
        """Put a row in, or leave it out."""
        choice = index.data(CHOICE_ROLE)
        if isinstance(choice, RunChoice):
            self.toggle(choice)
