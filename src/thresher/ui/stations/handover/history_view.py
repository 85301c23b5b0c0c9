"""The machine before: its visits, newest first, and below them how one quantity has moved over them."""

from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from thresher.report.history import MachineHistory, PastVisit, Trend
from thresher.ui.look import Look, draw_text, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_CARD = 46.0
_TREND = 110.0


def day_of(wall: float) -> str:
    """Return a day as a person writes it."""
    return f"{datetime.fromtimestamp(wall).astimezone():%-d %b %Y}"


def about(visit: PastVisit) -> str:
    """Say in a line what came of a visit."""
    words = visit.trouble or visit.done or visit.cause or visit.found or "tested"
    return words[:1].upper() + words[1:]


class HistoryView(PaintedWidget):
    """Painted; a click or Enter on a visit asks to look at its job (`visit_wanted`), Left and Right turn the trend."""

    visit_wanted = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin with nothing known."""
        super().__init__(state, look, "This machine before", parent)
        self.history = MachineHistory()
        self.message = "Reading…"
        self.chosen = 0
        self.trend = 0
        self.own_job = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(170)

    def show_history(self, history: MachineHistory, own_job: str) -> None:
        """Show another history; `own_job` is the file of the job that is open."""
        self.history, self.own_job, self.message = history, own_job, ""
        self.chosen, self.trend = 0, 0
        self._describe()
        self.update()

    def say(self, message: str) -> None:
        """Show why there is none."""
        self.history, self.message = MachineHistory(), message
        self._describe()
        self.update()

    def before(self) -> tuple[PastVisit, ...]:
        """Return the visits under other jobs."""
        return tuple(each for each in self.history.visits if each.path != self.own_job)

    def _describe(self) -> None:
        lines = [f"{day_of(each.wall)}: {about(each)}" for each in self.before()]
        lines += [trend_words(each) for each in self.history.trends]
        self.setAccessibleDescription("; ".join((*lines, *self.history.moved)) or self.message or "not here before")

    def draw(self, painter: QPainter) -> None:
        """Draw the visits from the top, the trend at the bottom, what moved between them."""
        scheme, width = self.look.scheme, float(self.width())
        y, visits = 4.0, self.before()
        trend_top = self.height() - _TREND if self.history.trends else float(self.height())
        if not visits:
            words = self.message or " ".join(self.history.troubles) or "This machine was not here before."
            for line in wrap(words, 11.5, width - 8, 5):
                draw_text(painter, QPointF(2, y + 12), line, scheme.soft, 11.5)
                y += 15
        for number, visit in enumerate(visits):
            if y + _CARD > trend_top:
                draw_text(painter, QPointF(10, y + 12), f"and {len(visits) - number} more", scheme.soft, 11)
                break
            self._draw_visit(painter, QRectF(0, y, width, _CARD - 6), visit, number == self.chosen and self.hasFocus())
            y += _CARD
        for words in self.history.moved:
            for line in wrap(words, 11, width - 8, 3):
                if y + 14 < trend_top:
                    draw_text(painter, QPointF(2, y + 12), line, scheme.ink, 11, width=width - 4)
                y += 14
        if self.history.trends:
            self._draw_trend(painter, QRectF(0, trend_top, width, _TREND), self.history.trends[self.trend])

    def _draw_visit(self, painter: QPainter, area: QRectF, visit: PastVisit, focused: bool) -> None:
        scheme = self.look.scheme
        painter.fillRect(QRectF(area.x(), area.y(), 3, area.height()), QColor(scheme.straw))
        if focused:
            painter.setPen(QPen(QColor(scheme.processor), 2))
            painter.drawRect(area.adjusted(1, 1, -1, -1))
        day = draw_text(painter, QPointF(area.x() + 10, area.y() + 15), day_of(visit.wall), scheme.ink, 12, bold=True)
        came, room = visit.came_with or f"job {visit.number or visit.job}", area.width() - day - 24
        draw_text(painter, QPointF(area.x() + day + 18, area.y() + 15), came, scheme.soft, 11, width=room)
        words = about(visit)
        draw_text(painter, QPointF(area.x() + 10, area.y() + 32), words, scheme.ink, 11.5, width=area.width() - 14)
        rows = (f"Job {visit.number or visit.job}", visit.found, visit.done, visit.cause, visit.proved, visit.trouble)
        self.spots.append(Spot(area, "\n".join(row for row in rows if row)))

    def _draw_trend(self, painter: QPainter, area: QRectF, trend: Trend) -> None:
        scheme = self.look.scheme
        many = f"{self.trend + 1}/{len(self.history.trends)}  ◂ ▸" if len(self.history.trends) > 1 else ""
        room = area.width() - (56 if many else 8)
        draw_text(painter, QPointF(area.x() + 2, area.y() + 13), trend.title, scheme.soft, 11, width=room)
        draw_text(painter, QPointF(area.right() - 2, area.y() + 13), many, scheme.soft, 11, right=True)
        box = area.adjusted(2, 20, -2, -20)
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawRect(box)
        points = trend.points[-8:]
        values = [value for _, value in points]
        low, high = min(values), max(values)
        span = (high - low) or 1.0
        step = box.width() / len(points)
        spots = [
            QPointF(box.x() + step * (n + 0.5), box.bottom() - 10 - (box.height() - 34) * (value - low) / span)
            for n, (_, value) in enumerate(points)
        ]
        painter.setPen(QPen(QColor(scheme.soft), 1.2, Qt.PenStyle.DotLine))
        painter.drawPolyline(QPolygonF(spots))
        for n, (at, (wall, value)) in enumerate(zip(spots, points, strict=True)):
            last = n == len(points) - 1
            painter.setPen(QPen(QColor(scheme.straw if last else scheme.ink), 1.8))
            painter.setBrush(QColor(scheme.straw if last else scheme.field))
            painter.drawEllipse(at, 4, 4)
            text = f"{value:.4g}"
            draw_text(painter, QPointF(at.x() - 10, at.y() - 8), text, scheme.ink, 11)
            year = f"{datetime.fromtimestamp(wall).astimezone():%b %y}"
            draw_text(painter, QPointF(at.x() - 16, box.bottom() + 14), year, scheme.soft, 10.5)
        self.spots.append(Spot(area, trend_words(trend)))

    def _choose(self, step: int) -> None:
        count = len(self.before())
        self.chosen = max(0, min(count - 1, self.chosen + step)) if count else 0
        self.update()

    def turn(self, step: int) -> None:
        """Show the next or the last trend."""
        if self.history.trends:
            self.trend = (self.trend + step) % len(self.history.trends)
            self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and Down choose a visit, Enter opens it, Left and Right change the trend."""
        if event is None:
            return
        match event.key():
            case Qt.Key.Key_Down:
                self._choose(1)
            case Qt.Key.Key_Up:
                self._choose(-1)
            case Qt.Key.Key_Right:
                self.turn(1)
            case Qt.Key.Key_Left:
                self.turn(-1)
            case Qt.Key.Key_Return | Qt.Key.Key_Enter:
                self._open(self.chosen)
            case _:
                super().keyPressEvent(event)

    def _open(self, number: int) -> None:
        visits = self.before()
        if number < len(visits) and visits[number].path:
            self.visit_wanted.emit(visits[number].path)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click on a visit opens it, one on the trend shows the next."""
        if event is None:
            return
        y = event.position().y()
        if self.history.trends and y >= self.height() - _TREND:
            self.turn(1)
        else:
            self._open(int((y - 4) // _CARD))


def trend_words(trend: Trend) -> str:
    """Say a trend as a line of text."""
    unit = f" {trend.unit}" if trend.unit else ""
    return f"{trend.title}: " + ", ".join(f"{day_of(wall)} {value:.4g}{unit}" for wall, value in trend.points)
