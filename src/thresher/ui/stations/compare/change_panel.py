"""What changed: one large figure with its range, the figures beside it, the heat path, and what to do."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QPushButton, QWidget

from thresher.compare.comparison import Comparison, RunHeat
from thresher.heat.heat_path import Trouble, heat_path_data
from thresher.model.parts import PartStatus
from thresher.ui.look import Look, draw_fitting, draw_mark, draw_text, panel, text_width, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.figures import figures_of
from thresher.ui.stations.compare.marks import letter_of

_ROW = 35.0


class ChangePanel(PaintedWidget):
    """The right side. Its two buttons stand at its foot."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "What changed", parent)
        self.comparison: Comparison | None = None
        self.proof = QPushButton("Proof run", self)
        self.proof.setObjectName("compare_proof")
        self.proof.setToolTip("Put the newest run's sheet on the bench; it waits for the same start temperature")
        self.note = QPushButton("Add to report", self)
        self.note.setObjectName("compare_note")
        self.note.setToolTip("Add the result to the job's tape and report")

    def show_comparison(self, comparison: Comparison | None) -> None:
        """Show a comparison."""
        self.comparison = comparison
        self.setAccessibleDescription(f"{comparison.sentence} {comparison.advice}" if comparison is not None else "")
        for each in (self.proof, self.note):
            each.setEnabled(comparison is not None)
        self._place()
        self.update()

    def resizeEvent(self, _event: object) -> None:
        """Keep the buttons at the foot."""
        self._place()

    def _place(self) -> None:
        half = (self.width() - 30) // 2
        self.proof.setGeometry(10, self.height() - 38, half, 27)
        self.note.setGeometry(20 + half, self.height() - 38, half, 27)

    def draw(self, painter: QPainter) -> None:
        """Draw everything."""
        scheme, found = self.look.scheme, self.comparison
        difference = found.difference if found is not None else None
        aside = (
            f"{letter_of(difference.second)} against {letter_of(difference.first)}" if difference is not None else ""
        )
        panel(painter, QRectF(self.rect()), scheme, "What changed", aside)
        if found is None:
            return
        y = self._draw_headline(painter, found)
        foot = self._draw_advice(painter, found)
        y = self._draw_figures(painter, found, y, foot)
        self._draw_path(painter, found.runs[-1], y, foot)

    def _draw_headline(self, painter: QPainter, found: Comparison) -> float:
        scheme, difference, width = self.look.scheme, found.difference, self.width() - 24.0
        if difference is None or difference.change is None:
            words = difference.refused[0] if difference is not None else found.runs[-1].verdict.sentence
            title = "Not comparable" if difference is not None else f"{found.runs[-1].plateau.value:.1f} °C"
            colour = scheme.fault if difference is not None else scheme.ink
            draw_text(painter, QPointF(12, 54), title, colour, 21, bold=True)
            lines = wrap(words, 12, width, 4)
            for number, line in enumerate(lines):
                draw_text(painter, QPointF(12, 76 + 16 * number), line, scheme.ink, 12)
            return 84.0 + 16 * len(lines)
        change = difference.change
        figure = f"{abs(change.kelvin.value):.1f} K" if change.real else "No difference"
        way = "cooler" if change.kelvin.value < 0 else "hotter"
        draw_text(painter, QPointF(12, 62), figure, scheme.ink, 32 if change.real else 21, bold=True)
        if change.real:
            wide = text_width(figure, 32, bold=True)
            draw_text(painter, QPointF(20 + wide, 62), way, scheme.ink, 16)
        low, high = sorted((abs(change.kelvin.low), abs(change.kelvin.high)))
        words = f"90 % range {low:.1f} to {high:.1f} K: a real change" if change.real else change.sentence
        lines = wrap(words, 12, width, 3)
        for number, line in enumerate(lines):
            colour = scheme.cleared if change.real else scheme.ink
            draw_text(painter, QPointF(12, 82 + 16 * number), line, colour, 12)
        self.spots.append(Spot(QRectF(8, 30, width, 60), found.sentence))
        return 90.0 + 16 * len(lines)

    def _draw_figures(self, painter: QPainter, found: Comparison, y: float, foot: float) -> float:
        """Draw the figures of both runs, as many as there is room for; return where they end."""
        scheme, right = self.look.scheme, self.width() - 12.0
        for row in figures_of(found):
            if y + _ROW > foot - 8:
                return y
            wide = draw_text(painter, QPointF(right, y + 13), row.words, scheme.ink, 12.5, bold=True, right=True)
            draw_text(painter, QPointF(12, y + 13), row.name, scheme.ink, 12, width=right - wide - 20)
            draw_fitting(painter, QPointF(12, y + 27), row.small, scheme.soft, 10.5, right - 12)
            painter.setPen(QPen(QColor(scheme.grid), 1))
            painter.drawLine(QPointF(12, y + _ROW - 1), QPointF(right, y + _ROW - 1))
            y += _ROW
        return y + 6

    def _draw_path(self, painter: QPainter, run: RunHeat, y: float, foot: float) -> None:
        """Draw the stages of the heat path with their marks."""
        scheme, right = self.look.scheme, self.width() - 12.0
        if y + 60 > foot or not run.verdict.pieces:
            return
        judgement = heat_path_data().judgement
        draw_text(painter, QPointF(12, y + 14), "HEAT PATH", scheme.soft, 11, bold=True)
        y += 22
        for piece in run.verdict.pieces:
            if y + 30 > foot:
                return
            bad = piece.times >= judgement.bad
            status = PartStatus.CLEARED if piece.times < judgement.poor else PartStatus.IN_DOUBT
            draw_mark(painter, QPointF(19, y + 9), PartStatus.REPLACE if bad else status, scheme, 5.5)
            draw_text(painter, QPointF(32, y + 13), piece.name, scheme.ink, 12)
            value = f"{piece.resistance.value:.2f} K/W"
            draw_text(painter, QPointF(right, y + 13), value, scheme.ink, 12, bold=True, right=True)
            draw_text(painter, QPointF(32, y + 27), f"good up to {piece.allowed:.2f}", scheme.soft, 10.5)
            y += 33

    def _draw_advice(self, painter: QPainter, found: Comparison) -> float:
        """Draw the advice above the buttons and return where it begins."""
        scheme, width = self.look.scheme, self.width() - 24.0
        last = found.runs[-1]
        title, _, rest = found.advice.partition(". ")
        title_lines = wrap(title.removesuffix(".") + ".", 13, width, 3)
        lines = wrap(rest, 11.5, width, 4) if rest else []
        high = 52.0 + 17 * len(title_lines) + 16 * len(lines) + 10
        area = QRectF(1, self.height() - high, self.width() - 2.0, high - 1)
        painter.fillRect(area, QColor(scheme.rail))
        y = area.y() + 20
        for line in title_lines:
            draw_text(painter, QPointF(12, y), line, scheme.ink, 13, bold=True)
            y += 17
        for line in lines:
            draw_text(painter, QPointF(12, y), line, scheme.ink, 11.5)
            y += 16
        trouble = last.verdict.trouble
        words = "\n".join((last.verdict.sentence, *last.verdict.reasons))
        self.spots.append(Spot(area, words if trouble is not Trouble.UNKNOWN else last.verdict.sentence))
        return area.y()
