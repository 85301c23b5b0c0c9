"""Which trial is most informative for its time: over configurations that the shop can make and loads that it can run.

A trial is one run of one load or of several in turn. It ends clean or with a finding. What that would say is worked
out for every hypothesis with the strengths that the evidence has left. The gain is the fall of the uncertainty about
what to do to the customer's machine: entropy in bits over sets of its parts and how each is fixed, not over every way
of being faulty. It is held against its cost: minutes in which somebody swaps, sets up and looks weigh more than minutes
that the machine runs by itself, and a night costs next to nothing."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import (
    Cell,
    Evidence,
    Floats,
    first_like,
    logged_share,
    rate_factor,
    states_of,
)
from thresher.diagnosis.faults import STILL_THERE, Fault, acts_in, acts_under
from thresher.diagnosis.inference import Posterior
from thresher.diagnosis.knowledge import Action
from thresher.diagnosis.likelihood import (
    HIDDEN_SHIFT,
    SEEN_DEAD,
    Whole,
    spent_by_stint,
    stopping_chances,
    widened,
    with_hidden,
)
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import Candidate, Configuration, NextTrial
from thresher.model.verdict import EVERYDAY_USE

_WRITES_TO_DRIVES = ("write and compare",)
_OF_CARDS = ("raster", "card compute", "card memory", "transfer")
_DYING = (FindingKind.DRIVE_FAILED, FindingKind.DRIVE_WORN)
_LOADS = (
    "memory",
    "matrix",
    "branchy",
    "relay",
    "raster",
    "card memory",
    "transfer",
    "write and compare",
    EVERYDAY_USE,
)
_LENGTHS = (15.0, 30.0, 60.0, 120.0)
"""Loads and minutes that are looked at."""
_NIGHT_MINUTES = 480.0
_OF_A_NIGHT = ("memory", "matrix", "branchy", "relay", "raster")
_MOST_LOADS = 3
_WORTH_ADDING = 0.6
"""A further load is added to a run where it gains as much per minute as this share of what the run gains so far."""
_ATTENDED = 2.0
"""So much more than a minute that the machine runs by itself one costs in which somebody works on it."""
_LOOK_MINUTES = 6.0
"""Starting a run, and coming back to it and thinking, takes somebody's time, whatever its length."""
_NIGHT_COST = 20.0
_LEAST_GAIN = 0.002
"""Bits below which a trial says nothing worth its time."""
_WARM_UP_MINUTES = 3.0


def next_trials(
    posterior: Posterior,
    evidence: Evidence,
    options: tuple[Candidate, ...],
    most: int = 3,
    overnight: bool = False,
) -> tuple[NextTrial, ...]:
    """Return the trials that are most informative for their cost, best first; none when none is worth its time.

    `overnight` when the bench is about to be left: then each of them is a run for the night.
    """
    lengths = (_NIGHT_MINUTES,) if overnight else _LENGTHS
    loads = [load for load in loads_for(evidence) if not overnight or load in _OF_A_NIGHT]
    paces = hours_of(posterior, evidence, tuple(loads))
    left = strengths_left(posterior)
    now = evidence.book.trials[-1].configuration
    again = hours_before(posterior, evidence, now, loads)
    likely = likely_ones(posterior)
    targets = _targets(likely, evidence.book.base)
    best: list[NextTrial] = []
    fresh: dict[float, Floats] = {}
    once_more: dict[float, Floats] = {}
    for candidate in options:
        same = candidate.configuration == now

        def chances(share: float, same: bool = same) -> Floats:
            before = again * share if same else None
            return np.stack(
                [quiet_chances(posterior, left, paces * share * each / 60.0, before) for each in lengths], axis=2
            )

        by_fault = by_share(acts_in(posterior.faults, candidate.configuration), chances, once_more if same else fresh)
        trial = _best_run(likely, candidate, by_fault, targets, (tuple(loads), lengths), overnight)
        best += [trial] if trial is not None else []
    return tuple(sorted(best, key=lambda trial: -trial.gain / cost_of(trial))[:most])


