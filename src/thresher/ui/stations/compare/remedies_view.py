"""Remedies from first to last: where the plateau was, what each remedy gained, and what the next ones would gain."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.compare.comparison import Comparison
from thresher.heat.remedies import Remedy, Step
from thresher.ui.look import Look, draw_text, panel
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.marks import colour_of

_WIDEST, _NARROWEST, _ROOMY = 150.0, 112.0, 140.0
_TOP, _FOOT = 40.0, 46.0


class RemediesView(PaintedWidget):
    """Columns on one scale of temperature: solid bars measured, dashed boxes expected."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Remedies", parent)
        self.comparison: Comparison | None = None
        self._column = _WIDEST

    def show_comparison(self, comparison: Comparison | None) -> None:
        """Show the remedies of a comparison."""
        self.comparison = comparison
        words = []
        if comparison is not None:
            words = [f"{step.name}: {step.plateau_c:.1f} °C" for step in comparison.steps]
            words += [
                f"{each.words}: expected {each.gain.low:.0f} to {each.gain.high:.0f} K" for each in comparison.remedies
            ]
        self.setAccessibleDescription("; ".join(words))
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw the columns."""
        scheme, found = self.look.scheme, self.comparison
        steps = found.steps if found is not None else ()
        panel(
            painter,
            QRectF(self.rect()),
            scheme,
            "Remedies, cheapest first",
            "at equal power, in the same room" if steps else "",
        )
        if found is None or (not steps and not found.remedies):
            if found is not None:
                words = "Nothing to show: the newest run is too short, or no power or limit is reported."
                draw_text(painter, QPointF(14, 56), words, scheme.soft, 12, width=self.width() - 28.0)
            return
        now = steps[-1].plateau_c if steps else found.runs[-1].plateau.value
        wanted = max(len(steps), 1) + len(found.remedies)
        self._column = min(_WIDEST, max(_NARROWEST, (self.width() - 30.0) / wanted))
        room = int((self.width() - 24) // self._column)
        coming = found.remedies[: max(0, room - max(len(steps), 1))]
        low = min([now - each.gain.high for each in coming] + [step.plateau_c for step in steps] + [now])
        limit = found.runs[-1].limit_c
        high = max([step.plateau_c for step in steps] + [now])
        if limit is not None and limit - high < 25:
            high = max(high, limit)
        pad = max((high - low) * 0.12, 1.0)
        low, high = low - pad, high + pad

        def y(value: float) -> float:
            return _TOP + (self.height() - _TOP - _FOOT) * (high - value) / (high - low)

        if limit is not None and limit <= high:
            painter.setPen(QPen(QColor(scheme.fault), 1.2, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(12, y(limit)), QPointF(self.width() - 12.0, y(limit)))
            words = f"limit {limit:g} °C"
            draw_text(painter, QPointF(self.width() - 14.0, y(limit) - 4), words, scheme.fault, 10.5, right=True)
        x = 26.0
        last = found.runs[-1].choice.name
        for step in steps[-room:] or (Step(last, now, None),):
            self._draw_step(painter, x, y(step.plateau_c), step, _place_of(found, step))
            x += self._column
        for each in coming:
            top = y(now - each.gain.low)
            self._draw_coming(painter, QRectF(x, top, 52, max(4.0, y(now - each.gain.high) - top)), each)
            x += self._column

    def _draw_coming(self, painter: QPainter, box: QRectF, remedy: Remedy) -> None:
        painter.setPen(QPen(QColor(self.look.scheme.ink), 1.2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        expected = f"expected {_less(remedy.gain.low)} to {_less(remedy.gain.high)} K"
        self._write(painter, box.x(), remedy.words, expected, f"{remedy.words}: {expected}")

    def _draw_step(self, painter: QPainter, x: float, y: float, step: Step, place: int) -> None:
        scheme, figure = self.look.scheme, f"{step.plateau_c:.1f}"
        painter.fillRect(QRectF(x, y - 2.5, 52, 5), colour_of(place, scheme))
        draw_text(painter, QPointF(x + 58, y + 5), figure, scheme.ink, 13, bold=True)
        words = _gained(step)
        short = words.partition(" (")[0] if self._column < _ROOMY else words
        self._write(painter, x, step.name, short, f"{step.name}: {figure} °C, {step.refused or words}")

    def _write(self, painter: QPainter, x: float, name: str, words: str, whole: str) -> None:
        """Write a column's two lines at its foot; `whole` is what its tooltip says."""
        scheme, base = self.look.scheme, self.height() - 24.0
        draw_text(painter, QPointF(x, base), name, scheme.ink, 11, bold=True, width=self._column - 6)
        draw_text(painter, QPointF(x, base + 15), words, scheme.soft, 10.5, width=self._column - 12)
        self.spots.append(Spot(QRectF(x - 6, 30, self._column, self.height() - 30.0), whole))


def _place_of(found: Comparison, step: Step) -> int:
    """Return the place of a state's last run, whose colour the state has."""
    return max((place for place, run in enumerate(found.runs) if run.choice.name == step.name), default=0)


def _gained(step: Step) -> str:
    if step.change is None:
        return "not comparable" if step.refused else "first run"
    kelvin = step.change.kelvin
    low, high = sorted((abs(kelvin.low), abs(kelvin.high)))
    sign = "−" if kelvin.value < 0 else "+"
    return f"{sign}{abs(kelvin.value):.1f} K ({low:.1f} to {high:.1f})" if step.change.real else "no difference"


def _less(kelvin: float) -> str:
    return f"−{kelvin:.0f}" if kelvin >= 0.5 else "0"
