"""Suspects on paper: each with its probability as a bar and its strongest reasons for and against."""

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.model.parts import PartStatus
from thresher.model.verdict import Suspect, percent, suspect_title
from thresher.ui.look import Look, draw_fitting, draw_mark, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.suspect_card import full_reasons

_ROW, _TALLEST_ROW = 47.0, 78.0
_REASON = 14.0
_LEAST = 0.004
_FEWEST = 5
_NARROW = 540


def known(state: BenchState) -> bool:
    """Whether there is anything to suspect from: the priors alone are nothing to show a person."""
    verdict = state.verdict
    return verdict is not None and bool(
        state.findings
        or verdict.shown_share > 0
        or state.book.trials[1:]
        or any(trial.outcomes for trial in state.book.trials)
    )


def listed(state: BenchState) -> list[Suspect]:
    """Return the suspects worth a row: the likeliest few, and all that are not next to nothing."""
    suspects = state.verdict.suspects if state.verdict is not None and known(state) else ()
    return [each for number, each in enumerate(suspects) if number < _FEWEST or each.probability >= _LEAST]


class SuspectsPanel(PaintedWidget):
    """As high as its rows; stands in a scroll area."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Suspects with their reasons", parent)
        state.refreshed.connect(self._fit)

    def _fit(self) -> None:
        high = int(max(3, len(listed(self.state))) * _ROW) + 6
        if high != self.minimumHeight():
            self.setMinimumHeight(high)
            self.updateGeometry()

    def sizeHint(self) -> QSize:
        """As high as its rows."""
        return QSize(460, self.minimumHeight())

    def draw(self, painter: QPainter) -> None:
        """Draw a row a suspect."""
        scheme = self.look.scheme
        painter.fillRect(self.rect(), QColor(scheme.panel))
        if not known(self.state):
            words = "Cannot tell yet: no findings and no time under load. Start the proposed run sheet first."
            draw_text(painter, QPointF(12, 24), words, scheme.soft, 12, width=self.width() - 24.0)
            return
        suspects = listed(self.state)
        high = min(_TALLEST_ROW, max(_ROW, (self.height() - 6.0) / max(1, len(suspects))))
        for number, suspect in enumerate(suspects):
            self._draw_row(painter, suspect, number * high, high)
        self.setAccessibleDescription(
            "; ".join(
                f"{suspect_title(each)}, {each.title}: {percent(each.probability)}" for each in listed(self.state)
            )
        )

    def _draw_row(self, painter: QPainter, suspect: Suspect, y: float, high: float) -> None:
        scheme = self.look.scheme
        status = self.state.status_of(suspect.kind, suspect.tag) if suspect.kind else PartStatus.UNTESTED
        draw_mark(painter, QPointF(20, y + 20), status, scheme)
        colour = scheme.part(suspect.kind)
        narrow = self.width() < _NARROW
        name, bar_wide, bar_left = (140.0, 44.0, 182.0) if narrow else (176.0, 82.0, 218.0)
        draw_text(painter, QPointF(36, y + 18), suspect_title(suspect), colour, 13, bold=True, width=name)
        draw_text(painter, QPointF(36, y + 34), suspect.title, scheme.soft, 11, width=name)
        bar = QRectF(bar_left, y + 11, bar_wide, 14)
        painter.fillRect(bar, QColor(scheme.grid))
        strong = suspect.kind is not None and suspect.probability >= 0.8
        painter.fillRect(
            QRectF(bar.x(), bar.y(), max(2.0, bar.width() * suspect.probability), bar.height()),
            QColor(scheme.fault) if strong else colour,
        )
        draw_text(painter, QPointF(bar.right() + 8, y + 23), percent(suspect.probability), scheme.ink, 13, bold=True)
        left = bar.right() + (74 if narrow else 84)
        rows = int((high - 5) // _REASON) - bool(suspect.deciding_test)
        strongest = sorted(suspect.reasons[1:], key=lambda reason: -abs(reason.decibans))[:rows]
        shown = [each for each in strongest if abs(each.decibans) >= 0.5]
        if suspect.deciding_test:
            words = f"Deciding test: {suspect.deciding_test}"
            at = y + 13 + _REASON * len(shown)
            draw_fitting(painter, QPointF(left + 6, at), words, scheme.ink, 10.5, self.width() - left - 12)
        for number, reason in enumerate(shown):
            at = y + 13 + _REASON * number
            weight = f"{reason.decibans:+.0f}".replace("-", "−")
            draw_text(painter, QPointF(left, at), weight, scheme.ink, 10.5, bold=True, right=True)
            draw_fitting(painter, QPointF(left + 6, at), reason.text, scheme.soft, 10.5, self.width() - left - 12)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.drawLine(QPointF(10, y + high - 1), QPointF(self.width() - 10.0, y + high - 1))
        self.spots.append(Spot(QRectF(0, y, self.width(), high), full_reasons(suspect)))