def by_share(there: Floats, chances: Callable[[float], Floats], known: dict[float, Floats]) -> Floats:
    """Return the chances of each fault by what of it is left in a configuration (F, ...).

    A configuration leaves a fault whole, takes it out or leaves little of it: few shares, worked out once each."""
    for share in set(there.tolist()) - set(known):
        known[share] = chances(share)
    result = np.empty_like(next(iter(known.values())))
    for share in set(there.tolist()):
        result[there == share] = known[share][there == share]
    return result


_NEGLIGIBLE = 1e-7


def likely_ones(posterior: Posterior) -> Posterior:
    """Return the posterior without hypotheses that no trial could make likely: there are thousands of them."""
    kept = posterior.posterior > _NEGLIGIBLE
    weights = posterior.posterior[kept]
    return replace(posterior, members=posterior.members[kept], posterior=weights / weights.sum())


def starting_trials(
    posterior: Posterior, evidence: Evidence, options: tuple[Candidate, ...], most: int = 3
) -> tuple[NextTrial, ...]:
    """Return for a machine that does not start the swaps after which starting or not says most, best first."""
    tried = dead_configurations(evidence)
    stopping = stopping_chances(posterior.table.states)
    likely = likely_ones(posterior)
    targets = _targets(likely, evidence.book.base)
    found = []
    for candidate in options:
        if candidate.configuration in tried:
            continue
        starts = 1.0 - SEEN_DEAD * stopping * acts_in(posterior.faults, candidate.configuration)
        gains, if_clean, if_found = _gains(likely, starts[:, None], targets)
        if gains[0] >= _LEAST_GAIN:
            words = [_likeliest(each[:, 0], targets.names) for each in (if_clean, if_found)]
            found.append(NextTrial(candidate, (), float(gains[0]), float(if_found[:, 0].sum()), words[0], words[1]))
    return tuple(sorted(found, key=lambda trial: -trial.gain / cost_of(trial))[:most])


def dead_configurations(evidence: Evidence) -> frozenset[Configuration | None]:
    """Return the configurations in which the machine did not start when it was last tried."""
    return frozenset(where for where, state in states_of(evidence).items() if state.dead)


def cost_of(trial: NextTrial) -> float:
    """Return what a trial costs, in minutes that a machine runs by itself."""
    return set_up_cost(trial.candidate) + (_NIGHT_COST if trial.overnight else trial.run_minutes)


def set_up_cost(candidate: Candidate) -> float:
    """Return what it costs to set a trial up, start it and look at how it ended, in the same minutes."""
    return _ATTENDED * (candidate.minutes + _LOOK_MINUTES) + _WARM_UP_MINUTES


def loads_for(evidence: Evidence) -> tuple[str, ...]:
    """Return the loads that may be proposed: none writes to a drive that loses data, none works a card without one."""
    dying = any(each.kind in _DYING for each in evidence.findings)
    cards = any(part.kind is PartKind.GRAPHICS for part in evidence.book.parts)
    left_out = (_WRITES_TO_DRIVES if dying else ()) + (() if cards else _OF_CARDS)
    return tuple(load for load in _LOADS if load not in left_out)


def hours_of(posterior: Posterior, evidence: Evidence, loads: tuple[str, ...]) -> Floats:
    """Return how much an hour of each load is worth for each fault at reference strength (F, L), as hot as it was."""
    temperature = max(
        (each.temperature_c for each in evidence.exposures if each.temperature_c is not None), default=None
    )
    cells = [Cell(load, temperature) for load in loads]
    modes = {fault.mode.name: fault.mode for fault in posterior.faults}
    paces = {
        name: [rate_factor(mode, cell) * logged_share(mode, cell.load) for cell in cells]
        for name, mode in modes.items()
    }
    return np.array([paces[fault.mode.name] for fault in posterior.faults]).reshape(len(posterior.faults), len(loads))


