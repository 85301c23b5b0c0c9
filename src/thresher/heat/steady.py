"""Since when nothing that drives a temperature has changed: power, fans, and what no sensor shows."""

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]

_POWER_SHARE, _FAN_SHARE = 0.05, 0.08
"""How far power and fan speed may be from where they end: within that a linear model serves."""
_SMOOTH_S = 15.0
_LEAST_S = 60.0


def smooth(times: Floats, values: Floats, over_s: float = _SMOOTH_S) -> Floats:
    """Return the running median over so many seconds; gaps are left out."""
    if len(values) < 3:
        return values
    step = max(float(np.median(np.diff(times))), 1e-3)
    half = max(1, int(over_s / step / 2.0))
    padded = np.pad(values, half, mode="edge")
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * half + 1)
    out: Floats = np.nanmedian(windows, axis=1) if np.isfinite(windows).any(axis=1).all() else values
    return out


def settled_since(times: Floats, values: Floats, share: float) -> float:
    """Return since when a quantity has stayed within a share of where it ends, in s; its noise is allowed for."""
    calm = smooth(times, values)
    if not np.isfinite(calm).any():
        return 0.0
    end = float(np.nanmedian(calm[-max(3, len(calm) // 10) :]))
    noise = float(np.nanmedian(np.abs(values - calm))) if np.isfinite(values - calm).any() else 0.0
    away = np.abs(calm - end) > max(share * abs(end), 3.0 * noise)
    if not away.any():
        return 0.0
    last = len(away) - 1 - int(np.argmax(away[::-1]))
    return float(times[min(last + 1, len(times) - 1)])


def driven_evenly_since(times: Floats, power: Floats | None, fans: tuple[tuple[str, Floats], ...]) -> float:
    """Return since when power and every fan have been steady, in s; at most until a minute before the end."""
    since = settled_since(times, power, _POWER_SHARE) if power is not None else 0.0
    for _, speed in fans:
        since = max(since, settled_since(times, speed, _FAN_SHARE))
    return max(0.0, min(since, float(times[-1]) - _LEAST_S))
