"""The book of trials: a row a trial with what was in which place, and a row to be filled for the next one."""

from dataclasses import dataclass, replace

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.model.findings import Severity
from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import INSTALLED_SYSTEM, Book, BookPart, Configuration, Trial
from thresher.ui.look import Look, draw_mark, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_HEAD, _ROW, _LEFT, _RIGHT, _CHIP = 26.0, 44.0, 40.0, 330.0, 26.0
_TRAY = 40.0
_ORDER = (
    PartKind.BOARD,
    PartKind.PROCESSOR,
    PartKind.MEMORY,
    PartKind.GRAPHICS,
    PartKind.DRIVE,
    PartKind.POWER,
    PartKind.COOLING,
)
_EMPTY = ""


@dataclass(frozen=True, slots=True)
class Column:
    """A place in the book: the kind of part that goes there, and its name."""

    kind: PartKind
    place: str
    number: int

    @property
    def title(self) -> str:
        """Return what stands above the column."""
        if self.place and self.kind in (PartKind.MEMORY, PartKind.DRIVE):
            return self.place
        return self.kind.value if self.number == 0 else f"{self.kind.value} {self.number + 1}"


def columns_of(book: Book, planned: Configuration | None = None) -> list[Column]:
    """Return the places of a book: those that the first configuration names, and one for each further part of it.

    Other slots follow that a trial, or the planned one, has put a part into."""
    if not book.trials:
        return []
    first = book.trials[0].configuration
    later = [trial.configuration for trial in book.trials[1:]] + ([planned] if planned is not None else [])
    kinds = {part.tag: part.kind for part in book.parts}
    columns = []
    for kind in _ORDER:
        tags = [tag for tag in first.tags if kinds.get(tag) is kind]
        places = dict.fromkeys(place for each in later for place, tag in each.places if kinds.get(tag) is kind)
        more = [place for place in places if place not in {first.place_of(tag) for tag in tags}]
        columns += [Column(kind, first.place_of(tag), number) for number, tag in enumerate(tags)]
        columns += [Column(kind, place, len(tags) + number) for number, place in enumerate(more)]
    return columns


def row_of(book: Book, configuration: Configuration, columns: list[Column]) -> list[str]:
    """Return the tag that a configuration has in each column, empty for none."""
    left = list(configuration.tags)
    row = [_EMPTY] * len(columns)
    by_place = {column.place: number for number, column in enumerate(columns) if column.place}
    for place, tag in configuration.places:
        if place in by_place and tag in left:
            row[by_place[place]] = tag
            left.remove(tag)
    for number, column in enumerate(columns):
        if row[number]:
            continue
        mine = next((tag for tag in left if (part := book.part(tag)) is not None and part.kind is column.kind), None)
        if mine is not None:
            row[number] = mine
            left.remove(mine)
    return row


def configuration_of_row(book: Book, row: list[str], columns: list[Column], like: Configuration) -> Configuration:
    """Return the configuration that a row stands for; settings and treatment are those of `like`."""
    shown = {tag for tag in row_of(book, like, columns) if tag}
    others = tuple(tag for tag in like.tags if tag not in shown)
    places = tuple((column.place, tag) for column, tag in zip(columns, row, strict=True) if column.place and tag)
    return replace(like, tags=(*(tag for tag in row if tag), *others), places=places)


