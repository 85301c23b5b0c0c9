"""How a temperature approaches its plateau: one to four exponentials, averaged over all that fit.

Constant heat into a chain of thermal resistances and capacities gives temperatures of the form

    T(t) = T_end - sum a_i exp(-t / tau_i)

(lumped heat conduction, in any textbook of heat transfer). The time constants are not searched for but taken from a
grid: up to three quick ones and one slow one at a time. For each choice the rest is linear, so that its posterior is
known exactly, and all choices are averaged by how well they explain the readings (Bayesian model averaging). That needs
no starting values and has no local minima, and its band is honest where the readings leave the end open.

Readings of a sensor are correlated, and partly coarse and noisy one by one. The error has both: a white part and one
with a correlation time; both shares are averaged over as well. Readings are gathered into blocks which grow with time,
since slow parts need no fine steps; means and covariances over a block are exact.
"""

from dataclasses import dataclass
from functools import cache
from itertools import combinations

import numpy as np
import numpy.typing as npt
from scipy.linalg import solve_triangular

Floats = npt.NDArray[np.float64]

_QUICK_S: Floats = np.concatenate([[1.5, 3.5, 8.0], np.geomspace(15.0, 300.0, 12)])
_SLOW_S: Floats = np.geomspace(400.0, 3600.0, 5)
TAUS_S: Floats = np.concatenate([_QUICK_S, _SLOW_S])
"""The grid of time constants in s: from a die on its spreader to a case full of warm steel."""
_CORRELATION_S = (4.0, 20.0, 100.0)
_CORRELATED_SHARES = (0.0, 0.3, 0.7, 1.0)
_MODEL_K, _MODEL_SHARE = 0.08, 0.3
"""How far a real machine is from four exponentials in a steady room: a standard deviation in K, and as a share of what
is still to come."""
_GROWTH = 0.025
"""A block is as long as this share of the time since the load came on, at least one reading."""
_FEWEST = 12
_TRIED, _FEWEST_DRAWS = 1200, 100
_APART = 2.7
_TERMS = 4
"""Up to three quick parts and always a slow one: coolant, case and room are there whether they show yet or not."""


@dataclass(frozen=True, slots=True)
class Blocks:
    """Readings gathered into blocks: where each begins and ends (s), mean, and how many readings it has."""

    begins: Floats
    ends: Floats
    means: Floats
    counts: Floats


@dataclass(frozen=True, slots=True)
class Band:
    """An estimate with its 90 % band, all in the same unit."""

    value: float
    low: float
    high: float

    @property
    def error(self) -> float:
        """Half the width of the band."""
        return (self.high - self.low) / 2.0


@dataclass(frozen=True, slots=True)
class Warming:
    """What is known of a warm-up after a fit, as draws from the posterior.

    `ends` (draws) are final temperatures; `amounts` (draws, 4) and `taus` (draws, 4) the exponentials that are still
    to come, with amount 0 for unused ones; `noise` the standard deviation of a reading around the curve, in K;
    `correlation_s` its correlation time; `span_s` is the time from first to last reading; `evidence` the logarithm of
    how well all choices together explain the readings.
    """

    ends: Floats
    amounts: Floats
    taus: Floats
    noise: float
    correlation_s: float
    span_s: float
    evidence: float

    @property
    def end(self) -> Band:
        """The final temperature."""
        return band_of(self.ends)

    def at(self, time_s: float) -> Floats:
        """Return the temperature at a time since the first reading, a value a draw."""
        later: Floats = self.ends - (self.amounts * np.exp(-time_s / self.taus)).sum(axis=1)
        return later

    def left(self, time_s: float | None = None) -> Band:
        """Return what the temperature still rises from a time on, from the last reading if none is given."""
        return band_of(self.ends - self.at(self.span_s if time_s is None else time_s))

    def within(self, kelvin: float) -> Band:
        """Return after which time, since the first reading, the temperature stays within so many K of its end."""
        times = np.concatenate([np.linspace(0.0, self.span_s, 200), self.span_s * np.geomspace(1.02, 40.0, 80)])
        away = np.abs((self.amounts[:, :, None] * np.exp(-times / self.taus[:, :, None])).sum(axis=1)) > kelvin
        last = away.shape[1] - 1 - np.argmax(away[:, ::-1], axis=1)
        last = np.where(away.any(axis=1), np.minimum(last + 1, len(times) - 1), 0)
        return band_of(times[last])

    def time_constants(self, least_k: float = 1.0) -> tuple[tuple[Band, Band], ...]:
        """Return (time constant in s, amount in K) of each distinct part, fastest first.

        Neighbours on the grid that share one part between them count as that part. Draws with the likeliest number of
        parts count; parts that warm up by less than `least_k` are left out.
        """
        merged = [_merged(taus, amounts, least_k) for taus, amounts in zip(self.taus, self.amounts, strict=True)]
        numbers = np.bincount([len(each) for each in merged], minlength=_TERMS + 1)
        likely = int(numbers[1:].argmax()) + 1
        chosen = np.array([each for each in merged if len(each) == likely])
        if not len(chosen):
            return ()
        return tuple((band_of(chosen[:, part, 0]), band_of(chosen[:, part, 1])) for part in range(likely))


