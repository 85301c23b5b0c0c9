"""The suspect card: the likeliest parts with probability and reasons, and the next step."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.model.parts import PartStatus
from thresher.model.verdict import Suspect, percent, suspect_title
from thresher.ui.look import Look, draw_fitting, draw_mark, draw_text, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_SHOWN_FROM = 0.08
_REASONS = 3
_HEIGHT, _HEIGHT_FOR_ONE = 184, 158


def shown_suspects(state: BenchState) -> list[Suspect]:
    """Return the one or two suspects worth showing on the Bench; none before there is a verdict."""
    if state.verdict is None or not (state.findings or state.verdict.shown_share > 0):
        return []  # the priors alone are nothing to show a person
    suspects = state.verdict.suspects
    return [suspects[0], *(each for each in suspects[1:2] if each.probability >= _SHOWN_FROM)]


def full_reasons(suspect: Suspect) -> str:
    """Return all reasons of a suspect, as they add up."""
    lines = [f"{suspect_title(suspect)}: {suspect.title}, {percent(suspect.probability)}", ""]
    lines += [f"{reason.decibans:+6.1f}  {reason.text}".replace("-", "−") for reason in suspect.reasons]
    total = sum(reason.decibans for reason in suspect.reasons)
    lines += [f"{total:+6.1f}  in sum".replace("-", "−"), ""]
    lines.append("Evidence weight in decibans: +10 = 10 times more likely, −10 a tenth.")
    if suspect.deciding_test:
        lines += ["", "Deciding test:", suspect.deciding_test]
    return "\n".join(lines)


class SuspectCard(PaintedWidget):
    """Two suspects at most, the first with its strongest reasons; the second's are in its tooltip."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Keep one of two heights, for one suspect or two, so that the tape above does not jump."""
        super().__init__(state, look, "Suspects", parent)
        self.setFixedHeight(_HEIGHT)
        state.refreshed.connect(self._fit)

    def _fit(self) -> None:
        height = _HEIGHT if len(shown_suspects(self.state)) != 1 else _HEIGHT_FOR_ONE
        if height != self.height():
            self.setFixedHeight(height)

    def draw(self, painter: QPainter) -> None:
        """Draw the suspects, or why there is none."""
        scheme = self.look.scheme
        area = QRectF(self.rect()).adjusted(0, 4, 0, 0)
        painter.fillRect(area, QColor(scheme.rail))
        painter.setPen(QPen(QColor(scheme.rule), 1.5))
        painter.drawRect(area.adjusted(0.75, 0.75, -0.75, -0.75))
        suspects = shown_suspects(self.state)
        if not suspects:
            draw_text(painter, QPointF(12, 26), "SUSPECTS", scheme.soft, 11, bold=True)
            lines = wrap("none yet: needs findings, or time under load", 12, self.width() - 24.0, 2)
            for number, words in enumerate(lines):
                draw_text(painter, QPointF(12, 48 + 17 * number), words, scheme.soft, 12)
            return
        y = area.y() + 22
        for place, suspect in enumerate(suspects):
            most = 0 if place else _REASONS if len(suspects) == 1 else 2
            y = self._draw_suspect(painter, suspect, y, most) + 17
        step = suspects[0].next_step
        for line in wrap(f"Next: {step}", 11.5, self.width() - 24.0, 3):
            draw_text(painter, QPointF(12, y), line, scheme.ink, 11.5, width=self.width() - 24.0)
            y += 15
        self.setAccessibleDescription("\n".join(full_reasons(each) for each in suspects))

    def _draw_suspect(self, painter: QPainter, suspect: Suspect, y: float, most: int) -> float:
        scheme = self.look.scheme
        status = self.state.status_of(suspect.kind) if suspect.kind else PartStatus.UNTESTED
        draw_mark(painter, QPointF(20, y - 4), status, scheme)
        chance = percent(suspect.probability)
        right = self.width() - 12.0
        strong = suspect.kind is not None and suspect.probability >= 0.8
        wide = draw_text(
            painter, QPointF(right, y), chance, scheme.fault if strong else scheme.ink, 14, bold=True, right=True
        )
        draw_text(painter, QPointF(34, y), suspect_title(suspect), scheme.ink, 13, bold=True, width=right - wide - 44)
        top = y - 14
        y += 16
        draw_fitting(painter, QPointF(34, y), suspect.title, scheme.soft, 11.5, right - 34)
        reasons = sorted(suspect.reasons[1:], key=lambda reason: -abs(reason.decibans))
        for reason in [each for each in reasons if abs(each.decibans) >= 0.5][:most]:
            y += 15
            weight = f"{reason.decibans:+.0f}".replace("-", "−")
            draw_text(painter, QPointF(58, y), weight, scheme.ink, 11, bold=True, right=True)
            text = reason.text.replace(f", {suspect.place}", "", 1) if suspect.place else reason.text
            draw_fitting(painter, QPointF(64, y), text, scheme.soft, 11, right - 64)
        reported = "\n".join(self.state.verdict.combined_findings) if self.state.verdict else ""
        summary = f"{full_reasons(suspect)}\n\n{reported}".strip()
        self.spots.append(Spot(QRectF(0, top, self.width(), y - top + 4), summary))
        return y + 5
