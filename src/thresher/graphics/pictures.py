"""Pictures of wrong frames: what was drawn, with the differences marked, beside what should have been drawn."""

from pathlib import Path

import numpy as np
import numpy.typing as npt
from PIL import Image, ImageDraw

Pixels = npt.NDArray[np.uint8]
_GAP, _PAPER, _MARK = 8, (246, 240, 225), (169, 58, 40)
_LENS, _TIMES = 24, 8
"""Pixels across of what is magnified, and how many times at most."""
_CELL = 32
"""Pixels of the cells in which differences are marked together."""


def keep_difference(path: Path, expected: Pixels, found: Pixels) -> str:
    """Save both frames; return the path, or in words why they could not be saved: a full disk ends no load."""
    try:
        save_difference(path, expected, found)
    except OSError as error:
        return f"could not be saved to {path}: {error.strerror or error}"
    return str(path)


def save_difference(path: Path, expected: Pixels, found: Pixels) -> None:
    """Save both frames (rows from the bottom, as OpenGL has them) side by side; boxes mark where they differ,
    and the first difference is shown magnified."""
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
    _magnify(picture, differ[::-1], width)
    path.parent.mkdir(parents=True, exist_ok=True)
    picture.save(path)


def _magnify(picture: Image.Image, differ: npt.NDArray[np.bool_], width: int) -> None:
    """Show the first difference magnified in a corner of both frames, away from where it is."""
    height = differ.shape[0]
    side = min(_LENS, width, height)
    rows, columns = np.nonzero(differ)
    if not len(rows) or width < 3 * side or height < 3 * side:
        return
    left = int(np.clip(columns[0] - side // 2, 0, width - side))
    top = int(np.clip(rows[0] - side // 2, 0, height - side))
    times = max(2, min(_TIMES, width // 3 // side, height // 3 // side))
    shown = side * times
    x = 8 if left > width // 2 else width - shown - 8
    y = 8 if top > height // 2 else height - shown - 8
    draw = ImageDraw.Draw(picture)
    for origin in (0, width + _GAP):
        piece = picture.crop((origin + left, top, origin + left + side, top + side))
        picture.paste(piece.resize((shown, shown), Image.Resampling.NEAREST), (origin + x, y))
        draw.rectangle((origin + x - 1, y - 1, origin + x + shown, y + shown), outline=_MARK, width=2)
