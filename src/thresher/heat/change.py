"""Was it a real change? Two groups of runs, compared at equal power and in the same room."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt
from scipy.special import stdtrit

from thresher.heat.analysis import PLATEAU_K, POWER_SENSOR, SpanHeat
from thresher.heat.load_span import RoomFrom
from thresher.heat.warming import Band

Floats = npt.NDArray[np.float64]

_SURE = 0.975
"""A change is real when its 95 % interval excludes zero, so that one comparison in twenty of equal machines at
most is called a change."""
_SHOWN = 0.95
"""What is shown is the band of 90 %."""
SCATTER_K, _SCATTER_WEIGHT = 0.25, 5.0
"""How far repeated runs of an untouched machine differ beyond their own bands, as a standard deviation in K, and how
many degrees of freedom this experience is worth against what the runs themselves show."""
_SAME_THERMOMETER_K = 0.1
"""How far a sensor that measures the room is off from one run to the next; what it is off by always cancels out."""
_LENGTHS = 1.1
"""How much longer one of several runs may be than another to count as alike."""
_SHOW_K = 1.0
_CHANCE = 0.8
_MOST_MORE = 12


@dataclass(frozen=True, slots=True)
class Group:
    """Runs of one state of a machine: the state's name, what each run shows, and which machine it is."""

    name: str
    runs: tuple[SpanHeat, ...]
    machine: str = ""


class Measure(StrEnum):
    """What two groups are compared by."""

    RESISTANCE = "resistance"
    ABOVE_ROOM = "temperature above the room"


@dataclass(frozen=True, slots=True)
class Change:
    """The second group less the first.

    `kelvin` is the difference of the plateaus at `power_w` and equal room, negative when it runs cooler now; `share`
    the difference of the resistances as a share of the first. `real` says whether it is beyond noise and scatter.
    `scatter_k` is how far single runs scatter, `more_runs` how many further runs of each group would show 1 K in four
    cases of five, None when more than a dozen.
    """

    measure: Measure
    kelvin: Band
    share: float
    real: bool
    power_w: float | None
    before: float
    after: float
    scatter_k: float
    more_runs: int | None
    run_minutes: float

    @property
    def sentence(self) -> str:
        """Say what it means."""
        if self.real:
            way = "cooler" if self.kelvin.value < 0 else "hotter"
            low, high = sorted((abs(self.kelvin.low), abs(self.kelvin.high)))
            return f"{abs(self.kelvin.value):.1f} K {way} ({low:.1f} to {high:.1f}): a real change"
        if self.more_runs is None:
            return f"no difference beyond noise; runs scatter by {self.scatter_k:.1f} K, too much to show 1 K"
        if self.more_runs == 0:
            return "no difference beyond noise; 1 K would have shown"
        runs = "one more run" if self.more_runs == 1 else f"{self.more_runs} more runs"
        return f"no difference beyond noise; {runs} of {self.run_minutes:.0f} min on each side would show 1 K"


def changed(before: Group, after: Group) -> Change:
    """Compare two groups with at least one run each."""
    runs = (*before.runs, *after.runs)
    power = [each.power_w for each in runs if each.power_w is not None and each.resistance_draws is not None]
    by_resistance = len(power) == len(runs)
    common_w = float(np.median(power)) if by_resistance else None
    alike = _alike(runs)
    first, second = (_kelvin(group.runs, common_w, alike) for group in (before, after))
    same = before.machine == after.machine
    own = np.array([_own_error(each, common_w, alike, same) for each in runs])
    spread = float(((first - first.mean()) ** 2).sum() + ((second - second.mean()) ** 2).sum())
    freedom = _SCATTER_WEIGHT + len(runs) - 2
    expected = SCATTER_K**2 + float(np.mean(own**2))
    variance = (_SCATTER_WEIGHT * expected + spread) / freedom
    shared = 1.0 / len(first) + 1.0 / len(second)
    error = float(np.sqrt(variance * shared))
    difference = float(second.mean() - first.mean())
    reach = float(stdtrit(freedom, _SHOWN)) * error
    return Change(
        measure=Measure.RESISTANCE if by_resistance else Measure.ABOVE_ROOM,
        kelvin=Band(difference, difference - reach, difference + reach),
        share=difference / float(first.mean()) if first.mean() > 0 else 0.0,
        real=abs(difference) > float(stdtrit(freedom, _SURE)) * error,
        power_w=common_w,
        before=float(first.mean()),
        after=float(second.mean()),
        scatter_k=float(np.sqrt(variance)),
        more_runs=_more_runs(len(first), len(second), variance),
        run_minutes=_minutes(runs),
    )


