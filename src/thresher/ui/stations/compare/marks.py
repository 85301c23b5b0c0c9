"""What distinguishes runs: each has its letter, colour and line style."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPen

from thresher.ui.theme import Scheme

LETTERS = "ABCDEFGH"
_TOKENS = ("soft", "processor", "straw", "memory", "drive", "graphics", "power", "ink")
_LINES = (
    Qt.PenStyle.SolidLine,
    Qt.PenStyle.SolidLine,
    Qt.PenStyle.SolidLine,
    Qt.PenStyle.DashLine,
    Qt.PenStyle.DashDotLine,
    Qt.PenStyle.DotLine,
    Qt.PenStyle.DashDotDotLine,
    Qt.PenStyle.DashLine,
)
_WIDTHS = (1.3, 2.2, 1.7, 1.7, 1.7, 2.0, 1.7, 2.2)


def colour_of(place: int, scheme: Scheme) -> QColor:
    """Return the colour of the run at a place."""
    return QColor(getattr(scheme, _TOKENS[place % len(_TOKENS)]))


def pen_of(place: int, scheme: Scheme) -> QPen:
    """Return the line of the run at a place; its pattern and width distinguish it without colour too."""
    number = place % len(_TOKENS)
    return QPen(colour_of(place, scheme), _WIDTHS[number], _LINES[number])


def letter_of(place: int) -> str:
    """Return the letter of the run at a place."""
    return LETTERS[place % len(LETTERS)]
