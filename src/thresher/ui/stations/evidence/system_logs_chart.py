"""The timeline of a machine's last months: hours of use by day, ends, errors by part, changes of parts and drivers."""

from dataclasses import dataclass
from datetime import UTC, datetime

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QHelpEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QToolTip, QWidget

from thresher.model.findings import ENDING_KINDS, FindingKind, Severity
from thresher.system_logs.meanings import TimelineKind
from thresher.system_logs.reading import SystemLogsRead
from thresher.ui.look import Look, draw_text, panel

_LEFT, _RIGHT, _TOP = 132.0, 16.0, 34.0
_USE, _ROW, _FOOT = 58.0, 30.0, 22.0
_DAY_S = 86400.0
_NEAR = 7.0
_CHANGES = {TimelineKind.PART: "part", TimelineKind.DRIVER: "driver", TimelineKind.UPDATE: "update"}


@dataclass(frozen=True, slots=True)
class Mark:
    """A mark in a row: Unix time, colour, shape, what it stands for, and how many equal events."""

    at: float
    colour: QColor
    shape: str
    words: str
    count: int = 1


class SystemLogsChart(QWidget):
    """Rows over one axis of days; what stands under the mouse is said in full."""

    def __init__(self, look: Look, parent: QWidget | None = None) -> None:
        """Nothing is shown yet."""
        super().__init__(parent)
        self._look = look
        self._read: SystemLogsRead | None = None
        self._row_high = _ROW
        self._spots: list[tuple[QPointF, str]] = []
        self.setAccessibleName("Timeline of the machine's last months")
        self.setMinimumHeight(210)

    def sizeHint(self) -> QSize:
        """As wide as the dialog."""
        return QSize(900, 300)

    def show_logs(self, read: SystemLogsRead | None) -> None:
        """Show what the logs of a system hold."""
        self._read = read
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint axis and rows."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        scheme = self._look.scheme
        panel(painter, QRectF(self.rect()), scheme, "Last months", self._span_words())
        self._spots = []
        span = self._span()
        if self._read is not None and span is not None:
            rows = self._rows()
            # all of them fit, however many kinds of parts have errors
            self._row_high = min(_ROW, (self.height() - _TOP - _USE - _FOOT) / len(rows))
            self._draw_months(painter, span, _TOP + _USE + self._row_high * len(rows))
            self._draw_use(painter, span)
            for row, (name, marks) in enumerate(rows):
                self._draw_row(painter, span, row, name, marks)
        else:
            words = "Restarts, errors and changes appear here by day once the logs are read."
            draw_text(painter, QPointF(_LEFT, _TOP + 40), words, scheme.soft, 12)
        painter.end()

    # ---- what is shown

    def _span(self) -> tuple[float, float] | None:
        if self._read is None:
            return None
        times = [each.at for each in self._read.timeline] + [each.at for each in self._read.findings]
        return (min(times), max(*times, min(times) + _DAY_S)) if times else None

    def _span_words(self) -> str:
        span = self._span()
        return f"{_day(span[0])} to {_day(span[1])}" if span is not None else ""

    def _rows(self) -> list[tuple[str, list[Mark]]]:
        """Return the rows: name, and marks as time, colour, shape and words."""
        assert self._read is not None
        scheme = self._look.scheme
        ends: list[Mark] = []
        stops: list[Mark] = []
        errors: dict[str, list[Mark]] = {}
        for each in self._read.findings:
            words = f"{_day(each.at)}  {each.title}{f' ({each.count} times)' if each.count > 1 else ''}"
            if each.kind in ENDING_KINDS:
                ends.append(Mark(each.at, QColor(scheme.fault), "cross", words, each.count))
            elif each.kind is FindingKind.STOP_SCREEN or each.title.startswith("Stop 0x"):
                stops.append(Mark(each.at, scheme.part(each.part), "square", words, each.count))
            else:
                bad = each.severity is Severity.FAULT
                mark = Mark(each.at, scheme.part(each.part), "square" if bad else "bar", words, each.count)
                errors.setdefault(each.part.value, []).append(mark)
        changes = [
            Mark(each.at, QColor(scheme.ink), "triangle", f"{_day(each.at)}  {each.title}: {each.detail}")
            for each in self._read.timeline
            if each.kind in _CHANGES
        ]
        rows = [("sudden ends", ends), ("stop screens", stops)]
        rows += sorted(errors.items(), key=lambda item: -len(item[1]))
        return [*rows, ("changes", changes)]

    # ---- drawing

    def _x(self, at: float, span: tuple[float, float]) -> float:
        return _LEFT + (at - span[0]) / (span[1] - span[0]) * (self.width() - _LEFT - _RIGHT)

    def _draw_months(self, painter: QPainter, span: tuple[float, float], bottom: float) -> None:
        scheme = self._look.scheme
        days = (span[1] - span[0]) / _DAY_S
        moment = datetime.fromtimestamp(span[0], UTC).replace(hour=0, minute=0, second=0, microsecond=0)
        last_x = 0.0
        for number in range(int(days) + 2):
            at = moment.timestamp() + number * _DAY_S
            day = datetime.fromtimestamp(at, UTC)
            wanted = day.day == 1 if days > 45 else day.weekday() == 0 if days > 6 else True
            x = self._x(at, span)
            if not wanted or not _LEFT <= x <= self.width() - _RIGHT:
                continue
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(x, _TOP), QPointF(x, bottom))
            if x - last_x > 74 and x < self.width() - 64:
                draw_text(
                    painter,
                    QPointF(x + 3, bottom + 13),
                    f"{day:%d %b %Y}" if day.month == 1 else f"{day:%d %b}",
                    scheme.soft,
                    10.5,
                )
                last_x = x

    def _draw_use(self, painter: QPainter, span: tuple[float, float]) -> None:
        assert self._read is not None
        scheme = self._look.scheme
        base = _TOP + _USE - 6
        draw_text(painter, QPointF(12, base - 18), "in use", scheme.ink, 12)
        draw_text(painter, QPointF(12, base - 3), f"{self._read.hours:.0f} h in all", scheme.soft, 10.5)
        wide = max(1.0, self._x(span[0] + _DAY_S, span) - _LEFT - 1.0)
        for each in self._read.use:
            at = datetime.fromisoformat(each.day).replace(tzinfo=UTC).timestamp()
            x, high = self._x(max(at, span[0]), span), min(1.0, each.hours / 16.0) * (_USE - 16)
            painter.fillRect(QRectF(x, base - high, min(wide, self.width() - _RIGHT - x), high), QColor(scheme.rule))
            self._spots.append((QPointF(x + wide / 2, base - high / 2), f"{each.day}: {each.hours:.1f} h"))
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawLine(QPointF(12, base + 3), QPointF(self.width() - _RIGHT, base + 3))

    def _draw_row(
        self,
        painter: QPainter,
        span: tuple[float, float],
        row: int,
        name: str,
        marks: list[Mark],
    ) -> None:
        scheme = self._look.scheme
        middle = _TOP + _USE + self._row_high * (row + 0.5)
        draw_text(painter, QPointF(12, middle + 4), name, scheme.ink if marks else scheme.soft, 12)
        draw_text(
            painter,
            QPointF(_LEFT - 12, middle + 4),
            str(sum(each.count for each in marks)),
            scheme.soft,
            10.5,
            right=True,
        )
        painter.setPen(QPen(QColor(scheme.grid), 1))
        line = middle + self._row_high / 2
        painter.drawLine(QPointF(12, line), QPointF(self.width() - _RIGHT, line))
        for each in marks:
            centre = QPointF(self._x(each.at, span), middle)
            _mark(painter, centre, each.colour, each.shape)
            self._spots.append((centre, each.words))

    def words_at(self, position: QPointF) -> str:
        """Return what stands near a position, one line each."""
        near = [
            words
            for place, words in self._spots
            if abs(place.x() - position.x()) <= _NEAR and abs(place.y() - position.y()) <= _ROW / 2
        ]
        return "\n".join(dict.fromkeys(near[:8]))

    def event(self, event: object) -> bool:
        """Answer a question under the mouse."""
        if isinstance(event, QHelpEvent) and event.type() is QHelpEvent.Type.ToolTip:
            QToolTip.showText(event.globalPos(), self.words_at(QPointF(event.pos())), self)
            return True
        return super().event(event)  # type: ignore[arg-type]


def _day(at: float) -> str:
    return f"{datetime.fromtimestamp(at, UTC):%Y-%m-%d}"


def _mark(painter: QPainter, centre: QPointF, colour: QColor, shape: str) -> None:
    x, y = centre.x(), centre.y()
    painter.setPen(QPen(colour, 2.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    match shape:
        case "cross":
            painter.drawLine(QPointF(x - 4, y - 5), QPointF(x + 4, y + 5))
            painter.drawLine(QPointF(x - 4, y + 5), QPointF(x + 4, y - 5))
        case "square":
            painter.fillRect(QRectF(x - 4, y - 4, 8, 8), colour)
        case "triangle":
            painter.setBrush(colour)
            painter.drawPolygon(QPolygonF([QPointF(x, y - 5), QPointF(x + 5, y + 4), QPointF(x - 5, y + 4)]))
        case _:
            painter.drawLine(QPointF(x, y - 7), QPointF(x, y + 7))
