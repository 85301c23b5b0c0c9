"""What a simulated card draws: a field of ripe stalks under an evening sky, twelve frames of wind that repeat."""

from functools import lru_cache

import numpy as np
import numpy.typing as npt

FRAMES = 12
Pixels = npt.NDArray[np.uint8]

_STALKS, _POINTS = 1500, 64
_HORIZON = 0.58


@lru_cache(maxsize=FRAMES)
def picture(number: int, width: int, height: int) -> Pixels:
    """Return frame `number` of the round, rows from the bottom, four bytes a pixel; not to be changed."""
    rng = np.random.default_rng(41)
    canvas = _ground_and_sky(width, height)
    phase = 2 * np.pi * (number % FRAMES) / FRAMES
    far = np.sort(rng.uniform(0.0, 1.0, _STALKS))[::-1, None]  # the far ones first
    root_x = rng.uniform(-0.1, 1.1, (_STALKS, 1))
    lean = rng.uniform(0.0, 6.28, (_STALKS, 1)) + 5.0 * root_x
    tall = (0.13 + 0.34 * (1 - far) ** 1.5) * rng.uniform(0.8, 1.15, (_STALKS, 1))
    along = np.linspace(0.0, 1.0, _POINTS)[None, :]
    gust = np.sin(phase + lean) + 0.4 * np.sin(2 * phase + 3 * root_x)
    x = root_x + 0.03 * (1.2 - far) * gust * along**2
    y = _HORIZON * far**0.7 * 0.93 - 0.06 + tall * along * (1 - 0.06 * gust**2 * along)
    ripe = np.clip((along - 0.72) / 0.1, 0.0, 1.0)[..., None]
    stem, ear = np.array([0.55, 0.49, 0.19]), np.array([0.93, 0.73, 0.33])
    light = (0.5 + 0.5 * along)[..., None] * (0.72 + 0.28 * (1 - far))[..., None]
    light = light * rng.uniform(0.8, 1.1, (_STALKS, 1, 1))
    colour = np.clip((stem + (ear - stem) * ripe) * light * 255, 0, 255).astype(np.uint8)
    for wide in (0, 1):
        columns = (x * width).astype(int) + wide
        rows = (y * height).astype(int)
        inside = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
        if wide:
            inside &= (far < 0.45) & (along < 0.98)
        canvas[rows[inside], columns[inside], :3] = colour[inside]
    canvas.setflags(write=False)
    return canvas


def _ground_and_sky(width: int, height: int) -> Pixels:
    up = (np.arange(height) / height)[:, None, None]
    sky = np.array([0.95, 0.86, 0.70]) + (np.array([0.16, 0.36, 0.40]) - np.array([0.95, 0.86, 0.70])) * np.clip(
        (up - 0.55) / 0.42, 0.0, 1.0
    )
    soil = np.array([0.26, 0.20, 0.11]) + (np.array([0.70, 0.58, 0.33]) - np.array([0.26, 0.20, 0.11])) * np.clip(
        up / _HORIZON, 0.0, 1.0
    )
    field = np.where(up < _HORIZON, soil, sky)
    canvas = np.full((height, width, 4), 255, dtype=np.uint8)
    canvas[:, :, :3] = np.clip(np.broadcast_to(field, (height, width, 3)) * 255, 0, 255).astype(np.uint8)
    return canvas
