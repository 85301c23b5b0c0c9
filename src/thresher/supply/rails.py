"""Rails under load, from the readings of one run: against their tolerance, their idle baseline and the power drawn.

What is measured is the board's own view of a rail, at the board's sensor and as often as it is read: it shows sag and
slow droop, not ripple and not dips shorter than a reading. Without a sensor for a rail's current, volts are set against
all the power that sensors report, of which a rail carries only a part: the slope then is that of the whole machine and
a lower bound for the rail's own.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np
import numpy.typing as npt

from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.parts import PartKind

Floats = npt.NDArray[np.float64]
_LEAST_SPAN_W = 25.0
_LEAST_SPAN_A = 2.0
"""Less than this between idle and load says nothing about a load line."""
_LEAST_READINGS = 20
_EDGE_SHARE = 0.4
_DROOP_WITHIN_S = 3.0
_RECOVERED = 0.3
"""A droop is over when the rail is back to within this share of it."""
_LEAST_DROOP_MV, _SCATTERS = 8.0, 4.0
"""What board sensors do not resolve is no droop: about one step of an 8-bit converter on 12 V is 8 mV and more."""
_SURE = 0.95


@dataclass(frozen=True, slots=True)
class LoadLine:
    """How far a rail falls per watt or ampere: mV, with the half width of its 95 % confidence interval.

    `of_rail` says whether it was set against the rail's own current, `share` is the part of the rail's movement that it
    explains (R²)."""

    mv: float
    mv_within: float
    of_rail: bool
    share: float

    @property
    def unit(self) -> str:
        """What one step of load is."""
        return "A" if self.of_rail else "W"


@dataclass(frozen=True, slots=True)
class Droop:
    """What a rail does when load comes on at once: how many edges, the deepest fall below its load line in mV, if any.

    `recovery_s` is how long that lasted, None where the readings are too far apart to say.
    """

    edges: int
    deepest_mv: float
    recovery_s: float | None


@dataclass(frozen=True, slots=True)
class RailReport:
    """One rail in one run, in V: its mean at idle and under load, its lowest and highest, and its tolerance."""

    name: str
    nominal: float
    low_limit: float
    high_limit: float
    idle: float | None
    loaded: float
    lowest: float
    highest: float
    line: LoadLine | None = None
    droop: Droop | None = None

    @property
    def within(self) -> bool:
        """Whether every reading was within the tolerance."""
        return self.low_limit <= self.lowest and self.highest <= self.high_limit

    @property
    def sentence(self) -> str:
        """The rail in words."""
        idle = f"{self.idle:.2f} V idle, " if self.idle is not None else ""
        off = (self.lowest / self.nominal - 1.0) * 100.0
        words = f"{self.name}: {idle}{self.loaded:.2f} V loaded, lowest {self.lowest:.2f} V ({off:+.1f} %)"
        if not self.within:
            words += f", outside {self.low_limit:.2f} to {self.high_limit:.2f} V"
        if self.line is not None:
            words += f", falls {self.line.mv:.2f} mV per {self.line.unit} (±{self.line.mv_within:.2g})"
        if self.droop is not None and self.droop.deepest_mv > 0:
            words += f", droops {self.droop.deepest_mv:.0f} mV below that on an edge"
            words += f" for {self.droop.recovery_s:.1f} s" if self.droop.recovery_s is not None else ""
        elif self.droop is not None:
            words += f", no droop on {self.droop.edges} edges"
        return words


def rail_reports(
    channels: Sequence[Channel], at: Floats, values: Floats, idle: tuple[float, float]
) -> list[RailReport]:
    """Return every rail with a tolerance that a run's readings tell something about.

    `at` (T) are seconds, `values` (T, C) the readings in the order of the channels with NaN for missing ones, `idle`
    the time from and to which the machine stood idle. Nothing where the load never changed the power enough.
    """
    power = total_power(channels, values)
    reports = []
    for index, channel in enumerate(channels):
        low, high = channel.limit(LimitSide.ABOVE), channel.limit(LimitSide.BELOW)
        rail = channel.quantity is Quantity.VOLTAGE and channel.kind is PartKind.POWER
        if not rail or low is None or high is None:
            continue
        report = _report(channel.name, (low.value, high.value), at, values[:, index], power, idle)
        if report is None:
            continue
        current = _own_current(channels, values, channel)
        if current is not None:
            report = replace(report, line=load_line(current, values[:, index], of_rail=True) or report.line)
        reports.append(report)
    return reports


def _report(
    name: str, limits: tuple[float, float], at: Floats, volts: Floats, power: Floats, idle: tuple[float, float]
) -> RailReport | None:
    known = ~np.isnan(volts) & ~np.isnan(power)
    if np.count_nonzero(known) < _LEAST_READINGS or np.ptp(power[known]) < _LEAST_SPAN_W:
        return None
    at, volts, power = at[known], volts[known], power[known]
    resting = (at >= idle[0]) & (at <= idle[1])
    loaded = power >= power.min() + 0.6 * np.ptp(power)
    return RailReport(
        name,
        sum(limits) / 2.0,
        *limits,
        float(volts[resting].mean()) if resting.any() else None,
        float(volts[loaded].mean()),
        float(volts.min()),
        float(volts.max()),
        load_line(power, volts, of_rail=False),
        droop_on_edges(at, volts, power),
    )


def total_power(channels: Sequence[Channel], values: Floats) -> Floats:
    """Return all the power that is reported at each time in W: packages, cards, whatever else measures itself.

    Of several channels of one chip only the largest counts, since a package holds its cores.
    """
    by_chip: dict[str, list[int]] = {}
    for index, channel in enumerate(channels):
        if channel.quantity is Quantity.POWER and not channel.distrust:
            by_chip.setdefault(channel.chip, []).append(index)
    if not by_chip:
        return np.full(len(values), np.nan)
    largest = [values[:, indexes].max(axis=1) for indexes in by_chip.values()]
    reported = [each for each in largest if not np.isnan(each).all()]
    # while one of them is silent the sum is not known
    return np.asarray(np.sum(reported, axis=0), dtype=np.float64) if reported else np.full(len(values), np.nan)


def _own_current(channels: Sequence[Channel], values: Floats, rail: Channel) -> Floats | None:
    """Return the current of a rail where a channel of the same name measures it."""
    for index, channel in enumerate(channels):
        if channel.quantity is Quantity.CURRENT and channel.name == rail.name and not channel.distrust:
            return values[:, index]
    return None


def load_line(load: Floats, volts: Floats, of_rail: bool) -> LoadLine | None:
    """Return how volts fall with load by least squares, None where the load hardly changed or nothing can be said."""
    known = ~np.isnan(load) & ~np.isnan(volts)
    load, volts = load[known], volts[known]
    least = _LEAST_SPAN_A if of_rail else _LEAST_SPAN_W
    if len(load) < _LEAST_READINGS or np.ptp(load) < least or np.ptp(volts) == 0:
        return None
    slope, intercept = _least_squares(load, volts)
    spread, left = float(np.square(load - load.mean()).sum()), float(np.square(volts - intercept - slope * load).sum())
    error = _student_t(0.5 + _SURE / 2.0, len(load) - 2) * math.sqrt(left / (len(load) - 2) / spread)
    explained = 1.0 - left / float(np.square(volts - volts.mean()).sum())
    return LoadLine(-slope * 1000.0, error * 1000.0, of_rail, explained)


def _student_t(share: float, freedom: int) -> float:
    """Return the quantile of Student's t for 18 degrees of freedom or more, within 0.0005.

    Abramowitz and Stegun 26.7.5; the library's own takes half a second to load, on the engine's thread."""
    z = NormalDist().inv_cdf(share)
    return z + (z**3 + z) / (4 * freedom) + (5 * z**5 + 16 * z**3 + 3 * z) / (96 * freedom**2)


def _least_squares(x: Floats, y: Floats) -> tuple[float, float]:
    """Return slope and intercept of the straight line with the least squared distance in y."""
    away = x - x.mean()
    slope = float((away * y).sum() / np.square(away).sum())
    return slope, float(y.mean() - slope * x.mean())


def droop_on_edges(at: Floats, volts: Floats, power: Floats) -> Droop | None:
    """Return what happens where the power jumps up by much of its span between two readings, None without an edge.

    A droop is how far the rail falls below its own load line: what it falls because more is drawn is no droop. A fall
    no deeper than the scatter of the other readings, or than `_LEAST_DROOP_MV`, is none.
    """
    span = np.ptp(power)
    edges = np.flatnonzero(np.diff(power) > _EDGE_SHARE * span) + 1
    if not len(edges):
        return None
    slope, intercept = _least_squares(power, volts)
    below = intercept + slope * power - volts
    near = np.zeros(len(at), dtype=bool)
    ends = np.searchsorted(at, at[edges] + _DROOP_WITHIN_S, side="right")
    for edge, end in zip(edges, ends, strict=True):
        near[edge:end] = True
    scatter = float(below[~near].std()) if np.count_nonzero(~near) > 2 else 0.0
    least = max(_LEAST_DROOP_MV / 1000.0, _SCATTERS * scatter)
    deepest, times = 0.0, []
    for edge, end in zip(edges, ends, strict=True):
        after = below[edge:end]
        depth = float(after.max())
        if depth < least:
            continue
        deepest = max(deepest, depth)
        still = np.flatnonzero(after >= _RECOVERED * depth)
        if len(still) > 1:
            times.append(float(at[edge + still[-1]] - at[edge]))
    return Droop(len(edges), deepest * 1000.0, max(times) if times else None)


def conclusions(reports: Sequence[RailReport], has_currents: bool) -> list[str]:
    """Return what may be concluded, and what may not, in sentences."""
    said = [
        f"{each.name} left its tolerance: measure at the plug with a meter before the PSU is replaced."
        for each in reports
        if not each.within
    ]
    if reports and all(each.within for each in reports):
        said.append("Every rail stayed within its tolerance at the board's sensor.")
    if not has_currents:
        said.append(
            "No sensor reports the rails' currents: volts are set against all the power that is reported, so the slope"
            " is that of the whole machine, and a rail that feeds only a part of it may be steeper."
        )
    said.append("Ripple, and dips shorter than the time between two readings, cannot be seen this way.")
    return said
