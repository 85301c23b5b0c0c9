"""Tones that the sound checks play: one side, a sweep, and the sequence for a loop from an output to an input.

Samples are float32 of -1 to 1, shape (frames, 2): left and right.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Samples = NDArray[np.float32]

RATE = 48000
"""Frames per second; every sound device made for PCs takes it (High Definition Audio 1.0a, 7.3.4.7)."""
LEVEL = 0.25
"""Of full scale, -12 dBFS: loud enough to judge, and nothing clips behind it at usual settings."""
_FADE_S = 0.02


@dataclass(frozen=True, slots=True)
class LoopTone:
    """One tone of the loop: its name in the results, its frequency in Hz, and whether left and right carry it."""

    name: str
    hz: float
    left: bool = True
    right: bool = True


LOOP_TONES = (
    LoopTone("left", 440.0, right=False),
    LoopTone("right", 660.0, left=False),
    LoopTone("low", 150.0),
    LoopTone("high", 6000.0),
)
"""Each has a frequency of its own, so a recording shows which is which without being aligned."""
TONE_S = 1.0
LEAD_S = 0.6
"""Silence before the first tone: what the recording holds then is its noise."""


def _faded(wave: NDArray[np.float64], rate: int) -> NDArray[np.float64]:
    frames = min(int(_FADE_S * rate), len(wave) // 2)
    ramp = np.sin(np.linspace(0.0, np.pi / 2, frames)) ** 2
    wave[:frames] *= ramp
    wave[len(wave) - frames :] *= ramp[::-1]
    return wave


def _stereo(wave: NDArray[np.float64], left: bool, right: bool) -> Samples:
    return np.stack([wave * left, wave * right], axis=1).astype(np.float32)


def tone(hz: float, seconds: float, left: bool = True, right: bool = True, rate: int = RATE) -> Samples:
    """Return a sine at `LEVEL` with soft ends, on one side or both."""
    time = np.arange(round(seconds * rate)) / rate
    return _stereo(_faded(LEVEL * np.sin(2 * np.pi * hz * time), rate), left, right)


def sweep(low: float = 60.0, high: float = 12000.0, seconds: float = 6.0, rate: int = RATE) -> Samples:
    """Return a sine on both sides that rises by the same share each second (an exponential sweep)."""
    time = np.arange(round(seconds * rate)) / rate
    steep = np.log(high / low) / seconds
    phase = 2 * np.pi * low * (np.exp(steep * time) - 1.0) / steep
    return _stereo(_faded(LEVEL * np.sin(phase), rate), left=True, right=True)


def silence(seconds: float, rate: int = RATE) -> Samples:
    """Return so many seconds of nothing."""
    return np.zeros((round(seconds * rate), 2), np.float32)


def loop_sequence(rate: int = RATE) -> Samples:
    """Return silence, then each of `LOOP_TONES`, then a little silence for what comes late."""
    tones = [tone(each.hz, TONE_S, each.left, each.right, rate) for each in LOOP_TONES]
    return np.concatenate([silence(LEAD_S, rate), *tones, silence(LEAD_S, rate)])