def _merged(taus: Floats, amounts: Floats, least_k: float) -> list[tuple[float, float]]:
    """Return the parts of one draw as (time constant, amount); those within a factor of 2.7 count as one."""
    parts: list[tuple[float, float]] = []
    for tau, amount in sorted(zip(taus.tolist(), amounts.tolist(), strict=True)):
        if amount == 0.0:
            continue
        if parts and tau < _APART * parts[-1][0] and parts[-1][1] * amount > 0.0:
            before, share = parts[-1][0], amount / (parts[-1][1] + amount)
            parts[-1] = (before ** (1.0 - share) * tau**share, parts[-1][1] + amount)
        else:
            parts.append((tau, amount))
    return [part for part in parts if part[1] >= least_k]


def band_of(draws: Floats) -> Band:
    """Return the median of draws and the span between their 5th and 95th percentile."""
    low, middle, high = np.quantile(draws, (0.05, 0.5, 0.95))
    return Band(float(middle), float(low), float(high))


def gather(times: Floats, values: Floats) -> Blocks:
    """Gather readings (n) at times (n, s since the load came on) into growing blocks; missing readings are left out."""
    kept = np.isfinite(values)
    times, values = times[kept], values[kept]
    step = float(np.median(np.diff(times))) if len(times) > 1 else 1.0
    starts: list[int] = []
    at = 0
    while at < len(times):
        starts.append(at)
        length = max(step, _GROWTH * float(times[at] - times[0]))
        at = max(at + 1, int(np.searchsorted(times, times[at] + length - step * 0.01)))
    first = np.array(starts)
    counts = np.diff(np.append(first, len(times))).astype(np.float64)
    means = np.add.reduceat(values, first) / counts
    last = np.append(first[1:], len(times)) - 1
    return Blocks(times[first] - times[0], times[last] - times[0], means, counts)


def fit(
    times: Floats, values: Floats, resolution: float = 0.0, rising: bool = True, scale_k: float = 0.0, seed: int = 0
) -> Warming | None:
    """Fit the approach to a plateau to readings (n) in °C or K at times (n) in s while the load did not change.

    `resolution` is the sensor's step in K, 0 where it has to be found; `scale_k` how far the part moved in all, where
    these readings are only the end of it. With `rising` every part of the machine warms up, as a passive network must
    where the heat goes in; without, after a fan or pump has changed, parts may move either way. Returns None with fewer
    than twelve readings or a span under 20 s.
    """
    if np.isfinite(values).sum() < _FEWEST:
        return None
    blocks = gather(times, values)
    if len(blocks.means) < _FEWEST or blocks.ends[-1] < 20.0:
        return None
    basis = np.column_stack([np.ones(len(blocks.means)), *(-_mean_decay(blocks, tau) for tau in TAUS_S)])
    centre = float(blocks.means[-1])
    steps = resolution or step_of(values)
    around = blocks.means - centre
    moved = max(float(np.ptp(blocks.means)), scale_k, 1.0)
    spread = np.array([40.0, *(moved * _prior_share(tau) for tau in TAUS_S)])
    mixture = _Mixture(spread)
    for shape in _error_shapes():
        mixture.add(_whitened(blocks, basis, around, shape, spread, steps), shape)
    return mixture.draw(centre, float(blocks.ends[-1]), steps, rising, seed)


