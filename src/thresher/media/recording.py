"""What a recording shows: level, frequency and distortion of tones in it, its noise, clipping, or somebody's voice."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from thresher.media.tones import LOOP_TONES, RATE, LoopTone, Samples

_FLOOR_DB = -120.0
_WINDOW_S = 0.4
_STEP_S = 0.05
_NEAR = 0.03
"""How far from its frequency a tone is looked for, as a share of it."""
_LOBE_BINS = 4
"""Half the width of the main lobe of the window below, in bins (Harris 1978, 4-term Blackman-Harris)."""
_HARRIS = (0.35875, -0.48829, 0.14128, -0.01168)
_AUDIBLE_HZ = (20.0, 20000.0)
_CLIPPED = 0.999
_WITHIN = 0.98
_EDGE = 3
"""Windows at each end of a tone that may hold something of what comes before or after it."""


@dataclass(frozen=True, slots=True)
class HeardTone:
    """One tone in a recording: its level in dBFS, its frequency in Hz, and its distortion with noise in percent.

    `distortion_percent` is that of the cleanest 0.4 s of it: what an amplifier distorts is in all of them.
    `worst_percent` is that of the dirtiest: a stream that tears, or a plug that is loose, spoils some of them.
    """

    name: str
    level_db: float
    hz: float
    distortion_percent: float
    worst_percent: float


@dataclass(frozen=True, slots=True)
class HeardLoop:
    """What came back of a loop: the tones in their order, the noise before them in dBFS, and the share that clipped."""

    tones: tuple[HeardTone, ...]
    noise_db: float
    clipped: float


@dataclass(frozen=True, slots=True)
class HeardVoice:
    """A recording of a room: its loudest and its quietest fifth of a second in dBFS, and the share that clipped."""

    loud_db: float
    quiet_db: float
    clipped: float


def decibels(amplitude: float) -> float:
    """Return an amplitude, 1 at full scale, in dBFS."""
    return max(_FLOOR_DB, 20.0 * math.log10(amplitude)) if amplitude > 0 else _FLOOR_DB


def level(samples: Samples) -> float:
    """Return the level of a stretch in dBFS, by its RMS; a sine of full scale is -3."""
    return decibels(float(np.sqrt(np.mean(_mono(samples) ** 2)))) if len(samples) else _FLOOR_DB


def _sides(samples: Samples) -> NDArray[np.float64]:
    """Return the samples around zero: some inputs stand a little off it."""
    sides = samples.astype(np.float64)
    return np.asarray(sides - sides.mean(axis=0))


def _mono(samples: Samples) -> NDArray[np.float64]:
    """Return the louder of the two sides: many inputs have one only."""
    sides = _sides(samples)
    return np.asarray(sides[:, int(np.argmax((sides**2).mean(axis=0)))])


def measure_loop(recording: Samples, rate: int = RATE) -> HeardLoop:
    """Return what came back of `loop_sequence` in a recording of it, shape (frames, 2), begun before or with it."""
    if len(recording) < _WINDOW_S * rate:
        return HeardLoop(
            tuple(HeardTone(each.name, _FLOOR_DB, 0.0, 100.0, 100.0) for each in LOOP_TONES), _FLOOR_DB, 0.0
        )
    both = [_spectra(side, rate) for side in _sides(recording).T]
    frequencies = both[0][1]
    tones = tuple(_tone(each, [powers for powers, _ in both], frequencies) for each in LOOP_TONES)
    # before the first tone, on the side that hums more
    quiet = max(min(_band_level(spectrum, frequencies) for spectrum in powers) for powers, _ in both)
    return HeardLoop(tones, quiet, _clipped(recording))


def measure_voice(recording: Samples, rate: int = RATE) -> HeardVoice:
    """Return how loud and how quiet a recording gets, shape (frames, 2)."""
    frames = rate // 5
    wave = _mono(recording) if len(recording) else np.zeros(0)
    pieces = wave[: len(wave) // frames * frames].reshape(-1, frames)
    if not len(pieces):
        return HeardVoice(_FLOOR_DB, _FLOOR_DB, 0.0)
    levels = sorted(decibels(float(np.sqrt(np.mean(piece**2)))) for piece in pieces)
    return HeardVoice(levels[-1], levels[0], _clipped(recording))


def _clipped(recording: Samples) -> float:
    return float(np.mean(np.abs(recording) >= _CLIPPED)) if len(recording) else 0.0


def _spectra(wave: NDArray[np.float64], rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the powers by window and bin, scaled so that a sine of full scale sums to 1/2 over its lobe."""
    frames, step = int(_WINDOW_S * rate), int(_STEP_S * rate)
    turns = 2 * np.pi * np.arange(frames) / frames
    window = np.sum([share * np.cos(number * turns) for number, share in enumerate(_HARRIS)], axis=0)
    starts = range(0, len(wave) - frames + 1, step)
    windows = np.stack([wave[at : at + frames] * window for at in starts])
    powers = 2.0 * np.abs(np.fft.rfft(windows)) ** 2 / (frames * float(np.sum(window**2)))
    return powers, np.fft.rfftfreq(frames, 1.0 / rate).astype(np.float64)


