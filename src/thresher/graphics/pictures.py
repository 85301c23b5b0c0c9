"""Pictures of wrong frames: what was drawn, with the differences marked, beside what should have been drawn."""

from pathlib import Path

import numpy as np
import numpy.typing as npt
from PIL import Image, ImageDraw

Pixels = npt.NDArray[np.uint8]
_GAP, _PAPER, _MARK = 8, (246, 240, 225), (169, 58, 40)
_CELL = 32
"""Pixels of the cells in which differences are marked together."""


def save_difference(path: Path, expected: Pixels, found: Pixels) -> None:
    """Save both frames (rows from the bottom, as OpenGL has them) side by side; boxes mark where they differ."""
    differ = (expected != found).any(axis=2)
    height, width = differ.shape
    picture = Image.new("RGB", (2 * width + _GAP, height), _PAPER)
    for frame, left in ((found, 0), (expected, width + _GAP)):
        picture.paste(Image.fromarray(np.ascontiguousarray(frame[::-1, :, :3])), (left, 0))
    draw = ImageDraw.Draw(picture)
    for top in range(0, height, _CELL):
        for left in range(0, width, _CELL):
            cell = differ[::-1][top : top + _CELL, left : left + _CELL]
            if cell.any():
                rows, columns = np.nonzero(cell)
                box = (left + columns.min() - 4, top + rows.min() - 4, left + columns.max() + 4, top + rows.max() + 4)
                draw.rectangle(box, outline=_MARK, width=2)
    path.parent.mkdir(parents=True, exist_ok=True)
    picture.save(path)
