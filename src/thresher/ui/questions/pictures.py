"""Pictures that fill the screen while a person judges it: fields, grey steps, a gradient, lines, a grid."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QLinearGradient, QPainter, QPen

from thresher.model.questions import Picture, PictureKind

_STEPS = 17
_GRID = 12


def draw_picture(painter: QPainter, area: QRectF, picture: Picture) -> None:
    """Draw what is to be judged: a field of one colour, steps of grey, a gradient, lines, or a grid with circles."""
    colour = QColor(*picture.colour)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    match picture.kind:
        case PictureKind.FIELD:
            painter.fillRect(area, colour)
        case PictureKind.GREYS:
            wide = area.width() / _STEPS
            for step in range(_STEPS):
                level = round(255 * step / (_STEPS - 1))
                strip = QRectF(area.x() + step * wide, area.y(), wide + 1, area.height())
                painter.fillRect(strip, QColor(level, level, level))
        case PictureKind.GRADIENT:
            gradient = QLinearGradient(area.topLeft(), area.topRight())
            gradient.setColorAt(0.0, QColor(0, 0, 0))
            gradient.setColorAt(1.0, colour)
            painter.fillRect(area, gradient)
        case PictureKind.LINES:
            painter.fillRect(area, QColor(0, 0, 0))
            painter.setPen(QPen(QColor(255, 255, 255), 1))
            for x in range(int(area.left()), int(area.right()), 2):
                painter.drawLine(x, int(area.top()), x, int(area.bottom()))
        case PictureKind.GRID:
            _draw_grid(painter, area)


def _draw_grid(painter: QPainter, area: QRectF) -> None:
    painter.fillRect(area, QColor(0, 0, 0))
    painter.setPen(QPen(QColor(255, 255, 255), 1))
    pitch = area.height() / _GRID
    for row in range(_GRID + 1):
        y = min(area.bottom() - 1, area.y() + row * pitch)
        painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
    for column in range(int(area.width() / pitch) + 1):
        x = area.x() + column * pitch
        painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
    painter.drawRect(area.adjusted(0, 0, -1, -1))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.drawEllipse(area.center(), area.height() * 0.45, area.height() * 0.45)
    for corner in (area.topLeft(), area.topRight(), area.bottomLeft(), area.bottomRight()):
        inwards = QPointF(
            pitch * 1.5 if corner.x() == area.left() else -pitch * 1.5,
            pitch * 1.5 if corner.y() == area.top() else -pitch * 1.5,
        )
        painter.drawEllipse(corner + inwards, pitch * 1.4, pitch * 1.4)