def step_of(values: Floats) -> float:
    """Return the sensor's step in K: the smallest difference between readings that differ; 0 with no difference."""
    levels = np.unique(np.round(values[np.isfinite(values)], 3))
    return float(np.diff(levels).min()) if len(levels) > 1 else 0.0


def _error_shapes() -> list[tuple[float, float]]:
    return [(8.0, 0.0)] + [(length, share) for length in _CORRELATION_S for share in _CORRELATED_SHARES if share > 0]


def _prior_share(tau: float) -> float:
    """How far a part with this time constant may move, as a share of the movement seen: a die and a heatsink as far as
    anything, coolant less, warm steel around them little."""
    return 1.0 if tau < 200.0 else 0.6 if tau < 350.0 else 0.12 if tau < 1200.0 else 0.05


def _mean_decay(blocks: Blocks, tau: float) -> Floats:
    """Return exp(-t / tau) at the readings of each block, averaged."""
    spans = blocks.ends - blocks.begins
    step = spans / np.maximum(blocks.counts - 1.0, 1.0)
    # the mean of a geometric row
    ratio = np.exp(-step / tau)
    with np.errstate(divide="ignore", invalid="ignore"):
        row = np.where(ratio < 1.0 - 1e-12, (1.0 - ratio**blocks.counts) / (1.0 - ratio), blocks.counts)
    row = np.where(blocks.counts > 1, row, 1.0)
    mean: Floats = np.exp(-blocks.begins / tau) * row / blocks.counts
    return mean


def _covariance(blocks: Blocks, correlation_s: float, share: float) -> Floats:
    """Return the covariance of block means for readings of variance 1, `share` of it correlated exponentially."""
    spans = np.maximum(blocks.ends - blocks.begins, 0.0)
    x = spans / correlation_s
    with np.errstate(divide="ignore", invalid="ignore"):
        reach = np.where(x > 1e-6, (1.0 - np.exp(-x)) / x, 1.0)
        own = np.where(x > 1e-3, 2.0 * (x - 1.0 + np.exp(-x)) / x**2, 1.0 - x / 3.0)
    gaps = np.maximum(blocks.begins[None, :] - blocks.ends[:, None], 0.0)
    upper = np.triu(np.outer(reach, reach) * np.exp(-gaps / correlation_s), 1)
    covariance: Floats = share * (upper + upper.T + np.diag(own)) + (1.0 - share) * np.diag(1.0 / blocks.counts)
    return covariance


@cache
def _choices() -> dict[int, npt.NDArray[np.int64]]:
    """Return by number of parts which columns of the basis are taken together: the constant, quick ones, a slow one."""
    quick, slow = range(1, len(_QUICK_S) + 1), range(len(_QUICK_S) + 1, len(TAUS_S) + 1)
    return {
        terms + 1: np.array([(0, *some, one) for some in combinations(quick, terms) for one in slow])
        for terms in range(_TERMS)
    }


@dataclass(frozen=True, slots=True)
class _Whitened:
    """Products of basis and readings under one shape of the error, and what is known of its scale."""

    gram: Floats
    cross: Floats
    square: float
    variance: float
    known: float


def _whitened(
    blocks: Blocks, basis: Floats, values: Floats, shape: tuple[float, float], spread: Floats, resolution: float
) -> _Whitened:
    """Return the products under a shape of the error: its correlation time in s and the share that is correlated."""
    root = np.linalg.cholesky(_covariance(blocks, *shape) + 1e-9 * np.eye(len(values)))
    white = solve_triangular(root, basis, lower=True)
    seen = solve_triangular(root, values, lower=True)
    gram, cross, square = white.T @ white, white.T @ seen, float(seen @ seen)
    # the scale of the error from the richest model, held a little by its priors
    rich = np.linalg.solve(gram + np.diag(1e-2 / spread**2), cross)
    misfit = max(square - float(2 * rich @ cross - rich @ gram @ rich), 1e-9)
    freedom = max(len(values) - 2.0 * _TERMS - 1.0, 4.0)
    variance = max(misfit / freedom, (resolution**2) / 12.0, 1e-6)
    known = -float(np.log(np.diag(root)).sum()) - 0.5 * len(values) * float(np.log(variance))
    return _Whitened(gram, cross, square, variance, known)


