"""How well each hypothesis explains the evidence, piece by piece, on arrays.

A hypothesis is nothing faulty, one fault, or two. Each fault has one unknown strength, findings per hour at reference
conditions, on a grid of `K` points that lie `STEP` apart in its logarithm. Findings come as a Poisson process whose
rate is the sum of the faults' and of the background, so that the logarithm of the likelihood of a group of findings
worth `w` is `w log(rate)`, and that of time is minus the expected count. Strengths are summed out.

How hard a load strains a fault is not known exactly, and faults have good and bad days: in each stint (a load in a
trial) a fault is as strong as it is, or three times weaker or stronger, in use outside our runs nine times. Stints are
independent, and these factors are summed out too. Since they are whole steps of the grid, the sums are sums of shifted
copies.

Two faults that can show none of the same groups in a stint factorise exactly there: each explains its own. Of those
that share some the most promising are summed over both grids; the rest keep a lower bound, what the better one explains
while the other stays silent.

Whether a machine starts is a state and no count. A fault keeps the machine from starting or it does not, in all trials
alike; both are summed out."""

import math
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Whole = npt.NDArray[np.intp]
Flags = npt.NDArray[np.bool_]

STEP = math.log(3.0) / 4.0
"""How far points of the grid of strengths lie apart, in the natural logarithm."""
HIDDEN_SHIFT = 4
"""Hidden factors of a stint are 3 and a third; the makers' judgement."""
CERTAIN_SHIFT = 0
"""Component checks look at the very part: there is nothing hidden."""
OUTSIDE_SHIFT = 8
"""Of use outside our runs less is known: 9 and a ninth."""
HIDDEN_WEIGHT = 1.0 / 6.0
"""How likely a stint has the one factor, and how likely the other."""
PAD = OUTSIDE_SHIFT
MOST_SUMMED_PAIRS = 48
_LEAST_SUMMED_PAIRS = 6
_MOST_WORK = 6_000_000
"""Logarithms worth spending on pairs."""
_SAME_SCORE = 1e-6
_HOPELESS = 30.0
"""A pair that explains the evidence this much worse than another, in nats, cannot matter."""
SEEN_DEAD = 0.97
"""How surely a fault that keeps a machine from starting does so whenever it is tried; the makers' judgement."""
HEARSAY = 0.05
"""How often it is said of a machine that it does not start whatever it does; the makers' judgement."""
SEEN_DEAD_BY_CHANCE = 0.003
"""How likely a machine does not start without one: a plug forgotten."""


@dataclass(frozen=True, slots=True)
class States:
    """In which configurations the machine was seen to start, and in which not.

    `acts` (F, S): whether a fault is in each; `dead` (S): whether the machine did not start there; `trust` (S): how far
    the word for it goes; `piece` (S) the piece of evidence; `chance` (F) how likely a fault is one that keeps it from
    starting.
    """

    acts: Floats
    dead: Flags
    trust: Floats
    piece: Whole
    chance: Floats


def no_states(faults: int) -> States:
    """Return the states of a machine that always started."""
    none = np.zeros(0)
    return States(np.zeros((faults, 0)), none.astype(np.bool_), none, none.astype(np.intp), np.zeros(faults))


@dataclass(frozen=True, slots=True)
class FaultTable:
    """All faults and all evidence as arrays.

    `rates` (F, G): a fault's part in each group's rate for strength 1; `expected` (F, P): its expected count in each
    piece for strength 1; `strengths` and `log_weights` (F, K): its grid, weights of points that are left out minus
    infinity; `worth` (G) what each group counts, `owner` (G) the piece it belongs to; `quiet` (G) the background's
    rates. `group_stint` (G) and `piece_stint` (P) are numbers of stints, `shifts` by how many points
    of the grid the hidden factors of each stint lie aside, `names` are trial and load of each.
    """

    rates: Floats
    expected: Floats
    strengths: Floats
    log_weights: Floats
    worth: Floats
    owner: Whole
    quiet: Floats
    group_stint: Whole
    piece_stint: Whole
    shifts: Whole
    states: States = field(default_factory=lambda: no_states(0))
    names: tuple[tuple[int, str], ...] = ()

    @property
    def pieces(self) -> int:
        """Number of pieces of evidence."""
        return int(self.expected.shape[1])

    @property
    def stints(self) -> int:
        """Number of stints."""
        return len(self.shifts)

    @property
    def padded(self) -> Floats:
        """Strengths with as many points more at both ends as hidden factors reach: (F, K + 2 PAD)."""
        steps = np.arange(-PAD, self.strengths.shape[1] + PAD)
        return np.asarray(self.strengths[:, :1] * np.exp(STEP * steps))


