"""Whether two runs may be compared: every condition with what was found and what follows."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from thresher.compare.comparison import Comparison
from thresher.heat.comparable import Fairness
from thresher.model.parts import PartStatus
from thresher.ui.look import Look, draw_mark, draw_text, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.marks import letter_of

_MARKS = {
    Fairness.SAME: PartStatus.CLEARED,
    Fairness.CORRECTED: PartStatus.IN_DOUBT,
    Fairness.NOTED: PartStatus.UNTESTED,
    Fairness.REFUSED: PartStatus.REPLACE,
}
_ROW = 20.0
_LINE = 15.0


class ConditionsView(PaintedWidget):
    """The list of conditions, as high as it needs to be."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Conditions of a fair comparison", parent)
        self.comparison: Comparison | None = None

    def show_comparison(self, comparison: Comparison | None) -> None:
        """Show the conditions of a comparison."""
        self.comparison = comparison
        difference = comparison.difference if comparison is not None else None
        words = (
            [f"{each.name}: {each.fairness.value}, {each.found}" for each in difference.conditions]
            if difference
            else []
        )
        self.setAccessibleDescription("; ".join(words))
        self.setMinimumHeight(int(self._height()))
        self.update()

    def _consequences(self) -> list[str]:
        difference = self.comparison.difference if self.comparison is not None else None
        if difference is None:
            return []
        found = [each.consequence for each in difference.conditions if each.consequence]
        refused = [each for each in difference.refused if each in found]
        return refused or found

    def _lines(self) -> list[str]:
        return [line for each in self._consequences() for line in wrap(each, 11, max(self.width(), 200) - 8.0, 3)]

    def _height(self) -> float:
        difference = self.comparison.difference if self.comparison is not None else None
        return 60.0 if difference is None else 26.0 + _ROW * len(difference.conditions) + _LINE * len(self._lines()) + 8

    def draw(self, painter: QPainter) -> None:
        """Draw the conditions."""
        scheme = self.look.scheme
        difference = self.comparison.difference if self.comparison is not None else None
        if difference is None:
            draw_text(painter, QPointF(2, 14), "FAIR TO COMPARE?", scheme.soft, 11, bold=True)
            draw_text(painter, QPointF(2, 36), "Select a second run.", scheme.soft, 12)
            return
        names = f"{letter_of(difference.first)} AND {letter_of(difference.second)}: FAIR TO COMPARE?"
        draw_text(painter, QPointF(2, 14), names, scheme.soft, 11, bold=True)
        right = self.width() - 2.0
        for number, each in enumerate(difference.conditions):
            y = 34.0 + _ROW * number
            draw_mark(painter, QPointF(8, y - 4), _MARKS[each.fairness], scheme, 5.0)
            colour = scheme.fault if each.fairness is Fairness.REFUSED else scheme.ink
            wide = draw_text(painter, QPointF(right, y), each.found, colour, 11.5, right=True, width=right - 100)
            draw_text(painter, QPointF(20, y), each.name, scheme.ink, 11.5, width=right - wide - 28)
            words = f"{each.name}: {each.found} ({each.fairness.value}). {each.consequence}".strip()
            self.spots.append(Spot(QRectF(0, y - 14, self.width(), _ROW), words))
        top = 34.0 + _ROW * len(difference.conditions)
        for number, line in enumerate(self._lines()):
            colour = scheme.fault if difference.refused else scheme.soft
            draw_text(painter, QPointF(2, top + _LINE * number), line, colour, 11)
