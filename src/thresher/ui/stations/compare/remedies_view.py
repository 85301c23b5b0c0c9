"""Remedies from first to last: where the plateau was, what each remedy gained, and what the next ones would gain."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.compare.comparison import Comparison
from thresher.heat.change import Change
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
                words = "Nothing to show: the newest run is too short, or power and limit are not reported."
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
        for number, step in enumerate(steps[-room:]):
            self._draw_step(painter, x, y(step.plateau_c), step.name, f"{step.plateau_c:.1f}", number, step.change)
            x += self._column
        if not steps:
            last = len(found.runs) - 1
            self._draw_step(painter, x, y(now), found.runs[-1].choice.name, f"{now:.1f}", last, None)
            x += self._column
        for each in coming:
            painter.setPen(QPen(QColor(scheme.ink), 1.2, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            box = QRectF(x, y(now - each.gain.low), 52, max(4.0, y(now - each.gain.high) - y(now - each.gain.low)))
            painter.drawRect(box)
            base = self.height() - 24.0
            draw_text(painter, QPointF(x, base), each.words, scheme.ink, 11, bold=True, width=self._column - 6)
            words = f"expected {_less(each.gain.low)} to {_less(each.gain.high)} K"
            draw_text(painter, QPointF(x, base + 15), words, scheme.soft, 10.5, width=self._column - 12)
            self.spots.append(Spot(QRectF(x - 6, 30, self._column, self.height() - 30.0), f"{each.words}: {words}"))
            x += self._column

    def _draw_step(
        self, painter: QPainter, x: float, y: float, name: str, figure: str, number: int, change: Change | None
    ) -> None:
        scheme = self.look.scheme
        painter.fillRect(QRectF(x, y - 2.5, 52, 5), colour_of(number, scheme))
        draw_text(painter, QPointF(x + 58, y + 5), figure, scheme.ink, 13, bold=True)
        base = self.height() - 24.0
        draw_text(painter, QPointF(x, base), name, scheme.ink, 11, bold=True, width=self._column - 6)
        words = "to begin with"
        if change is not None:
            kelvin = change.kelvin
            low, high = sorted((abs(kelvin.low), abs(kelvin.high)))
            sign = "−" if kelvin.value < 0 else "+"
            words = f"{sign}{abs(kelvin.value):.1f} K ({low:.1f} to {high:.1f})" if change.real else "no difference"
            if self._column < _ROOMY:
                words = words.partition(" (")[0]
        draw_text(painter, QPointF(x, base + 15), words, scheme.soft, 10.5, width=self._column - 12)
        self.spots.append(Spot(QRectF(x - 6, 30, self._column, self.height() - 30.0), f"{name}: {figure} °C, {words}"))


def _less(kelvin: float) -> str:
    return f"−{kelvin:.0f}" if kelvin >= 0.5 else "0"
