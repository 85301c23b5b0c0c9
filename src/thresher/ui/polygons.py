"""Polygons from arrays, without an object for every point."""

import numpy as np
import numpy.typing as npt
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPolygonF

Pixels = npt.NDArray[np.float64]


def polygon(x: Pixels, y: Pixels) -> QPolygonF:
    """Return the polygon of points by their coordinates, arrays of one length."""
    found = QPolygonF()
    found.fill(QPointF(), len(x))
    if len(x):
        memory = found.data()
        assert memory is not None
        memory.setsize(len(x) * 16)  # two doubles a point
        points: Pixels = np.frombuffer(memory, dtype=np.float64).reshape(-1, 2)  # type: ignore[call-overload]
        points[:, 0], points[:, 1] = x, y
    return found
