"""How the job's seal stands, in words and with a mark: sealed and unchanged, changed, outdated, or none yet."""

from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.app.report_apart import SealState
from thresher.model.parts import PartStatus
from thresher.ui.look import Look, draw_mark, draw_text, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState


class SealView(PaintedWidget):
    """A card with the state of the newest seal."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin without one."""
        super().__init__(state, look, "Seal", parent)
        self.seal = SealState()
        self.setFixedHeight(92)

    def sizeHint(self) -> QSize:
        """As wide as the column."""
        return QSize(220, 92)

    def show_seal(self, seal: SealState) -> None:
        """Show another state."""
        self.seal = seal
        head, lines = self.words()
        self.setAccessibleDescription(". ".join((head, *lines)))
        self.update()

    def words(self) -> tuple[str, tuple[str, ...]]:
        """Return the headline and the lines below it."""
        seal = self.seal
        if not seal.code:
            return "Not sealed yet", ("Saving or printing seals the report with the shop's key.",)
        when = f"{datetime.fromtimestamp(seal.wall).astimezone():%-d %b %Y}" if seal.wall else ""
        if seal.faults:
            return "Changed since it was sealed", (seal.code, *seal.faults)
        if seal.outdated:
            return "More has come since the seal", (f"{seal.code}, {when}", "The next report gets a new seal.")
        return "Sealed and unchanged", (f"{seal.code}, {when}", f"covers {seal.covers}")

    def draw(self, painter: QPainter) -> None:
        """Draw the card."""
        scheme, area = self.look.scheme, QRectF(self.rect()).adjusted(1, 1, -1, -1)
        status = PartStatus.UNTESTED
        if self.seal.code:
            status = PartStatus.CLEARED
        if self.seal.outdated:
            status = PartStatus.IN_DOUBT
        if self.seal.faults:
            status = PartStatus.REPLACE
        painter.fillRect(area, QColor(scheme.field))
        painter.setPen(QPen(QColor(scheme.status(status)), 1.5))
        painter.drawRect(area)
        head, lines = self.words()
        draw_mark(painter, QPointF(area.x() + 16, area.y() + 18), status, scheme)
        draw_text(painter, QPointF(area.x() + 30, area.y() + 23), head, scheme.ink, 12.5, True, width=area.width() - 36)
        y = area.y() + 42
        for line in lines:
            for row in wrap(line, 11, area.width() - 20, 2):
                if y < area.bottom() - 3:
                    draw_text(painter, QPointF(area.x() + 10, y), row, scheme.soft, 11, width=area.width() - 20)
                y += 15
        self.spots.append(Spot(area, "\n".join((head, *lines))))
