"""What the frames of a camera show as numbers, and the lines of the process that reads them."""

from dataclasses import dataclass, field

import msgspec
import numpy as np
from numpy.typing import NDArray

from thresher.model.questions import BRIGHTNESS, CHANGED, DEVICES, FRAMES, NO_DEVICE, SPREAD, Answer

WORKER = "thresher.ui.camera_worker"
"""The program that reads a camera: a driver that hangs takes nothing with it."""


class Frame(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line: the camera and how many there are, a small picture as JPEG in base 64, or why there is none.

    `frames` have come so far, `changed` of them were unlike the one before; `brightness` and `spread` are the mean and
    the standard deviation of this one, 0 to 255.
    """

    device: str = ""
    devices: int = 0
    picture: str = ""
    frames: int = 0
    changed: int = 0
    brightness: float = 0.0
    spread: float = 0.0
    reason: str = ""


@dataclass(slots=True)
class FrameCount:
    """Counts frames and those that changed: a sensor's noise makes no two alike, so equal frames mean a frozen one."""

    frames: int = 0
    changed: int = 0
    _last: NDArray[np.uint8] | None = field(default=None, repr=False)

    def take(self, grey: NDArray[np.uint8]) -> tuple[float, float]:
        """Count a frame, grey values by row and column; return its mean and its spread."""
        self.frames += 1
        if self._last is not None and (grey.shape != self._last.shape or not np.array_equal(grey, self._last)):
            self.changed += 1
        self._last = grey
        return float(grey.mean()), float(grey.std())


def parse_frame(line: bytes) -> Frame | None:
    """Return the frame of a line, None where it is none: libraries write there too."""
    try:
        return msgspec.json.decode(line, type=Frame)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return None


def camera_answer(word: str, last: Frame) -> Answer:
    """Return an answer with what the newest frame shows; a reason means that there is no camera."""
    if last.reason:
        return Answer(NO_DEVICE, (), last.reason)
    measured = (
        (DEVICES, float(last.devices)),
        (FRAMES, float(last.frames)),
        (CHANGED, float(last.changed)),
        (BRIGHTNESS, last.brightness),
        (SPREAD, last.spread),
    )
    return Answer(word, measured, last.device)
