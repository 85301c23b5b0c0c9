"""How well each hypothesis explains the evidence, piece by piece, on arrays.

A hypothesis is nothing faulty, one fault, or two. Each fault has one unknown strength, findings per hour at reference
conditions, on a grid of `K` points; findings come as a Poisson process whose rate is the sum of the faults' and of the
background, so that the logarithm of the likelihood of a group of findings worth `w` is `w log(rate)`, and that of time
is minus the expected count. Strengths are summed out.

Two faults that can show none of the same groups factorise exactly: each explains its own. Of the others the most
promising, judged by the strengths that fit each best alone, are summed over both grids; the rest keep a
lower bound, what the better one explains while the other stays silent."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Whole = npt.NDArray[np.intp]

MOST_SUMMED_PAIRS = 48
_SAME_SCORE = 1e-6


@dataclass(frozen=True, slots=True)
class FaultTable:
    """All faults and all evidence as arrays.

    `rates` (F, G): a fault's part in each group's rate for strength 1; `expected` (F, P): its expected count in each
    piece for strength 1; `strengths` and `log_weights` (F, K): its grid; `worth` (G) what each group counts, `owner`
    (G) the piece it belongs to; `quiet` (G) the background's rates.
    """

    rates: Floats
    expected: Floats
    strengths: Floats
    log_weights: Floats
    worth: Floats
    owner: Whole
    quiet: Floats

    @property
    def pieces(self) -> int:
        """Number of pieces of evidence."""
        return int(self.expected.shape[1])


def log_sum(values: Floats, axis: int | tuple[int, ...] | None = None) -> Floats:
    """Logarithm of a sum of exponentials of finite values."""
    most = values.max(axis=axis, keepdims=True)
    summed = np.log(np.exp(values - most).sum(axis=axis))
    return np.asarray(summed + most.reshape(summed.shape), dtype=np.float64)


def _running(by_group: Floats, by_piece: Floats, table: FaultTable) -> Floats:
    """Add groups to their pieces and sum up over the pieces: (..., P)."""
    membership = (table.owner[:, None] == np.arange(table.pieces)).astype(np.float64)
    return np.cumsum(by_group @ membership + by_piece, axis=-1)


def healthy(table: FaultTable) -> Floats:
    """Return the log likelihood of the first 1, 2 ... pieces (P) under nothing faulty."""
    by_group = table.worth * np.log(table.quiet)
    return _running(by_group, np.zeros(table.pieces), table)


def single_on_grid(table: FaultTable) -> Floats:
    """Return the log likelihoods of the first 1, 2 ... pieces by strength, weights left out: (F, K, P)."""
    rates = table.quiet + table.strengths[:, :, None] * table.rates[:, None, :]
    by_group = table.worth * np.log(rates)
    return _running(by_group, -table.strengths[:, :, None] * table.expected[:, None, :], table)


def silent(table: FaultTable) -> Floats:
    """Return the log likelihood of a fault's time alone, as if it showed nothing: (F, P)."""
    spent = np.cumsum(table.expected, axis=1)
    return log_sum(table.log_weights[:, :, None] - table.strengths[:, :, None] * spent[:, None, :], axis=1)


@dataclass(frozen=True, slots=True)
class Explained:
    """Log likelihoods after 1, 2 ... pieces: `none` (P), `one` (F, P), and `two` (N, P) for the pairs (N, 2).

    `grid` (F, K) is that of single faults by strength after all pieces, weights included, for predictions.
    """

    none: Floats
    one: Floats
    pairs: Whole
    two: Floats
    grid: Floats


def explain(table: FaultTable, pairs: Whole) -> Explained:
    """Work out every hypothesis; `pairs` (N, 2) are the faults that may be there together."""
    none = healthy(table)
    by_strength = single_on_grid(table)
    one = log_sum(by_strength + table.log_weights[:, :, None], axis=1)
    last = by_strength[:, :, -1] if table.pieces else np.zeros(table.strengths.shape)
    grid = last + table.log_weights
    if not len(pairs):
        return Explained(none, one, pairs, np.zeros((0, table.pieces)), grid)
    alone = silent(table)
    first, second = pairs[:, 0], pairs[:, 1]
    shows = (table.rates > 0).astype(np.float64)
    share_some = np.asarray((shows @ shows.T)[first, second] > 0, dtype=np.bool_)
    two = np.where(
        share_some[:, None],
        np.maximum(one[first] + alone[second], one[second] + alone[first]),  # one explains, the other stays silent
        one[first] + one[second] - none,
    )
    joint = np.flatnonzero(share_some)
    for number in _most_promising(table, pairs, joint, grid):
        two[number] = _both(table, int(first[number]), int(second[number]))
    return Explained(none, one, pairs, two, grid)


def _most_promising(table: FaultTable, pairs: Whole, joint: Whole, grid: Floats) -> Whole:
    """Return the pairs worth summing: with each fault at its likeliest strengths alone, those that explain most."""
    if len(joint) <= MOST_SUMMED_PAIRS:
        return joint
    best = np.take_along_axis(table.strengths, grid.argmax(axis=1)[:, None], axis=1)[:, 0]
    # a strength that fits all findings alone is too high for one that shares them; half is near enough for ranking
    rates, spent = best[:, None] * table.rates, best * table.expected.sum(axis=1)
    first, second = pairs[joint, 0], pairs[joint, 1]
    score = (table.worth * np.log(table.quiet + 0.5 * (rates[first] + rates[second]))).sum(axis=1)
    score -= 0.5 * (spent[first] + spent[second])
    # all that score like the last one: which of equals is summed must not depend on the order of the findings
    last = np.partition(score, -MOST_SUMMED_PAIRS)[-MOST_SUMMED_PAIRS]
    return np.asarray(joint[score >= last - _SAME_SCORE])


def _both(table: FaultTable, one: int, other: int) -> Floats:
    """Return the log likelihoods of two faults together, both strengths summed out: (P)."""
    mine = table.strengths[one][:, None, None]
    theirs = table.strengths[other][None, :, None]
    rates = table.quiet + mine * table.rates[one] + theirs * table.rates[other]
    by_group = table.worth * np.log(rates)
    running = _running(by_group, -(mine * table.expected[one] + theirs * table.expected[other]), table)
    weights = table.log_weights[one][:, None, None] + table.log_weights[other][None, :, None]
    return log_sum(running + weights, axis=(0, 1))
