"""What lowered the clock: when, by how much, why, and how much work that cost."""

from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from thresher.heat.load_span import LoadSpan

Floats = npt.NDArray[np.float64]

_NEAR_LIMIT_K = 2.0
_NEAR_POWER = 0.97
_LOST = 0.02
"""A clock within this share of the highest one held counts as not lowered."""


class Cause(StrEnum):
    """Why a clock was lowered."""

    HEAT = "heat"
    POWER = "power limit"
    CURRENT = "current limit"


@dataclass(frozen=True, slots=True)
class Throttling:
    """A lowered clock: since when (s after the load came on), for how long in s, the share of clock lost, and why.

    `work_lost` is the share of the whole span's work that it cost, by what the load did where that was counted, else by
    the clock. Both are None where no clock is reported.
    """

    begins_s: float
    seconds: float
    clock_lost: float | None
    cause: Cause
    work_lost: float | None

    @property
    def sentence(self) -> str:
        """Say what happened, since when, and what it cost as far as that is known."""
        words = f"Throttled by {self.cause.value} for {self.seconds / 60:.1f} min, from {self.begins_s / 60:.1f} min on"
        if self.clock_lost is None or self.work_lost is None:
            return words
        return f"{words}: clock {self.clock_lost * 100:.0f} % lower, {self.work_lost * 100:.1f} % of the work lost"


def find_throttling(span: LoadSpan) -> tuple[Throttling, ...]:
    """Return what lowered the clock during a span, one entry a cause, longest first."""
    if span.clock is None or len(span.times) < 3:
        return _by_counter(span)
    steps = np.append(np.diff(span.times), 0.0)
    clock = span.clock
    best = float(np.nanquantile(clock, 0.98)) if np.isfinite(clock).any() else 0.0
    if best <= 0.0:
        return ()
    lost = np.clip(1.0 - np.nan_to_num(clock, nan=best) / best, 0.0, 1.0)
    hot = _heat(span)
    power = (
        (span.power is not None and span.power_limit_w is not None)
        and np.nan_to_num(span.power) >= _NEAR_POWER * (span.power_limit_w or np.inf)
    ) | _flag(span, "power")
    current = _flag(span, "current")
    causes = np.where(hot, 0, np.where(current, 2, np.where(power, 1, 3)))
    found = []
    for number, cause in enumerate((Cause.HEAT, Cause.POWER, Cause.CURRENT)):
        mine = (causes == number) & (lost > _LOST)
        if cause is Cause.HEAT:
            mine = (causes == 0) & ((lost > _LOST) | _counted(span))
        if mine.any():
            found.append(_entry(span, steps, lost, mine, cause))
    return tuple(sorted(found, key=lambda each: -each.seconds))


def _entry(span: LoadSpan, steps: Floats, lost: Floats, mine: npt.NDArray[np.bool_], cause: Cause) -> Throttling:
    seconds = float(steps[mine].sum())
    whole = max(float(steps.sum()), 1e-9)
    clock_lost = float(np.average(lost[mine], weights=np.maximum(steps[mine], 1e-9)))
    work_lost = clock_lost * seconds / whole
    if span.work is not None and np.isfinite(span.work).any():
        best = float(np.nanquantile(span.work, 0.98))
        done = np.nan_to_num(span.work, nan=best)
        work_lost = float((np.clip(1.0 - done / max(best, 1e-9), 0.0, 1.0) * steps)[mine].sum()) / whole
    return Throttling(float(span.times[np.argmax(mine)]), seconds, clock_lost, cause, work_lost)


def _heat(span: LoadSpan) -> npt.NDArray[np.bool_]:
    at_limit = np.zeros(len(span.times), dtype=bool)
    if span.limit_c is not None:
        at_limit = np.nan_to_num(span.hot) >= span.limit_c - _NEAR_LIMIT_K
    return at_limit | _counted(span) | _flag(span, "heat")


def _counted(span: LoadSpan) -> npt.NDArray[np.bool_]:
    """Return at which readings the machine's own counter of throttled time moved."""
    if span.throttled_s is None:
        return np.zeros(len(span.times), dtype=bool)
    moved = np.diff(np.nan_to_num(span.throttled_s), prepend=np.nan_to_num(span.throttled_s)[:1]) > 0
    out: npt.NDArray[np.bool_] = moved
    return out


def _flag(span: LoadSpan, word: str) -> npt.NDArray[np.bool_]:
    out = np.zeros(len(span.times), dtype=bool)
    for name, values in span.held_by:
        if word in name:
            out |= values > 0.5
    return out


def _by_counter(span: LoadSpan) -> tuple[Throttling, ...]:
    """Without a clock only the machine's own counter speaks."""
    if span.throttled_s is None or not np.isfinite(span.throttled_s).any():
        return ()
    seconds = float(np.nanmax(span.throttled_s) - np.nanmin(span.throttled_s))
    begins = float(span.times[int(np.argmax(_counted(span)))])
    return (Throttling(begins, seconds, None, Cause.HEAT, None),) if seconds > 0 else ()
