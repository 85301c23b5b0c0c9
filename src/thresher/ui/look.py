"""The scheme in force, shared by all widgets, and the small drawings that they have in common."""

from PyQt6.QtCore import QObject, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF

from thresher.model.parts import PartStatus
from thresher.ui.theme import LIGHT, Scheme, face


class Look(QObject):
    """Holds the scheme; `changed` comes when another is chosen."""

    changed = pyqtSignal()

    def __init__(self, scheme: Scheme = LIGHT, parent: QObject | None = None) -> None:
        """Begin with a scheme."""
        super().__init__(parent)
        self.scheme = scheme

    def choose(self, scheme: Scheme) -> None:
        """Take another scheme."""
        self.scheme = scheme
        self.changed.emit()


def draw_mark(painter: QPainter, centre: QPointF, status: PartStatus, scheme: Scheme, radius: float = 6.0) -> None:
    """Draw the mark of a status: open ring, ring with a bar, half-filled lozenge, solid square with a stroke."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colour = scheme.status(status)
    painter.setPen(QPen(colour, 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    x, y, r = centre.x(), centre.y(), radius
    match status:
        case PartStatus.UNTESTED:
            painter.drawEllipse(centre, r - 0.5, r - 0.5)
        case PartStatus.CLEARED:
            painter.drawEllipse(centre, r - 0.5, r - 0.5)
            painter.drawLine(QPointF(x - r * 0.5, y), QPointF(x + r * 0.5, y))
        case PartStatus.IN_DOUBT:
            r += 1
            lozenge = [QPointF(x, y - r), QPointF(x + r, y), QPointF(x, y + r), QPointF(x - r, y)]
            painter.drawPolygon(QPolygonF(lozenge))
            painter.setBrush(QBrush(colour))
            painter.drawPolygon(QPolygonF([lozenge[0], lozenge[2], lozenge[3]]))
        case PartStatus.REPLACE:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QBrush(colour))
            painter.drawRect(QRectF(x - r, y - r, 2 * r, 2 * r))
            painter.setPen(QPen(QColor(scheme.panel), 1.8))
            painter.drawLine(QPointF(x - r * 0.5, y + r * 0.5), QPointF(x + r * 0.5, y - r * 0.5))
    painter.restore()


def draw_outcome(painter: QPainter, centre: QPointF, words: str, scheme: Scheme, radius: float = 6.0) -> None:
    """Draw how a check stands: a tick, a cross, a bar for what could not be told, an arc while it is under way.

    A check that is still coming is a dot."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    x, y, r = centre.x(), centre.y(), radius
    known = {"pass": scheme.cleared, "fail": scheme.fault, "under way": scheme.ink}
    colour = known.get(words, scheme.soft)
    painter.setPen(QPen(QColor(colour), 2.4, cap=Qt.PenCapStyle.RoundCap))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    match words:
        case "pass":
            painter.drawPolyline(
                QPolygonF(
                    [QPointF(x - r * 0.8, y), QPointF(x - r * 0.15, y + r * 0.6), QPointF(x + r * 0.9, y - r * 0.7)]
                )
            )
        case "fail":
            painter.drawLine(QPointF(x - r * 0.7, y - r * 0.7), QPointF(x + r * 0.7, y + r * 0.7))
            painter.drawLine(QPointF(x - r * 0.7, y + r * 0.7), QPointF(x + r * 0.7, y - r * 0.7))
        case "under way":
            painter.drawArc(QRectF(x - r, y - r, 2 * r, 2 * r), 90 * 16, -270 * 16)
        case "coming":
            painter.setBrush(QColor(colour))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.drawEllipse(centre, 2.2, 2.2)
        case _:
            painter.drawLine(QPointF(x - r * 0.7, y), QPointF(x + r * 0.7, y))
    painter.restore()


def draw_text(
    painter: QPainter,
    at: QPointF,
    text: str,
    colour: str | QColor,
    pixels: float,
    bold: bool = False,
    mono: bool = False,
    right: bool = False,
    width: float | None = None,
) -> float:
    """Write one line with its baseline at a point, cut with dots to `width`; return the width written."""
    made, metrics = face(pixels, bold, mono)
    if width is not None:
        text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, width)
    wide = metrics.horizontalAdvance(text)
    painter.setFont(made)
    painter.setPen(QColor(colour))
    painter.drawText(QPointF(at.x() - wide, at.y()) if right else at, text)
    return wide


def text_width(text: str, pixels: float, bold: bool = False, mono: bool = False) -> float:
    """Return how wide a text is."""
    return face(pixels, bold, mono)[1].horizontalAdvance(text)


def draw_fitting(painter: QPainter, at: QPointF, text: str, colour: str | QColor, pixels: float, width: float) -> None:
    """Write one line a little smaller when that makes it fit, and only then cut it with dots."""
    size = next((size for size in (pixels, pixels - 1, pixels - 1.6) if text_width(text, size) <= width), pixels - 1.6)
    draw_text(painter, at, text, colour, size, width=width)


def wrap(text: str, pixels: float, width: float, most: int) -> list[str]:
    """Break a text into at most so many lines; the last is cut with dots when there is more."""
    metrics = face(pixels)[1]
    lines: list[str] = []
    for word in text.split():
        longer = f"{lines[-1]} {word}" if lines else word
        if lines and metrics.horizontalAdvance(longer) <= width:
            lines[-1] = longer
        else:
            lines.append(word)
    if len(lines) > most:
        lines[most - 1 :] = [metrics.elidedText(" ".join(lines[most - 1 :]), Qt.TextElideMode.ElideRight, width)]
    return lines


def panel(painter: QPainter, rect: QRectF, scheme: Scheme, title: str = "", aside: str = "") -> None:
    """Draw the sheet of paper that a station's part stands on, with its title and a word at the right."""
    painter.fillRect(rect, QColor(scheme.panel))
    painter.setPen(QPen(QColor(scheme.rule), 1.5))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(rect.adjusted(0.75, 0.75, -0.75, -0.75))
    if title:
        draw_text(painter, QPointF(rect.x() + 12, rect.y() + 21), title.upper(), scheme.soft, 11, bold=True)
    if aside:
        draw_text(painter, QPointF(rect.right() - 12, rect.y() + 21), aside, scheme.soft, 11, right=True)