def _alike(runs: Sequence[SpanHeat]) -> bool:
    """Whether all runs are near enough to their plateaus, and equally long: what is still to come is then the same."""
    lengths = [each.span.length_s for each in runs]
    settled = all(abs(each.left.value) < 2.0 * PLATEAU_K and each.steady_s < 0.5 * each.span.length_s for each in runs)
    return settled and max(lengths) <= _LENGTHS * min(lengths)


def _kelvin(runs: Sequence[SpanHeat], power_w: float | None, alike: bool) -> Floats:
    """Return what each run is above its room, at a power where that is given.

    Of runs that are alike it is the mean of the last readings: how far the plateau may still be off is the same in all
    of them. Of others it is the plateau itself.
    """
    found = []
    for each in runs:
        factor = power_w / each.power_w if power_w is not None and each.power_w else 1.0
        found.append((each.late_above_k if alike else each.above_room.value) * factor)
    return np.array(found)


def _own_error(heat: SpanHeat, power_w: float | None, alike: bool, same_machine: bool) -> float:
    """Return how far one run may be off from another by itself, as a standard deviation in K at the common power."""
    room = heat.span.room
    place = _SAME_THERMOMETER_K if same_machine and room.source is RoomFrom.SENSOR else room.error_k
    readings = heat.late_error_k if alike else float(np.std(heat.warming.ends))
    power = POWER_SENSOR * heat.late_above_k if power_w is not None else 0.0
    factor = power_w / heat.power_w if power_w is not None and heat.power_w else 1.0
    return float(np.hypot(np.hypot(readings, place), power)) * factor


def _more_runs(first: int, second: int, variance: float) -> int | None:
    """Return how many further runs a side would show 1 K with a chance of four in five."""
    for more in range(_MOST_MORE + 1):
        freedom = _SCATTER_WEIGHT + first + second + 2 * more - 2
        error = np.sqrt(variance * (1.0 / (first + more) + 1.0 / (second + more)))
        needed = (stdtrit(freedom, _SURE) + stdtrit(freedom, _CHANCE)) * error
        if needed <= _SHOW_K:
            return more
    return None


def _minutes(runs: tuple[SpanHeat, ...]) -> float:
    """Return how long a run has to be: until the plateau and half as long again, in steps of five minutes."""
    longest = max(each.reached_s for each in runs) / 60.0
    return max(10.0, float(np.ceil(longest * 1.5 / 5.0)) * 5.0)


@dataclass(frozen=True, slots=True)
class Lane:
    """A curve over time with its 90 % band: times (n) in s, values and band (n) in K."""

    times: Floats
    values: Floats
    low: Floats
    high: Floats


def difference_lane(first: SpanHeat, second: SpanHeat, power_w: float | None, points: int = 240) -> Lane:
    """Return the second run's curve less the first's, at equal power and room where these are known.

    Over the time that both have, on a common grid; the band is that of the readings' own noise, smoothed like them.
    """
    end = min(first.span.length_s, second.span.length_s)
    grid = np.linspace(0.0, end, points)
    width = max(end / points, 1.0)
    one, one_error = _above(first, grid, width, power_w)
    two, two_error = _above(second, grid, width, power_w)
    error = 1.645 * np.hypot(one_error, two_error)
    return Lane(grid, two - one, two - one - error, two - one + error)


def _above(heat: SpanHeat, grid: Floats, width: float, power_w: float | None) -> tuple[Floats, Floats]:
    span = heat.span
    kept = np.isfinite(span.hot)
    factor = power_w / heat.power_w if power_w is not None and heat.power_w else 1.0
    room = span.room.values if len(span.room.values) == len(span.times) else np.full(len(span.times), heat.room_c)
    above = (span.hot - room) * factor
    edges = np.searchsorted(span.times[kept], np.append(grid - width / 2.0, grid[-1] + width / 2.0))
    sums = np.concatenate([[0.0], np.cumsum(above[kept])])
    counts = np.maximum(np.diff(edges), 1)
    means = np.where(
        np.diff(edges) > 0,
        (sums[edges[1:]] - sums[edges[:-1]]) / counts,
        np.interp(grid, span.times[kept], above[kept]),
    )
    step = float(np.median(np.diff(span.times[kept]))) if kept.sum() > 1 else 1.0
    correlated = 1.0 + 2.0 * heat.warming.correlation_s / step
    return means, heat.warming.noise * factor * np.sqrt(np.minimum(correlated / counts, 1.0))
