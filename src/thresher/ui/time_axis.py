"""The one time axis that the run sheet and all lanes share."""

import math

from PyQt6.QtCore import QObject, pyqtSignal

LEFT_MARGIN = 92
"""Pixels left of the axis, for the names of rows and lanes."""
RIGHT_MARGIN = 14

_STEPS = (5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 43200, 86400, 172800, 604800)
_SHORTEST_S = 5.0
_LABEL_PIXELS = 62


class TimeAxis(QObject):
    """The span in view, in run seconds; follows the plan until a person zooms."""

    changed = pyqtSignal()

    def __init__(self, parent: QObject | None = None) -> None:
        """Begin with ten minutes."""
        super().__init__(parent)
        self.begin, self.end = 0.0, 600.0
        self.follows = True
        self.tail: float | None = None
        self._left, self._right = float(LEFT_MARGIN), float(RIGHT_MARGIN)

    def set_margins(self, left: float, right: float) -> None:
        """Take over where the plots really begin and end, to the fraction of a pixel."""
        if abs(left - self._left) + abs(right - self._right) > 0.05:
            self._left, self._right = left, right
            self.changed.emit()

    def follow_last(self, seconds: float) -> None:
        """Show the last seconds before now from here on, until a person looks elsewhere."""
        self.follows = False
        self.tail = seconds
        self.changed.emit()

    def move_now(self, now: float) -> None:
        """Keep up with now while the last seconds are followed."""
        if self.tail is not None and abs(self.end - now - self.tail / 12) > 0.05:
            self._set(now - self.tail, now + self.tail / 12)

    def fit(self, begin: float, end: float) -> None:
        """Show a span while the axis follows."""
        if self.follows and (begin, end) != (self.begin, self.end):
            self._set(begin, end)

    def look_at(self, begin: float, end: float) -> None:
        """Show a span that a person chose, and stop following."""
        self.follows = False
        self.tail = None
        self._set(begin, end)

    def follow(self) -> None:
        """Follow the plan again."""
        self.follows = True
        self.tail = None
        self.changed.emit()

    def zoom(self, factor: float, around: float) -> None:
        """Zoom about a time; factor above 1 shows less."""
        span = max(_SHORTEST_S, (self.end - self.begin) / factor)
        share = (around - self.begin) / (self.end - self.begin)
        self.look_at(around - share * span, around + (1 - share) * span)

    def _set(self, begin: float, end: float) -> None:
        self.begin, self.end = begin, max(end, begin + _SHORTEST_S)
        self.changed.emit()

    def x(self, time: float, width: float) -> float:
        """Return the pixel of a time in a widget of a width, margins left out."""
        inner = width - self._left - self._right
        return self._left + (time - self.begin) / (self.end - self.begin) * inner

    def time(self, x: float, width: float) -> float:
        """Return the time under a pixel."""
        inner = max(1.0, width - self._left - self._right)
        return self.begin + (x - self._left) / inner * (self.end - self.begin)

    def ticks(self, width: float) -> list[float]:
        """Return round times to write on the axis of a widget of a width, far enough apart to be read."""
        most = max(2.0, (width - self._left - self._right) / _LABEL_PIXELS)
        span = self.end - self.begin
        whole = _STEPS[-1] * math.ceil(span / _STEPS[-1] / most)
        step = next((each for each in _STEPS if span / each <= most), whole)
        first = -(-self.begin // step) * step
        count = int((self.end - first) // step) + 1
        return [first + number * step for number in range(max(0, count))]