def log_sum(values: Floats, axis: int | tuple[int, ...] | None = None) -> Floats:
    """Logarithm of a sum of exponentials; not all may be minus infinity."""
    most = values.max(axis=axis, keepdims=True)
    summed = np.log(np.exp(values - most).sum(axis=axis))
    return np.asarray(summed + most.reshape(summed.shape), dtype=np.float64)


def with_hidden(padded: Floats, shift: int, axes: int = 1) -> Floats:
    """Sum the hidden factors of a stint out of log likelihoods on the padded grid: the grid without padding.

    The last axis is that of strengths, or the last two for two faults."""
    over = tuple(range(-axes, 0))
    most = padded.max(axis=over, keepdims=True)
    summed = np.exp(padded - most) @ _averaging(padded.shape[-1], shift).T
    if axes == 2:
        summed = _averaging(padded.shape[-2], shift) @ summed
    return np.asarray(most + np.log(np.maximum(summed, _LEAST)))


_LEAST = 1e-300
"""What is so much less likely than the likeliest strength is as good as impossible."""


@lru_cache(maxsize=64)
def _averaging(points: int, shift: int) -> Floats:
    """Return the matrix (K, K + 2 PAD) that averages over the hidden factors and takes the padding away."""
    kept = np.arange(points - 2 * PAD)
    matrix = np.zeros((len(kept), points))
    for by, share in ((-shift, HIDDEN_WEIGHT), (0, 1.0 - 2.0 * HIDDEN_WEIGHT), (shift, HIDDEN_WEIGHT)):
        matrix[kept, kept + PAD + by] += share
    return matrix


def widened(weights: Floats) -> Floats:
    """Return weights of strengths (F, K) spread over the padded grid by the hidden factors of a stint."""
    return np.asarray(weights @ _averaging(weights.shape[1] + 2 * PAD, HIDDEN_SHIFT))


@dataclass(frozen=True, slots=True)
class Explained:
    """Log likelihoods after 1, 2 ... pieces: `none` (P), `one` (F, P), and `two` (N, P) for the pairs (N, 2).

    `grid` (F, K) is that of single faults by strength after all pieces, weights included, for predictions; `silent` (F)
    how likely each fault would have shown nothing so far. Of pairs that are summed the last column is exact; the
    columns before it follow what the pieces are worth.
    """

    none: Floats
    one: Floats
    pairs: Whole
    two: Floats
    grid: Floats
    silent: Floats


@dataclass(slots=True)
class _Singles:
    """Single faults while pieces come in: log likelihoods by stint, on the padded grid and with factors summed out."""

    table: FaultTable
    padded: Floats
    by_stint: dict[int, Floats] = field(default_factory=dict)
    summed: dict[int, Floats] = field(default_factory=dict)

    def take(self, piece: int) -> None:
        table = self.table
        mine = np.flatnonzero(table.owner == piece)
        touched = set(table.group_stint[mine].tolist())
        spends = bool(table.expected[:, piece].any())
        if spends:
            touched.add(int(table.piece_stint[piece]))
        for stint in touched:
            padded = self.by_stint.setdefault(stint, np.zeros(self.padded.shape))
            groups = mine[table.group_stint[mine] == stint]
            if len(groups):
                rates = table.quiet[groups] + self.padded[:, :, None] * table.rates[:, None, groups]
                padded += (table.worth[groups] * np.log(rates)).sum(axis=2)
            if spends and stint == table.piece_stint[piece]:
                padded -= self.padded * table.expected[:, piece, None]
            self.summed[stint] = with_hidden(padded, int(table.shifts[stint]))

    def total(self) -> Floats:
        """Return what all stints say together, by strength: (F, K)."""
        return sum(self.summed.values(), np.zeros(self.table.strengths.shape))


def quiet_by_stint(table: FaultTable) -> Floats:
    """Return what each stint's findings are worth by chance alone: one number a stint."""
    worth = np.bincount(table.group_stint, table.worth * np.log(table.quiet), minlength=table.stints)
    return np.asarray(worth, dtype=np.float64)


def spent_by_stint(table: FaultTable) -> dict[int, Floats]:
    """Return the expected counts of each stint for strength 1 (F)."""
    stints = sorted(set(table.piece_stint.tolist()))
    return {stint: table.expected[:, table.piece_stint == stint].sum(axis=1) for stint in stints}


