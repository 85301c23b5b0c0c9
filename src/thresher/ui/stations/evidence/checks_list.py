"""Results of component checks, part by part, newest first: the outcome, why, the figures, and what it was before."""

from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QScrollArea, QWidget

from thresher.model.checks import CheckOutcome, CheckResult
from thresher.model.parts import PartKind
from thresher.ui.look import Look, draw_outcome, draw_text, text_width
from thresher.ui.state import BenchState

_PAD, _LINE, _HEAD = 10.0, 16.0, 24.0
_KINDS = tuple(PartKind)
_MOST_EARLIER = 5


def before(results: list[CheckResult], result: CheckResult) -> CheckResult | None:
    """Return the result that a check had of the same part the time before, None for the first."""
    at = next(number for number, each in enumerate(results) if each is result)
    return next((each for each in reversed(results[:at]) if each.title == result.title), None)


def change_words(result: CheckResult, earlier: CheckResult | None) -> str:
    """Return what has changed since the time before, in words."""
    if earlier is None:
        return "first time"
    when = _when(earlier.wall)
    if earlier.outcome is not result.outcome:
        return f"{earlier.outcome.value} {when}"
    old = {figure.name: figure.value for figure in earlier.figures}
    moved = [
        f"{figure.name} {old[figure.name]:.4g}"
        for figure in result.figures
        if figure.value is not None and (value := old.get(figure.name)) is not None and value != figure.value
    ]
    return f"{when}: {', '.join(moved[:2])}" if moved else f"the same {when}"


def earlier_words(results: list[CheckResult], result: CheckResult) -> str:
    """Return how the times before the last one ended, newest first, each with its first figure."""
    at = next(number for number, each in enumerate(results) if each is result)
    earlier = [each for each in reversed(results[:at]) if each.title == result.title][1:_MOST_EARLIER]
    return " · ".join(
        f"{each.outcome.value} {_when(each.wall)}" + (f", {each.figures[0].text}" if each.figures else "")
        for each in earlier
    )


def _when(wall: float) -> str:
    return datetime.fromtimestamp(wall).astimezone().strftime("%-d %b %Y, %H:%M") if wall else ""


class _Rows(QWidget):
    """Paints all results below each other."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state, self._look = state, look
        self.setAccessibleName("Results of the checks")
        self._high = 100.0

    def ordered(self) -> list[CheckResult]:
        """Results by part, parts with a failure first; of each part what failed first, then the newest first."""
        newest: dict[str, CheckResult] = {each.title: each for each in self._state.checks}
        failed = {each.row for each in newest.values() if each.outcome is CheckOutcome.FAIL}
        return sorted(
            newest.values(),
            key=lambda each: (each.row not in failed, _KINDS.index(each.row), each.outcome.rank, -each.at),
        )

    def sizeHint(self) -> QSize:
        """As high as all results."""
        return QSize(400, int(self._high))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the results."""
        painter = QPainter(self)
        scheme = self._look.scheme
        painter.fillRect(self.rect(), QColor(scheme.panel))
        y, wide, kind = 6.0, self.width() - 2 * _PAD, None
        results = self.ordered()
        if not results:
            words = "No check has been carried out yet: Ctrl+H puts the short round on the bench, over every part."
            draw_text(painter, QPointF(_PAD, 26), words, scheme.soft, 12, width=wide)
        for result in results:
            if result.row is not kind:
                kind = result.row
                draw_text(painter, QPointF(_PAD, y + 15), kind.word.capitalize(), scheme.part(kind), 13, bold=True)
                painter.setPen(QPen(QColor(scheme.rule), 1.0))
                painter.drawLine(QPointF(_PAD, y + 20), QPointF(_PAD + wide, y + 20))
                y += _HEAD
            y = self._draw(painter, result, y, wide)
        painter.end()
        if abs(y + 8 - self._high) > 1:
            self._high = y + 8
            self.setMinimumHeight(int(self._high))
            self.updateGeometry()

    def _draw(self, painter: QPainter, result: CheckResult, y: float, wide: float) -> float:
        scheme = self._look.scheme
        draw_outcome(painter, QPointF(_PAD + 9, y + 11), result.outcome.value, scheme, 6)
        failed = result.outcome is CheckOutcome.FAIL
        title = f"{result.title}: {result.outcome.value}" + (f"  {result.code}" if result.code else "")
        ink = scheme.fault if failed else scheme.ink
        x = _PAD + 24
        aside = change_words(result, before(self._state.checks, result))
        room = text_width(aside, 11) + 12
        draw_text(painter, QPointF(x, y + 15), title, ink, 12.5, bold=True, width=wide - 24 - room)
        draw_text(painter, QPointF(_PAD + wide, y + 15), aside, scheme.soft, 11, right=True)
        y += _LINE + 2
        y = _wrapped(painter, QRectF(x, y, wide - 24, 0), result.why, scheme.ink, 12)
        figures = " · ".join(figure.text for figure in result.figures)
        if figures:
            y = _wrapped(painter, QRectF(x, y, wide - 24, 0), figures, scheme.soft, 11)
        if earlier := earlier_words(self._state.checks, result):
            y = _wrapped(painter, QRectF(x, y, wide - 24, 0), f"before: {earlier}", scheme.soft, 11)
        return y + 7


def _wrapped(painter: QPainter, area: QRectF, text: str, colour: str, pixels: float) -> float:
    """Write text over as many lines as it needs; return where it ends."""
    line, y = "", area.y()
    words = text.split(" ")
    for word in [*words, ""]:
        wider = f"{line} {word}" if line else word
        if (word and text_width(wider, pixels) <= area.width()) or not line:
            line = wider
            continue
        draw_text(painter, QPointF(area.x(), y + 12), line, colour, pixels, width=area.width())
        y += _LINE - 1
        line = word
    if line:
        draw_text(painter, QPointF(area.x(), y + 12), line, colour, pixels, width=area.width())
        y += _LINE - 1
    return y


class ChecksList(QScrollArea):
    """The results, scrolled."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Follow the state."""
        super().__init__(parent)
        self.setObjectName("checks_list")
        self.setAccessibleName("Results of the checks")
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.rows = _Rows(state, look, self)
        self.setWidget(self.rows)
        self._state, self._shown = state, 0
        state.refreshed.connect(self._follow)
        state.machine_changed.connect(self.rows.update)
        look.changed.connect(self.rows.update)

    def _follow(self) -> None:
        """Paint again once there is another result."""
        if len(self._state.checks) != self._shown:
            self._shown = len(self._state.checks)
            self.rows.update()
