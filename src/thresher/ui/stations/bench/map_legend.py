"""The legend below the machine map: what each mark says of a part."""

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPainter

from thresher.model.parts import PartStatus
from thresher.ui.look import draw_mark, draw_text, text_width
from thresher.ui.theme import Scheme

_LEGEND = tuple(PartStatus)


def draw_legend(painter: QPainter, scheme: Scheme, width: int, height: int) -> None:
    """Draw every mark with its word along the lower edge, in two columns where one row is too narrow."""
    widest = max(text_width(status.value, 10.5) for status in _LEGEND) + 20
    in_a_row = len(_LEGEND) if widest * len(_LEGEND) <= width - 20 else 2
    pitch = (width - 24) / in_a_row
    rows = -(-len(_LEGEND) // in_a_row)
    for number, status in enumerate(_LEGEND):
        x = 18 + number % in_a_row * pitch
        y = height - 17.0 - 17 * (rows - 1 - number // in_a_row)
        draw_mark(painter, QPointF(x, y), status, scheme, 5)
        draw_text(painter, QPointF(x + 9, y + 4), status.value, scheme.soft, 10.5)