class TrialsPanel(PaintedWidget):
    """Chips are dragged from the tray into the row of the next trial, or chosen by keyboard: Left and Right go from
    place to place, Up and Down through what could be there, Delete empties it. `chosen` gives which past trial was
    clicked.
    """

    changed = pyqtSignal()
    chosen = pyqtSignal(int)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Book of trials", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.next_configuration: Configuration | None = None
        self._at = 0
        self._picked = -1
        self._dragged: tuple[str, QPointF] | None = None
        state.refreshed.connect(self._fit_height)

    # ---- what is planned

    def plan(self, configuration: Configuration | None) -> None:
        """Fill the row of the next trial with a configuration; None for that of the last trial."""
        self.next_configuration = configuration
        self.changed.emit()
        self.update()

    def planned(self) -> Configuration | None:
        """Return the configuration in the row of the next trial, None without a book."""
        trials = self.state.book.trials
        if self.next_configuration is not None or not trials:
            return self.next_configuration
        return trials[-1].configuration

    def _columns(self) -> list[Column]:
        return columns_of(self.state.book, self.next_configuration)

    def differs(self) -> bool:
        """Whether the row of the next trial is another configuration than the last one."""
        trials = self.state.book.trials
        return bool(trials) and self.planned() != trials[-1].configuration

    def choices(self, column: Column) -> list[str]:
        """Return what could be in a place: nothing, or any part of its kind that is not in another place."""
        book, configuration = self.state.book, self.planned()
        columns = self._columns()
        row = row_of(book, configuration, columns) if configuration is not None else []
        mine = row[columns.index(column)] if column in columns and row else _EMPTY
        taken = {tag for tag in row if tag and tag != mine}
        return [_EMPTY, *(part.tag for part in book.parts if part.kind is column.kind and part.tag not in taken)]

    def put(self, number: int, tag: str) -> None:
        """Put a part, or none, into a place of the next trial."""
        book, configuration, columns = self.state.book, self.planned(), self._columns()
        if configuration is None or not 0 <= number < len(columns):
            return
        row = row_of(book, configuration, columns)
        row = [_EMPTY if tag and other == tag else other for other in row]
        row[number] = tag
        self.plan(configuration_of_row(book, row, columns, configuration))

    def _cycle(self, step: int) -> None:
        columns, configuration = self._columns(), self.planned()
        if configuration is None or not columns:
            return
        choices = self.choices(columns[self._at])
        now = row_of(self.state.book, configuration, columns)[self._at]
        self.put(self._at, choices[(choices.index(now) + step) % len(choices)] if now in choices else choices[0])

    # ---- painting

    def _fit_height(self) -> None:
        high = int(_HEAD + (len(self.state.book.trials) + 1) * _ROW + _TRAY + 10)
        if high != self.minimumHeight():
            self.setMinimumHeight(high)
            self.updateGeometry()

    def sizeHint(self) -> QSize:
        """As high as the book is long."""
        return QSize(900, self.minimumHeight())

    def _column_width(self, count: int) -> float:
        return min(112.0, max(52.0, (self.width() - _LEFT - _RIGHT) / max(1, count)))

    def draw(self, painter: QPainter) -> None:
        """Draw heads, trials, the next one and the tray."""
        scheme, book = self.look.scheme, self.state.book
        painter.fillRect(self.rect(), QColor(scheme.panel))
        columns = self._columns()
        if not columns:
            draw_text(painter, QPointF(14, 24), "The book begins when a machine is on the bench.", scheme.soft, 12.5)
            return
        wide = self._column_width(len(columns))
        for number, column in enumerate(columns):
            draw_text(
                painter,
                QPointF(_LEFT + number * wide + 4, 18),
                column.title,
                scheme.part(column.kind),
                11,
                bold=True,
                width=wide - 8,
            )
        for words, x in (("changed", 0.0), ("ended", 110.0)):
            draw_text(painter, QPointF(self.width() - _RIGHT + x + 14, 18), words, scheme.soft, 11)
        for trial in book.trials:
            self._draw_trial(painter, trial, columns, _HEAD + trial.number * _ROW)
        self._draw_next(painter, columns, _HEAD + len(book.trials) * _ROW)
        self._draw_tray(painter, _HEAD + (len(book.trials) + 1) * _ROW)
        if self._dragged is not None:
            part = book.part(self._dragged[0])
            if part is not None:
                at = self._dragged[1]
                self._draw_chip(painter, QRectF(at.x() - 45, at.y() - 13, 90, _CHIP), part, faint=False)

    def _draw_trial(self, painter: QPainter, trial: Trial, columns: list[Column], y: float) -> None:
        scheme, book = self.look.scheme, self.state.book
        if trial.number == self._picked:
            painter.fillRect(QRectF(4, y, self.width() - 8.0, _ROW - 2), QColor(scheme.grid))
        draw_text(painter, QPointF(12, y + 27), str(trial.number + 1), scheme.soft, 15, bold=True)
        self._draw_row(painter, row_of(book, trial.configuration, columns), columns, y, faint=False)
        x = self.width() - _RIGHT + 14
        draw_text(painter, QPointF(x, y + 18), trial.title, scheme.ink, 11.5, width=104)
        under = "stays so" if trial.kept else _settings_words(self.state.book, trial.configuration)
        draw_text(painter, QPointF(x, y + 33), under, scheme.soft, 10.5, width=104)
        status, words, detail = self.ending_of(trial)
        draw_mark(painter, QPointF(x + 116, y + 20), status, scheme, 5.0)
        draw_text(painter, QPointF(x + 128, y + 18), words, scheme.ink, 11.5, bold=True, width=_RIGHT - 156)
        draw_text(painter, QPointF(x + 128, y + 33), detail, scheme.soft, 10.5, width=_RIGHT - 156)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawLine(QPointF(10, y + _ROW - 1), QPointF(self.width() - 10.0, y + _ROW - 1))
        self.spots.append(Spot(QRectF(x, y, _RIGHT, _ROW), f"{trial.title}\n{words}. {detail}"))

    def ending_of(self, trial: Trial) -> tuple[PartStatus, str, str]:
        """Say how a trial ended: by its runs' findings, or by what was entered."""
        runs = set(trial.runs)
        known = {run for each in self.state.book.trials for run in each.runs}
        mine = [
            each
            for each in self.state.findings
            if each.severity is not Severity.NOTE
            and (each.run in runs or (trial.number == 0 and each.run is not None and each.run not in known))
        ]
        if mine:
            count = sum(each.count for each in mine)
            codes = ", ".join(dict.fromkeys(each.code for each in mine))
            return PartStatus.REPLACE, f"{count} finding{'s' if count > 1 else ''}", codes
        if trial.outcomes:
            last = trial.outcomes[-1]
            failed = last.ended.value != "clean"
            under = f"{last.minutes:.0f} min of {last.load}" if last.load else "reported"
            return PartStatus.REPLACE if failed else PartStatus.CLEARED, last.ended.value, f"{under}, by hand"
        if runs:
            return PartStatus.CLEARED, "clean", f"{len(runs)} run{'s' if len(runs) > 1 else ''}"
        return PartStatus.UNTESTED, "nothing run yet", ""

    def _draw_next(self, painter: QPainter, columns: list[Column], y: float) -> None:
        scheme, configuration = self.look.scheme, self.planned()
        if configuration is None:
            return
        painter.setPen(QPen(QColor(scheme.straw), 1.5, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(6, y + 1, self.width() - 12.0, _ROW - 4))
        draw_text(painter, QPointF(12, y + 27), str(len(self.state.book.trials) + 1), scheme.straw, 15, bold=True)
        self._draw_row(painter, row_of(self.state.book, configuration, columns), columns, y, faint=not self.differs())
        if self.hasFocus() and columns:
            wide = self._column_width(len(columns))
            painter.setPen(QPen(QColor(scheme.processor), 2))
            painter.drawRect(QRectF(_LEFT + self._at * wide - 1, y + 5, wide - 2, _CHIP + 8))
        words = (
            _settings_words(self.state.book, configuration)
            if self.differs()
            else "drag a part here, or set up the proposed test"
        )
        x = self.width() - _RIGHT + 14
        draw_text(painter, QPointF(x, y + 25), words, scheme.soft, 11, width=_RIGHT - 30)

    def _draw_row(self, painter: QPainter, row: list[str], columns: list[Column], y: float, faint: bool) -> None:
        wide = self._column_width(len(columns))
        for number, tag in enumerate(row):
            area = QRectF(_LEFT + number * wide + 2, y + 8, wide - 8, _CHIP)
            part = self.state.book.part(tag)
            if part is None:
                draw_text(painter, QPointF(area.x() + 8, area.y() + 17), "empty", self.look.scheme.soft, 11)
            else:
                self._draw_chip(painter, area, part, faint)

    def _draw_chip(self, painter: QPainter, area: QRectF, part: BookPart, faint: bool) -> None:
        """Solid for the customer's own part, dashed for one of the shop."""
        scheme, colour = self.look.scheme, self.look.scheme.part(part.kind)
        painter.save()
        painter.setOpacity(0.5 if faint else 1.0)
        if part.known_good:
            painter.setPen(QPen(colour, 1.4, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        else:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
        painter.drawRoundedRect(area, 4, 4)
        ink = colour if part.known_good else QColor(scheme.on_part)
        draw_text(painter, QPointF(area.x() + 7, area.y() + 17), part.tag, ink, 11, bold=True, width=area.width() - 12)
        painter.restore()
        self.spots.append(
            Spot(area, f"{part.tag}: {part.name or part.kind.value}{', known good' if part.known_good else ''}")
        )

    def _tray(self) -> list[tuple[QRectF, BookPart]]:
        """Return the chips that are in no place of the next trial, with where they stand."""
        configuration = self.planned()
        if configuration is None:
            return []
        y, x, chips = _HEAD + (len(self.state.book.trials) + 1) * _ROW + 8, _LEFT + 70.0, []
        for part in self.state.book.parts:
            if part.tag not in configuration.tags:
                chips.append((QRectF(x, y, 96, _CHIP), part))
                x += 102
        return chips

    def _draw_tray(self, painter: QPainter, y: float) -> None:
        draw_text(painter, QPointF(12, y + 25), "not installed", self.look.scheme.soft, 11)
        for area, part in self._tray():
            self._draw_chip(painter, area, part, faint=False)

    # ---- mouse and keys

    def _column_at(self, position: QPointF) -> int | None:
        """Return the column of the next trial's row under a position."""
        columns, top = self._columns(), _HEAD + len(self.state.book.trials) * _ROW
        if not columns or not top <= position.y() < top + _ROW:
            return None
        number = int((position.x() - _LEFT) / self._column_width(len(columns)))
        return number if 0 <= number < len(columns) and position.x() >= _LEFT else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Take a chip up, or choose a trial."""
        if event is None:
            return
        position, configuration = event.position(), self.planned()
        self.setFocus()
        from_tray = next((part.tag for area, part in self._tray() if area.contains(position)), None)
        column = self._column_at(position)
        if from_tray is not None:
            self._dragged = (from_tray, position)
        elif column is not None and configuration is not None:
            self._at = column
            tag = row_of(self.state.book, configuration, self._columns())[column]
            self._dragged = (tag, position) if tag else None
        elif _HEAD <= position.y() < _HEAD + len(self.state.book.trials) * _ROW:
            self._picked = int((position.y() - _HEAD) / _ROW)
            self.chosen.emit(self._picked)
        self.update()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Carry the chip along."""
        if event is not None and self._dragged is not None:
            self._dragged = (self._dragged[0], event.position())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Put the chip down where it may be; on the tray its place becomes empty."""
        if event is None or self._dragged is None:
            return
        tag, self._dragged = self._dragged[0], None
        column, part = self._column_at(event.position()), self.state.book.part(tag)
        columns, configuration = self._columns(), self.planned()
        if column is not None and part is not None and columns[column].kind is part.kind:
            self._at = column
            self.put(column, tag)
        elif (
            column is None
            and configuration is not None
            and tag in (row := row_of(self.state.book, configuration, columns))
        ):
            self.put(row.index(tag), _EMPTY)
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from place to place and through what could be there."""
        columns = self._columns()
        if event is None or not columns:
            return
        match event.key():
            case Qt.Key.Key_Left:
                self._at = (self._at - 1) % len(columns)
            case Qt.Key.Key_Right:
                self._at = (self._at + 1) % len(columns)
            case Qt.Key.Key_Up:
                self._cycle(-1)
            case Qt.Key.Key_Down:
                self._cycle(1)
            case Qt.Key.Key_Delete | Qt.Key.Key_Backspace:
                self.put(self._at, _EMPTY)
            case _:
                super().keyPressEvent(event)
                return
        self.update()


def _settings_words(book: Book, configuration: Configuration) -> str:
    stock = "stock settings" if len(configuration.stock) != 1 else f"{configuration.stock[0].value} at stock"
    text = [stock] if configuration.stock else []
    text += [_treatment_words(book, each) for each in configuration.treated]
    return ", ".join(text) or "as it was"


_TREATMENTS = {
    PartKind.COOLING.value: "cooling cleaned",
    PartKind.GRAPHICS.value: "card cleaned",
    PartKind.DRIVE.value: "other drive cable",
    PartKind.DISPLAY.value: "other display cable",
    "card slot": "card in another slot",
    "drive port": "drive on another port",
    INSTALLED_SYSTEM: "run from the stick",
}
"""Treatments of a configuration that are no reseating."""


def _treatment_words(book: Book, name: str) -> str:
    """Return what was done in a configuration, in words: parts and kinds of parts were reseated, items replaced."""
    if name in _TREATMENTS:
        return _TREATMENTS[name]
    is_part = book.part(name) is not None or name in [kind.value for kind in PartKind]
    return f"{name} reseated" if is_part else f"{name} replaced"
