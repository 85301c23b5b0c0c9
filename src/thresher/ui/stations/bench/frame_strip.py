"""Frame times as a strip of strokes, one a frame: an even row is smooth, a stroke that stands out is a stutter."""

from PyQt6.QtCore import QLineF, QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter, QPen

from thresher.ui.look import draw_text
from thresher.ui.theme import Scheme

_HEADROOM = 1.5
_WIDE = 600.0
_STUTTER = 1.6
"""A frame that takes so many times the median is a stutter: the eye sees it."""


def draw_frames(painter: QPainter, area: QRectF, times_ms: tuple[float, ...], median_ms: float, scheme: Scheme) -> None:
    """Draw the newest frames from the right, with a line at the median; stutters reach up in the colour of faults."""
    painter.fillRect(area, QColor(scheme.grid))
    if not times_ms or median_ms <= 0:
        draw_text(painter, QPointF(area.left() + 6, area.center().y() + 4), "no frame yet", scheme.soft, 10.5)
        return
    top_ms = max(_HEADROOM * median_ms, min(max(times_ms), 4 * median_ms))
    step = 3.0 if area.width() < _WIDE else 4.0
    shown = times_ms[-max(1, int(area.width() / step)) :]
    even: list[QLineF] = []
    odd: list[QLineF] = []
    for number, value in enumerate(reversed(shown)):
        x = area.right() - step * number - 1.5
        height = area.height() * min(1.0, value / top_ms)
        line = QLineF(x, area.bottom(), x, area.bottom() - height)
        (odd if value > _STUTTER * median_ms else even).append(line)
    for lines, colour, wide in ((even, scheme.graphics, 1.6), (odd, scheme.fault, 2.0)):
        painter.setPen(QPen(QColor(colour), wide))
        for line in lines:
            painter.drawLine(line)
    painter.setPen(QPen(QColor(scheme.ink), 1))
    y = area.bottom() - area.height() * median_ms / top_ms
    painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))


class FrameHistory:
    """The newest frame times of each card, report after report."""

    def __init__(self, most: int = 600) -> None:
        """Keep so many a card."""
        self._most = most
        self._times: dict[str, tuple[float, ...]] = {}
        self._last: dict[str, tuple[float, ...]] = {}

    def add(self, card: str, recent_ms: tuple[float, ...]) -> tuple[float, ...]:
        """Take in what a report brings, once, and return everything that is kept of the card."""
        if recent_ms and recent_ms != self._last.get(card):
            self._last[card] = recent_ms
            self._times[card] = (*self._times.get(card, ()), *recent_ms)[-self._most :]
        return self._times.get(card, ())


def stutters(times_ms: tuple[float, ...], median_ms: float) -> int:
    """Return how many of the frames were stutters."""
    return sum(value > _STUTTER * median_ms for value in times_ms) if median_ms > 0 else 0