def strengths_left(posterior: Posterior) -> Floats:
    """Return how strong each fault is by the evidence so far, if it is there: (F, K), each row adds up to 1."""
    left = posterior.explained.grid
    left = np.exp(left - left.max(axis=1, keepdims=True))
    return np.asarray(left / left.sum(axis=1, keepdims=True))


@dataclass(frozen=True, slots=True)
class _Targets:
    """Sets of parts that hypotheses would have fixed: hypotheses sorted by their set, where each set begins, names."""

    order: Whole
    starts: Whole
    names: tuple[str, ...]

    def sums(self, weights: Floats) -> Floats:
        """Sum weights of hypotheses (H, R) over each set: (S, R)."""
        return np.asarray(np.add.reduceat(weights[self.order], self.starts, axis=0), dtype=np.float64)


def _targets(posterior: Posterior, base: Configuration | None) -> _Targets:
    """Return the set of parts that each hypothesis would have fixed.

    Only what is in the machine that is handed back counts: of a part of the shelf nobody needs to know.
    """
    of_fault = [
        _name(fault) if not fault.mode.harmless and acts_under(fault, base) >= STILL_THERE else ""
        for fault in posterior.faults
    ]
    # number 0 is nothing, so that the larger of a pair comes last whatever the other is
    single = ["", *sorted({name for name in of_fault if name})]
    numbers = np.array([*(single.index(name) for name in of_fault), 0])[posterior.members]
    first, last = numbers.min(axis=1), numbers.max(axis=1)
    first = np.where(first == last, 0, first)
    keys, inverse = np.unique(first * len(single) + last, return_inverse=True)
    order = np.argsort(inverse, kind="stable")
    starts = np.searchsorted(inverse[order], np.arange(len(keys)))
    pairs = [(single[key // len(single)], single[key % len(single)]) for key in keys]
    names = tuple(" and ".join(name for name in pair if name) or "nothing faulty" for pair in pairs)
    return _Targets(order, starts, names)


def _name(fault: Fault) -> str:
    if fault.mode.of_settings:
        return "settings"
    if fault.mode.moves:
        return f"{fault.mode.moves} {fault.place}".strip()
    if fault.mode.action is Action.LOOK:
        return fault.mode.item
    name = fault.tag or fault.mode.part.value
    return f"{_TREATED_WORDS[fault.mode.action]} {name}" if fault.mode.action in _TREATED_WORDS else name


_TREATED_WORDS = {Action.CLEAN: "dirt in", Action.RESEAT: "the seat of"}


def quiet_chances(posterior: Posterior, left: Floats, paced: Floats, before: Floats | None = None) -> Floats:
    """Return for each fault the chance that it shows nothing in each run: (F, R).

    `left` (F, K) is how strong each fault is by the evidence so far, `paced` (F, R) the hours at reference conditions;
    how hard the load strains it is not known exactly. `before` (F, R) are the hours that the same load has already run
    in the same configuration: what it has not shown then it will hardly show in as much more.
    """
    padded = posterior.table.padded
    if before is None or not before.any():
        showing = np.exp(-paced[:, :, None] * padded[:, None, :])
        return np.asarray(np.matmul(showing, widened(left)[:, :, None])[:, :, 0])
    now = with_hidden(-before[:, :, None] * padded[:, None, :], HIDDEN_SHIFT)
    then = with_hidden(-(before + paced)[:, :, None] * padded[:, None, :], HIDDEN_SHIFT)
    return np.asarray((left[:, None, :] * np.exp(then - now)).sum(axis=2))


def hours_before(
    posterior: Posterior, evidence: Evidence, configuration: Configuration | None, loads: Sequence[str]
) -> Floats:
    """Return what each load has already run as the machine is now, at reference conditions (F, L); 0 in others."""
    table, trials = posterior.table, evidence.book.trials
    before = np.zeros((len(posterior.faults), len(loads)))
    if trials and (configuration is None or trials[-1].configuration != configuration):
        return before
    number = first_like(evidence.book, trials[-1].configuration) if trials else 0
    spent = spent_by_stint(table)
    for column, load in enumerate(loads):
        stint = table.names.index((number, load)) if (number, load) in table.names else -1
        if stint in spent:
            before[:, column] = spent[stint]
    return before


def clean_chances(posterior: Posterior, quiet: Floats) -> Floats:
    """Return for each hypothesis the chance that each run ends clean (H, R), from that of each fault (F, R)."""
    with_nobody = np.vstack((quiet, np.ones((1, quiet.shape[1]))))
    members = posterior.members
    return np.asarray(with_nobody[members[:, 0]] * with_nobody[members[:, 1]], dtype=np.float64)


def _best_run(
    posterior: Posterior,
    candidate: Candidate,
    quiet: Floats,
    targets: _Targets,
    choices: tuple[tuple[str, ...], tuple[float, ...]],
    overnight: bool,
) -> NextTrial | None:
    """Return the run that is most informative for its cost under a configuration, None when none is worth its time.

    `quiet` (F, L, T) are the chances that each fault shows nothing under each load of each length, which `choices`
    names. The best load comes first; others join it in the same run while they are worth their minutes."""
    loads, lengths = choices
    attended = set_up_cost(candidate)
    minutes = np.array([_NIGHT_COST if overnight else each for each in lengths])
    flat = quiet.reshape(len(quiet), -1)
    costs = np.tile(minutes, len(loads))
    gains, if_clean, if_found = _gains(posterior, flat, targets)
    number = int((gains / (attended + costs)).argmax())
    gain, cost = float(gains[number]), attended + float(costs[number])
    if gain < _LEAST_GAIN:
        return None
    chosen = [number]
    so_far = flat[:, number]
    alone = loads.index(EVERYDAY_USE) if EVERYDAY_USE in loads else -1  # nobody uses it in the middle of a run
    while not overnight and len(chosen) < _MOST_LOADS and number // len(lengths) != alone:
        used = {alone, *(each // len(lengths) for each in chosen)}
        further, clean, found = _gains(posterior, flat * so_far[:, None], targets)
        rest = np.array([number for number in range(len(costs)) if number // len(lengths) not in used], dtype=np.intp)
        more = (further[rest] - gain) / costs[rest]
        if not len(rest) or more.max() < _WORTH_ADDING * gain / cost:
            break
        number = int(rest[more.argmax()])
        chosen.append(number)
        so_far = so_far * flat[:, number]
        gain, cost = float(further[number]), cost + float(costs[number])
        if_clean, if_found = clean, found
    stints = tuple((loads[each // len(lengths)], lengths[each % len(lengths)]) for each in chosen)
    clean_words, found_words = (_likeliest(each[:, number], targets.names) for each in (if_clean, if_found))
    finds = float(if_found[:, number].sum())
    return NextTrial(candidate, stints, gain, finds, clean_words, found_words, overnight=overnight)


def _gains(posterior: Posterior, quiet: Floats, targets: _Targets) -> tuple[Floats, Floats, Floats]:
    """Return the bits that each run gains (R), and what is left of each set of parts if it ends clean or not (S, R)."""
    joint_clean = posterior.posterior[:, None] * clean_chances(posterior, quiet)
    all_of = targets.sums(posterior.posterior[:, None])
    if_clean = targets.sums(joint_clean)
    if_found = np.maximum(all_of - if_clean, 0.0)
    return _entropy(all_of) - _entropy(if_clean) - _entropy(if_found), if_clean, if_found


def _entropy(weights: Floats) -> Floats:
    """Return the entropy in bits of each column's shares, times the column's sum."""
    total = np.maximum(weights.sum(axis=0), 1e-300)
    shares = weights / total
    return np.asarray(-(weights * np.log2(np.maximum(shares, 1e-300))).sum(axis=0), dtype=np.float64)


def _likeliest(weights: Floats, names: tuple[str, ...]) -> str:
    best = int(weights.argmax())
    return f"{names[best]} ({weights[best] / max(weights.sum(), 1e-300) * 100:.0f} %)"
