"""Where a rising temperature will level, and when: an exponential laid through the last minutes.

A part that is heated evenly nears its end temperature exponentially, T(t) = T_end - (T_end - T_0) exp(-t/τ). Of three
means at equal distances the quotient of their differences is exp(-d/τ), from which the rest follows (Aitken's
delta-squared process). Nothing is reported when the rise is not clearly above the noise, or does not slow down.
"""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]

_LONGEST_S, _SHORTEST_S = 240.0, 45.0
_LEAST_RISE_K = 2.0
_NOISE_TIMES = 4.0
_SLOWS_BELOW = 0.93
_LEVEL_WITHIN_K = 1.0
_FARTHEST_K = 60.0


@dataclass(frozen=True, slots=True)
class Continuation:
    """Where a temperature will level in °C, its time constant and the time until it is within 1 K, both in s."""

    level_c: float
    tau_s: float
    seconds: float

    def until(self, now_c: float, wanted_c: float) -> float:
        """Return the seconds from now until a temperature between now and the level is reached."""
        return self.tau_s * float(np.log((self.level_c - now_c) / (self.level_c - wanted_c)))

    def at(self, now_c: float, after_s: float) -> float:
        """Return the temperature expected some seconds from now."""
        return self.level_c - (self.level_c - now_c) * float(np.exp(-after_s / self.tau_s))


def continue_rise(times: Floats, values: Floats) -> Continuation | None:
    """Return where a rise leads, from readings that end now; None when that cannot be said."""
    known = ~np.isnan(values)
    times, values = times[known], values[known]
    if len(times) < 12:
        return None
    span = min(_LONGEST_S, float(times[-1] - times[0]))
    if span < _SHORTEST_S:
        return None
    inside = times >= times[-1] - span
    times, values = times[inside], values[inside]
    thirds = np.array_split(np.arange(len(times)), 3)
    if min(len(each) for each in thirds) < 4:
        return None
    first, second, third = (float(values[each].mean()) for each in thirds)
    noise = float(np.median([np.std(values[each] - _line(times[each], values[each])) for each in thirds]))
    one, two = second - first, third - second
    if one + two < max(_LEAST_RISE_K, _NOISE_TIMES * noise) or one <= 0 or two <= 0:
        return None
    quotient = two / one
    if quotient >= _SLOWS_BELOW:
        return None
    distance = float(times[thirds[2]].mean() - times[thirds[1]].mean())
    tau = -distance / float(np.log(quotient))
    middle_to_now = float(times[-1] - times[thirds[2]].mean())
    level = third + two * quotient / (1 - quotient)
    now = level - (level - third) * float(np.exp(-middle_to_now / tau))
    if level - now < _LEVEL_WITHIN_K or level - now > _FARTHEST_K:
        return None
    return Continuation(level, tau, tau * float(np.log((level - now) / _LEVEL_WITHIN_K)))


def _line(times: Floats, values: Floats) -> Floats:
    slope, start = np.polyfit(times - times[0], values, 1)
    return np.asarray(start + slope * (times - times[0]))
