"""Waiting for a real condition: whether a temperature has settled against its own noise, and how long it will take."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

Reading = tuple[float, float]
"""A time in s and a temperature in °C."""

_SURE = 1.645
_PER_S = 20.0
"""A temperature has settled when it moves by less than the gate's kelvin in this time, nine times out of ten."""
_LEAST = 8
_CLEAR = 3.0
"""A rate that is less than this many times its error says nothing about what is to come."""


@dataclass(frozen=True, slots=True)
class Trend:
    """The straight line through the newest readings: its rate in K/s with its standard error, and where it ends in °C.

    The error counts readings that follow each other closely as fewer than they are.
    """

    rate: float
    error: float
    now_c: float


def trend(readings: Sequence[Reading]) -> Trend | None:
    """Return the trend of readings, None with fewer than eight."""
    if len(readings) < _LEAST:
        return None
    times, values = np.array(readings, dtype=np.float64).T
    centred = times - times.mean()
    square = float((centred**2).sum())
    if square <= 0.0:
        return None
    rate = float((centred * values).sum()) / square
    rest = values - values.mean() - rate * centred
    spread = float((rest**2).sum()) / max(len(rest) - 2, 1)
    together = float((rest[1:] * rest[:-1]).sum()) / max(float((rest**2).sum()), 1e-12)
    together = min(max(together, 0.0), 0.9)
    error = float(np.sqrt(spread / square * (1.0 + together) / (1.0 - together)))
    return Trend(rate, error, float(values.mean() + rate * centred[-1]))


def has_settled(readings: Iterable[Reading], within_k: float) -> bool:
    """Whether the newest readings move by less than `within_k` in 20 s, their noise allowed for."""
    found = trend(tuple(readings))
    return found is not None and (abs(found.rate) + _SURE * found.error) * _PER_S <= within_k


def time_to_settle(readings: Iterable[Reading], within_k: float) -> float | None:
    """Return in how many seconds the temperature will have settled, from how its rate falls; None when unknown."""
    found = _slowing(tuple(readings))
    if found is None:
        return None
    wanted = within_k / _PER_S
    if abs(found.rate) <= wanted:
        return 0.0
    return found.tau_s * float(np.log(abs(found.rate) / wanted)) if np.isfinite(found.tau_s) else None


def time_to_reach(readings: Iterable[Reading], target_c: float) -> float | None:
    """Return in how many seconds a falling temperature will be down at `target_c`; None when it will not get there."""
    found = _slowing(tuple(readings))
    if found is None:
        return None
    left = found.now_c - target_c
    if left <= 0.0:
        return 0.0
    if found.rate >= 0.0:
        return None
    if not np.isfinite(found.tau_s):  # it does not slow down yet: a straight line
        return left / -found.rate
    still_falls = -found.rate * found.tau_s
    return float(-found.tau_s * np.log(1.0 - left / still_falls)) if left < still_falls else None


@dataclass(frozen=True, slots=True)
class _Slowing:
    """The rate at the last reading in K/s, the time constant with which it falls in s, the temperature there in °C."""

    rate: float
    tau_s: float
    now_c: float


def _slowing(readings: Sequence[Reading]) -> _Slowing | None:
    """Compare the rates of the first and the second half; the time constant is without end where it does not slow."""
    half = len(readings) // 2
    first, second = trend(readings[:half]), trend(readings[half:])
    if first is None or second is None or abs(second.rate) < _CLEAR * second.error:
        return None
    middle, last = (readings[half][0] + readings[-1][0]) / 2.0, readings[-1][0]
    apart = middle - (readings[0][0] + readings[half - 1][0]) / 2.0
    if first.rate * second.rate <= 0.0 or abs(second.rate) >= abs(first.rate):
        return _Slowing(second.rate, float("inf"), second.now_c)
    tau = apart / float(np.log(first.rate / second.rate))
    return _Slowing(second.rate * float(np.exp((middle - last) / tau)), tau, second.now_c)