class _Mixture:
    """Collects the posterior of every choice of time constants under every shape of the error."""

    def __init__(self, spread: Floats) -> None:
        self._by_size = _choices()
        self._spread = spread
        self._parts: list[tuple[Floats, int, npt.NDArray[np.floating], Floats, float, float]] = []

    def add(self, white: _Whitened, shape: tuple[float, float]) -> None:
        """Take in one shape of the error with every number of parts."""
        for size, rows in self._by_size.items():
            precision = white.gram[rows[:, :, None], rows[:, None, :]] / white.variance
            prior = 1.0 / self._spread[rows] ** 2
            precision = precision + prior[:, :, None] * np.eye(size + 1)
            weighed = white.cross[rows] / white.variance
            means = np.linalg.solve(precision, weighed[:, :, None])[:, :, 0]
            _, log_det = np.linalg.slogdet(precision)
            evidence: Floats = (
                white.known
                - 0.5 * (white.square / white.variance - (means * weighed).sum(axis=1))
                - 0.5 * log_det
                + 0.5 * np.log(prior).sum(axis=1)
                - np.log(len(rows))
            )
            correlated = shape[0] * shape[1]
            self._parts.append((evidence, size, means, precision, float(np.sqrt(white.variance)), correlated))

    def draw(self, centre: float, span_s: float, resolution: float, rising: bool, seed: int) -> Warming:
        """Return draws from the whole mixture."""
        rng = np.random.default_rng(seed)
        every = np.concatenate([part[0] for part in self._parts])
        weights = np.exp(every - every.max())
        weights /= weights.sum()
        edges = np.cumsum([0, *(len(part[0]) for part in self._parts)])
        picked = np.sort(rng.choice(len(weights), size=_TRIED, p=weights))
        ends = np.empty(_TRIED)
        amounts = np.zeros((_TRIED, _TERMS))
        chosen = np.ones((_TRIED, _TERMS))
        noise, correlation = np.empty(_TRIED), np.empty(_TRIED)
        parts = np.searchsorted(edges, picked, side="right") - 1
        for number in np.unique(parts):
            _, size, means, precision, sd, correlated = self._parts[number]
            mine = np.flatnonzero(parts == number)
            rows = picked[mine] - edges[number]
            roots = np.linalg.cholesky(precision[rows])
            steps = np.linalg.solve(roots.transpose(0, 2, 1), rng.standard_normal((len(mine), size + 1, 1)))[:, :, 0]
            coefficients = means[rows] + steps
            ends[mine] = centre + coefficients[:, 0]
            amounts[mine, :size] = coefficients[:, 1:]
            chosen[mine, :size] = TAUS_S[self._by_size[size][rows, 1:] - 1]
            noise[mine], correlation[mine] = sd, correlated
        passive = (amounts >= 0.0).all(axis=1) if rising else np.ones(_TRIED, dtype=bool)
        fitting = np.flatnonzero(passive if passive.sum() >= _FEWEST_DRAWS else np.ones(_TRIED, dtype=bool))
        # readings whose noise is smaller than their step sit on one step for long: the mean does not get better
        # (rounding alone is a noise of 0.29 steps while it rises; from 0.6 steps on the steps are smoothed out)
        in_steps = float(noise[fitting].mean()) / max(resolution, 1e-9)
        stuck = resolution * min(1.0, max(0.0, 1.0 - 3.0 * (in_steps - 0.29)))
        ends = ends[fitting] + rng.uniform(-0.5, 0.5, len(fitting)) * stuck
        coming = (amounts[fitting] * np.exp(-span_s / chosen[fitting])).sum(axis=1)
        ends += rng.normal(0.0, 1.0, len(fitting)) * np.hypot(_MODEL_K, _MODEL_SHARE * coming)
        return Warming(
            ends,
            amounts[fitting],
            chosen[fitting],
            float(noise[fitting].mean()),
            float(correlation[fitting].mean()),
            span_s,
            float(every.max() + np.log(np.exp(every - every.max()).sum())),
        )