def _band_level(spectrum: NDArray[np.float64], frequencies: NDArray[np.float64]) -> float:
    audible = (frequencies >= _AUDIBLE_HZ[0]) & (frequencies <= _AUDIBLE_HZ[1])
    return decibels(math.sqrt(float(spectrum[audible].sum())))


def _tone(wanted: LoopTone, sides: list[NDArray[np.float64]], frequencies: NDArray[np.float64]) -> HeardTone:
    """Return a tone as it is in the cleanest of the windows that lie within it, on the side that has more of it."""
    near = np.flatnonzero(np.abs(frequencies - wanted.hz) <= max(_NEAR * wanted.hz, 3 * frequencies[1]))
    spectra = max(sides, key=lambda side: float(side[:, near].sum(axis=1).max()))
    powers = spectra[:, near].sum(axis=1)
    # from the first to the last window that is full of it, whatever a tear took out of those between
    full = np.flatnonzero(powers >= _WITHIN * powers.max())
    first, last = int(full[0]) + _EDGE, int(full[-1]) - _EDGE
    inside = (
        range(first, last + 1) if first <= last else range(int(full[len(full) // 2]), int(full[len(full) // 2]) + 1)
    )
    heard = [_heard(wanted, spectra[at], near, frequencies) for at in inside]
    cleanest = min(heard, key=lambda each: each.distortion_percent)
    return replace(cleanest, worst_percent=max(each.distortion_percent for each in heard))


def _heard(
    wanted: LoopTone, spectrum: NDArray[np.float64], near: NDArray[np.intp], frequencies: NDArray[np.float64]
) -> HeardTone:
    """Return a tone as it is in one window."""
    peak = int(near[int(np.argmax(spectrum[near]))])
    lobe = slice(max(0, peak - _LOBE_BINS), peak + _LOBE_BINS + 1)
    power = float(spectrum[lobe].sum())
    audible = (frequencies >= _AUDIBLE_HZ[0]) & (frequencies <= _AUDIBLE_HZ[1])
    rest = max(0.0, float(spectrum[audible].sum()) - power)
    share = 100.0 * math.sqrt(rest / power) if power > 0 else 100.0
    level_db = decibels(math.sqrt(2.0 * power))
    return HeardTone(wanted.name, level_db, _centre(spectrum, frequencies, peak), share, share)


def _centre(spectrum: NDArray[np.float64], frequencies: NDArray[np.float64], peak: int) -> float:
    """Return the frequency of a peak, between the bins by a parabola through the logarithms."""
    if not 0 < peak < len(spectrum) - 1 or not spectrum[peak - 1 : peak + 2].all():
        return float(frequencies[peak])
    left, middle, right = np.log(spectrum[peak - 1 : peak + 2])
    bend = left - 2 * middle + right
    return float(frequencies[peak] + (0.5 * (left - right) / bend if bend else 0.0) * frequencies[1])
