"""A drop-down field in the look of the other fields: a line of text and a small arrow, without a bevel."""

from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPalette, QPolygonF
from PyQt6.QtWidgets import QComboBox

ARROW_WIDE = 16


class Chooser(QComboBox):
    """A combo box whose arrow is painted in the colour of its text; the style sheet takes the rest away."""

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paint the field, then the arrow."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        group = QPalette.ColorGroup.Normal if self.isEnabled() else QPalette.ColorGroup.Disabled
        painter.setBrush(self.palette().color(group, QPalette.ColorRole.Text))
        painter.setPen(Qt.PenStyle.NoPen)
        x, y = self.width() - ARROW_WIDE / 2 - 1.0, self.height() / 2 + 0.5
        painter.drawPolygon(QPolygonF([QPointF(x - 3.5, y - 2), QPointF(x + 3.5, y - 2), QPointF(x, y + 2.5)]))
        painter.end()