def log_silence(table: FaultTable) -> Floats:
    """Return the log likelihood of each fault's time alone, as if it had shown nothing (F)."""
    total, padded = np.zeros(table.strengths.shape), table.padded
    for stint, spent in spent_by_stint(table).items():
        if spent.any():
            total = total + with_hidden(-padded * spent[:, None], int(table.shifts[stint]))
    return log_sum(total + table.log_weights, axis=1)


def explain(table: FaultTable, pairs: Whole, log_priors: Floats | None = None) -> Explained:
    """Work out every hypothesis; `pairs` (N, 2) are the faults that may be there together.

    `log_priors` (N) of the pairs tell which are worth summing over both grids.
    """
    singles = _Singles(table, table.padded)
    by_group = np.bincount(table.owner, table.worth * np.log(table.quiet), minlength=table.pieces)
    none = np.asarray(np.cumsum(by_group[: table.pieces]), dtype=np.float64)
    one = np.zeros((len(table.rates), table.pieces))
    for piece in range(table.pieces):
        singles.take(piece)
        one[:, piece] = log_sum(singles.total() + table.log_weights, axis=1)
    grid = singles.total() + table.log_weights
    silent = log_silence(table)
    two = _pairs(table, pairs, singles, (none, one, silent), log_priors)
    states = _of_states(table, pairs)
    return Explained(none + states[0], one + states[1], pairs, two + states[2], grid, np.exp(silent))


def _pairs(
    table: FaultTable,
    pairs: Whole,
    singles: _Singles,
    alone: tuple[Floats, Floats, Floats],
    log_priors: Floats | None,
) -> Floats:
    """Return the log likelihoods of the pairs after each piece, from those of none, of one, and of one silent alone."""
    if not len(pairs) or not table.pieces:
        return np.zeros((len(pairs), table.pieces))
    none, one, log_silent = alone
    first, second = pairs[:, 0], pairs[:, 1]
    shows = (table.rates > 0).astype(np.float64)
    share_some = np.asarray((shows @ shows.T)[first, second] > 0, dtype=np.bool_)
    # time comes in by pieces; how it shares out between them on the way does not matter, only what is left at the end
    spent = np.cumsum(table.expected, axis=1)
    whole = np.maximum(spent[:, -1:], 1e-300)
    silent = log_silent[:, None] * spent / whole
    two = np.where(
        share_some[:, None],
        np.maximum(one[first] + silent[second], one[second] + silent[first]),
        one[first] + one[second] - none,
    )
    joint = np.flatnonzero(share_some)
    came = np.cumsum(np.bincount(table.owner, table.worth, minlength=table.pieces)[: table.pieces])
    share = came / came[-1] if came[-1] > 0 else np.linspace(0.0, 1.0, table.pieces)
    for number in _most_promising(table, pairs, joint, singles, log_priors):
        exact = _both(table, int(first[number]), int(second[number]), singles)
        two[number] += (exact - two[number, -1]) * share
    return two


def _most_promising(
    table: FaultTable, pairs: Whole, joint: Whole, singles: _Singles, log_priors: Floats | None
) -> Whole:
    """Return the pairs worth summing: with each fault at its likeliest strengths alone, those that explain most."""
    points = float((table.log_weights > -np.inf).sum(axis=1).mean() + 2 * PAD)
    most = int(np.clip(_MOST_WORK / max(1.0, points**2 * len(table.worth)), _LEAST_SUMMED_PAIRS, MOST_SUMMED_PAIRS))
    if len(joint) <= most:
        return joint
    grid = singles.total() + table.log_weights
    best = np.take_along_axis(table.strengths, grid.argmax(axis=1)[:, None], axis=1)[:, 0]
    # a strength that fits all findings alone is too high for one that shares them; half is near enough for ranking
    rates, spent = best[:, None] * table.rates, best * table.expected.sum(axis=1)
    first, second = pairs[joint, 0], pairs[joint, 1]
    score = (table.worth * np.log(table.quiet + 0.5 * (rates[first] + rates[second]))).sum(axis=1)
    score -= 0.5 * (spent[first] + spent[second])
    if log_priors is not None:
        score += log_priors[joint]
    # all that score like the last one: which of equals is summed must not depend on the order of the findings
    last = max(np.partition(score, -most)[-most], score.max() - _HOPELESS)
    return np.asarray(joint[score >= last - _SAME_SCORE])


def _both(table: FaultTable, one: int, other: int, singles: _Singles) -> float:
    """Return the log likelihood of two faults together, both strengths and all hidden factors summed out."""
    (low, high), (bottom, top) = (_range(table.log_weights[each]) for each in (one, other))
    mine, theirs = singles.padded[one, low : high + 2 * PAD], singles.padded[other, bottom : top + 2 * PAD]
    total = table.log_weights[one, low:high, None] + table.log_weights[other, None, bottom:top]
    shared = (table.rates[one] > 0) & (table.rates[other] > 0)
    by_chance = quiet_by_stint(table)
    for stint in singles.by_stint:
        of_stint = table.group_stint == stint
        both = np.flatnonzero(shared & of_stint)
        if not len(both):
            total = total + singles.summed[stint][one, low:high, None] - by_chance[stint]
            total = total + singles.summed[stint][other, None, bottom:top]
            continue
        left, right = singles.by_stint[stint][one, low : high + 2 * PAD], singles.by_stint[stint][other]
        joined = left[:, None] + right[None, bottom : top + 2 * PAD] - by_chance[stint]
        for group in both:  # in each alone it was explained by one; here by both
            quiet, worth = table.quiet[group], table.worth[group]
            a, b = mine * table.rates[one, group], theirs * table.rates[other, group]
            joined += worth * (np.log(quiet + a[:, None] + b[None, :]) + math.log(quiet))
            joined -= worth * (np.log(quiet + a)[:, None] + np.log(quiet + b)[None, :])
        total = total + with_hidden(joined, int(table.shifts[stint]), axes=2)
    return float(log_sum(total))


def _range(log_weights: Floats) -> tuple[int, int]:
    used = np.flatnonzero(log_weights > -np.inf)
    return int(used[0]), int(used[-1]) + 1


def _of_states(table: FaultTable, pairs: Whole) -> tuple[Floats, Floats, Floats]:
    """Return what starting and not starting say under each hypothesis, by piece: (P), (F, P) and (N, P)."""
    states, pieces = table.states, table.pieces
    faults, several = len(table.rates), len(pairs)
    if not len(states.dead):
        return np.zeros(pieces), np.zeros((faults, pieces)), np.zeros((several, pieces))
    nobody = np.zeros((1, 1, len(states.dead)))
    first, second = pairs[:, 0], pairs[:, 1]
    acts, chance = states.acts, states.chance
    of_none = _running_states(states, nobody, np.ones((1, 1)))
    one_acts = np.stack((np.zeros_like(acts), acts), axis=1)
    of_one = _running_states(states, one_acts, np.column_stack((1.0 - chance, chance)))
    a, b = acts[first], acts[second]
    pair_acts = np.stack((np.zeros_like(a), a, b, np.maximum(a, b)), axis=1)
    p, q = chance[first], chance[second]
    weights = np.column_stack(((1 - p) * (1 - q), p * (1 - q), (1 - p) * q, p * q))
    of_two = _running_states(states, pair_acts, weights)
    by_piece = (states.piece[:, None] == np.arange(pieces)).astype(np.float64)
    return (
        np.cumsum(of_none @ by_piece, axis=1)[0],
        np.cumsum(of_one @ by_piece, axis=1),
        np.cumsum(of_two @ by_piece, axis=1),
    )


def stopping_chances(states: States) -> Floats:
    """Return how likely each fault, were it there alone, is one that keeps the machine from starting (F)."""
    both = np.stack((np.zeros_like(states.acts), states.acts), axis=1)
    weights = np.column_stack((1.0 - states.chance, states.chance))
    believed = np.prod(_believed(states, both), axis=2) * weights
    return np.asarray(believed[:, 1] / believed.sum(axis=1))


def _believed(states: States, acts: Floats) -> Floats:
    """Return how likely each state was to be reported, from what acts in it (N, L, S)."""
    dead = SEEN_DEAD_BY_CHANCE + (SEEN_DEAD - SEEN_DEAD_BY_CHANCE) * acts
    seen = np.where(states.dead, dead, 1.0 - dead)
    said = np.where(states.dead, HEARSAY, 1.0 - HEARSAY)
    return np.asarray(states.trust * seen + (1.0 - states.trust) * said)


def _running_states(states: States, acts: Floats, weights: Floats) -> Floats:
    """Return what each state adds: (N, S), from what acts in it (N, L, S) and how likely each case L is (N, L)."""
    if not len(acts):
        return np.zeros((0, len(states.dead)))
    believed = _believed(states, acts)
    running = np.log((weights[:, :, None] * np.cumprod(believed, axis=2)).sum(axis=1))
    return np.asarray(np.diff(running, axis=1, prepend=np.log(weights.sum(axis=1))[:, None]))
