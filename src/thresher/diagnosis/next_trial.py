"""Which trial is most informative for its time: over configurations that the shop can make and loads that it can run.

A trial is one run of one load or of several in turn. It ends clean or with a finding. What that would say is worked
out for every hypothesis with the strengths that the evidence has left. The gain is the fall of the uncertainty about
what to do to the customer's machine: entropy in bits over sets of its parts and how each is fixed, not over every way
of being faulty. It is held against its cost: minutes in which somebody swaps, sets up and looks weigh more than minutes
that the machine runs by itself, and a night costs next to nothing."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import Cell, Evidence, Floats, first_like, logged_share, rate_factor
from thresher.diagnosis.inference import Fault, Posterior, Way, acts_in, acts_under, way_of
from thresher.diagnosis.knowledge import Action
from thresher.diagnosis.likelihood import HIDDEN_WEIGHT, SEEN_DEAD, Whole, spent_by_stint, stopping_chances, widened
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import (
    ALL_SETTINGS,
    ANOTHER_SLOT,
    INSTALLED_SYSTEM,
    Book,
    Candidate,
    Configuration,
    Ended,
    NextTrial,
)
from thresher.model.verdict import EVERYDAY_USE, percent

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
_SWAP_MINUTES = {
    PartKind.PROCESSOR: 25.0,
    PartKind.MEMORY: 4.0,
    PartKind.GRAPHICS: 8.0,
    PartKind.DRIVE: 8.0,
    PartKind.POWER: 15.0,
    PartKind.BOARD: 60.0,
    PartKind.COOLING: 15.0,
    PartKind.DISPLAY: 4.0,
}
_OTHER_SWAP_MINUTES = 10.0
_SETTINGS_MINUTES = 6.0
_STICK_MINUTES = 5.0
_RUN_OVERHEAD_MINUTES = 3.0
"""Waiting until it is warm."""
_TREATMENTS = (
    (PartKind.COOLING, "Cleaned", 20.0),
    (PartKind.MEMORY, "Modules reseated", 4.0),
    (PartKind.BOARD, "Cards and plugs reseated", 6.0),
    (PartKind.DRIVE, "Other drive cable", 6.0),
    (PartKind.GRAPHICS, "Graphics card cleaned", 20.0),
    (PartKind.POWER, "Power plugs reseated", 5.0),
    (PartKind.DISPLAY, "Other display cable", 3.0),
)
_MOVES = (
    (PartKind.GRAPHICS, "card slot", "The card in another slot", 8.0),
    (PartKind.DRIVE, "drive port", "The drive on another port", 5.0),
)
"""Parts that can be moved to another place, by what that place is."""


def swap_minutes(book: Book, before: Configuration, after: Configuration) -> float:
    """Return the minutes that it takes to come from one configuration to another, without settings and treatments."""
    out = [part for tag in before.tags if tag not in after.tags and (part := book.part(tag)) is not None]
    into = [part for tag in after.tags if tag not in before.tags and (part := book.part(tag)) is not None]
    kinds = [part.kind for part in out]
    for part in into:  # what comes in for another of its kind is one swap
        if part.kind in kinds:
            kinds.remove(part.kind)
        kinds.append(part.kind)
    return sum(_SWAP_MINUTES.get(kind, _OTHER_SWAP_MINUTES) for kind in kinds)


def candidates(book: Book, configuration: Configuration, crashed: bool = False) -> tuple[Candidate, ...]:
    """Return the configurations that can be made from the present one with the parts in the book.

    One part against another of its kind, one memory module alone, settings to stock, cleaned, reseated, all as it is
    or as it is to be handed back. Treatments can be kept, not undone. A machine that has `crashed` can be run from the
    stick, which rules out the installed system.
    """
    made = [Candidate("The same again", configuration, 0.0)]
    base = book.base
    if base is not None and (set(base.tags), base.places) != (set(configuration.tags), configuration.places):
        # a module that was out has been reseated when it is in again
        out = [part.tag for part in book.parts if part.kind is PartKind.MEMORY and part.tag not in configuration.tags]
        seated = [tag for tag in out if tag in base.tags]
        back = replace(base, treated=tuple(dict.fromkeys((*base.treated, *configuration.treated, *seated))))
        settings = ", settings as they were" if back.stock != configuration.stock else ""
        moved = set(base.tags) == set(configuration.tags)
        title = f"Back in its own slot{settings}" if moved else f"With its own parts again{settings}"
        minutes = _SWAP_MINUTES[PartKind.MEMORY] if moved else swap_minutes(book, configuration, back)
        made.append(Candidate(title, back, minutes))
    elif base is not None and base.stock != configuration.stock:  # to see once more what goes with the settings
        found = replace(configuration, stock=base.stock)
        made.append(Candidate("Settings as they were", found, _SETTINGS_MINUTES))
    made += _swaps(book, configuration)
    if not configuration.stock:
        stock = replace(configuration, stock=ALL_SETTINGS)
        made.append(Candidate("Settings back to stock", stock, _SETTINGS_MINUTES))
    fitted = {part.kind for tag in configuration.tags if (part := book.part(tag)) is not None}
    for kind, title, minutes in _TREATMENTS:
        if kind in fitted and kind.value not in configuration.treated:
            made.append(Candidate(title, replace(configuration, treated=(*configuration.treated, kind.value)), minutes))
    for kind, place, title, minutes in _MOVES:
        if kind in fitted and place not in configuration.treated:
            made.append(Candidate(title, replace(configuration, treated=(*configuration.treated, place)), minutes))
    if crashed and INSTALLED_SYSTEM not in configuration.treated:
        stick = replace(configuration, treated=(*configuration.treated, INSTALLED_SYSTEM))
        made.append(Candidate("From the stick, without the installed system", stick, _STICK_MINUTES))
    return tuple(made)


def _swaps(book: Book, configuration: Configuration) -> list[Candidate]:
    """Return one part against another of its kind, and each of several modules alone."""
    made, fitted = [], [part for tag in configuration.tags if (part := book.part(tag)) is not None]
    for part in fitted:
        for other in book.parts:
            if other.kind is part.kind and other.tag not in configuration.tags:
                swapped = configuration.swapped(part.tag, other.tag)
                made.append(
                    Candidate(
                        f"{other.tag} in place of {part.tag}", swapped, swap_minutes(book, configuration, swapped)
                    )
                )
    return made + _memory_moves(configuration, [part.tag for part in fitted if part.kind is PartKind.MEMORY])


def _memory_moves(configuration: Configuration, modules: list[str]) -> list[Candidate]:
    """Return each of several modules alone, where it is and in another's slot, and modules in other slots.

    A module that is moved has been reseated by that.
    """
    made, minutes = [], _SWAP_MINUTES[PartKind.MEMORY]
    places = {tag: place for place, tag in configuration.places if tag in modules}
    for alone in modules if len(modules) > 1 else ():
        tags = tuple(tag for tag in configuration.tags if tag == alone or tag not in modules)
        made.append(Candidate(f"{alone} alone", _with(configuration, tags), minutes))
        for other in modules:
            if other != alone and alone in places and other in places:
                only = _moved(_with(configuration, tags), {alone: places[other]})
                made.append(Candidate(f"{alone} alone, in slot {places[other]}", only, minutes))
    if len(places) == 2 and len(modules) == 2:
        (one, its), (other, theirs) = places.items()
        swapped = _moved(configuration, {one: theirs, other: its})
        made.append(Candidate(f"{one} and {other} change slots", swapped, minutes))
    if len(places) == 1 and len(modules) == 1 and ANOTHER_SLOT not in places.values():
        moved = _moved(configuration, {modules[0]: ANOTHER_SLOT})
        made.append(Candidate(f"{modules[0]} in another slot", moved, minutes))
    return made


def _moved(configuration: Configuration, into: dict[str, str]) -> Configuration:
    """Return the configuration with parts in other places, and so reseated."""
    kept = tuple((place, tag) for place, tag in configuration.places if tag not in into)
    places = kept + tuple((place, tag) for tag, place in into.items())
    treated = tuple(dict.fromkeys((*configuration.treated, *into)))
    return replace(configuration, places=tuple(sorted(places)), treated=treated)


def _with(configuration: Configuration, tags: tuple[str, ...]) -> Configuration:
    return replace(
        configuration, tags=tags, places=tuple((place, tag) for place, tag in configuration.places if tag in tags)
    )


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
    again = hours_before(posterior, evidence, evidence.book.trials[-1].configuration, loads)
    best: list[NextTrial] = []
    quiet: dict[tuple[float, bool], Floats] = {}
    posterior = _likely_ones(posterior)
    targets = _targets(posterior, evidence.book.base)
    for candidate in options:
        same = candidate.configuration == evidence.book.trials[-1].configuration
        there = acts_in(posterior.faults, candidate.configuration)
        # a configuration leaves a fault whole, takes it out or leaves little of it: few shares, worked out once each
        by_fault = np.empty((len(there), len(loads), len(lengths)))
        for share in set(there.tolist()):
            if (share, same) not in quiet:
                before = again * share if same else None
                quiet[share, same] = np.stack(
                    [quiet_chances(posterior, left, paces * share * each / 60.0, before) for each in lengths], axis=2
                )
            by_fault[there == share] = quiet[share, same][there == share]
        trial = _best_run(posterior, candidate, by_fault, targets, (tuple(loads), lengths), overnight)
        best += [trial] if trial is not None else []
    return tuple(sorted(best, key=lambda trial: -trial.gain / cost_of(trial))[:most])


_NEGLIGIBLE = 1e-7


def _likely_ones(posterior: Posterior) -> Posterior:
    """Return the posterior without hypotheses that no trial could make likely: there are thousands of them."""
    kept = posterior.posterior > _NEGLIGIBLE
    weights = posterior.posterior[kept]
    return replace(posterior, members=posterior.members[kept], posterior=weights / weights.sum())


_TURNING_MINUTES = (30.0, 120.0)
_LEAST_TURN = 0.02


def turning_points(
    posterior: Posterior, evidence: Evidence, options: tuple[Candidate, ...], ways: tuple[Way, ...]
) -> dict[Way, str]:
    """Return for each way of being faulty the trial that would change most what is thought of it, and how, in words.

    That is the one after which the least uncertainty about this very suspect is left for its cost."""
    loads = loads_for(evidence)
    paces, left = hours_of(posterior, evidence, loads), strengths_left(posterior)
    likely = _likely_ones(posterior)
    of_way = np.array([[way_of(fault) == way for fault in posterior.faults] + [False] for way in ways])
    chosen = (of_way[:, likely.members[:, 0]] | of_way[:, likely.members[:, 1]]).astype(np.float64)
    now = chosen @ likely.posterior
    runs = [(load, minutes) for minutes in _TURNING_MINUTES for load in loads]
    hours = np.concatenate([paces * minutes / 60.0 for minutes in _TURNING_MINUTES], axis=1)
    best: dict[Way, tuple[float, str]] = {}
    quiet: dict[float, Floats] = {}
    for candidate in options:
        there = acts_in(posterior.faults, candidate.configuration)
        by_fault = np.empty(hours.shape)
        for share in set(there.tolist()):
            if share not in quiet:
                quiet[share] = quiet_chances(posterior, left, hours * share)
            by_fault[there == share] = quiet[share][there == share]
        clean = likely.posterior[:, None] * _clean_chances(likely, by_fault)
        ends_clean, and_so = clean.sum(axis=0), chosen @ clean
        if_clean = and_so / np.maximum(ends_clean, 1e-300)
        if_found = (now[:, None] - and_so) / np.maximum(1.0 - ends_clean, 1e-300)
        turn = _unsure(now)[:, None] - ends_clean * _unsure(if_clean) - (1.0 - ends_clean) * _unsure(if_found)
        cost = np.array([minutes + _ATTENDED * (candidate.minutes + _LOOK_MINUTES) for _, minutes in runs])
        for row, way in enumerate(ways):
            number = int((turn[row] / cost).argmax())
            value = float(turn[row, number] / cost[number])
            if turn[row, number] >= _LEAST_TURN * _unsure(now)[row] and value > best.get(way, (0.0, ""))[0]:
                load, minutes = runs[number]
                chances = percent(float(np.clip(if_found[row, number], 0, 1))), percent(float(if_clean[row, number]))
                words = f"{candidate.title}, {minutes:.0f} min of {load}: {chances[0]} if it fails, {chances[1]} if not"
                best[way] = (value, words)
    return {way: words for way, (_, words) in best.items()}


def _unsure(chance: Floats) -> Floats:
    """Return the bits that are missing to know whether something is so."""
    sure = np.clip(chance, 1e-12, 1.0 - 1e-12)
    return np.asarray(-(sure * np.log2(sure) + (1.0 - sure) * np.log2(1.0 - sure)))


def starting_trials(
    posterior: Posterior, evidence: Evidence, options: tuple[Candidate, ...], most: int = 3
) -> tuple[NextTrial, ...]:
    """Return for a machine that does not start the swaps after which starting or not says most, best first."""
    tried = dead_configurations(evidence)
    stopping = stopping_chances(posterior.table.states)
    likely = _likely_ones(posterior)
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


def dead_configurations(evidence: Evidence) -> frozenset[Configuration]:
    """Return the configurations in which the machine did not start."""
    dead_runs = {each.run for each in evidence.findings if each.kind is FindingKind.NO_START}
    return frozenset(
        trial.configuration
        for trial in evidence.book.trials
        if dead_runs & set(trial.runs) or any(outcome.ended is Ended.NO_START for outcome in trial.outcomes)
    )


def cost_of(trial: NextTrial) -> float:
    """Return what a trial costs, in minutes that a machine runs by itself."""
    run = _NIGHT_COST if trial.overnight else trial.run_minutes + _RUN_OVERHEAD_MINUTES
    return run + _ATTENDED * (trial.candidate.minutes + _LOOK_MINUTES)


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
        _name(fault) if not fault.mode.harmless and acts_under(fault, base) >= 0.5 else "" for fault in posterior.faults
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


_FACTORS = ((1.0 / 3.0, HIDDEN_WEIGHT), (1.0, 1.0 - 2.0 * HIDDEN_WEIGHT), (3.0, HIDDEN_WEIGHT))


def quiet_chances(posterior: Posterior, left: Floats, paced: Floats, before: Floats | None = None) -> Floats:
    """Return for each fault the chance that it shows nothing in each run: (F, R).

    `left` (F, K) is how strong each fault is by the evidence so far, `paced` (F, R) the hours at reference conditions;
    how hard the load strains it is not known exactly. `before` (F, R) are the hours that the same load has already run
    in the same configuration: what it has not shown then it will hardly show in as much more.
    """
    strengths = posterior.table.strengths
    if before is None or not before.any():
        showing = np.exp(-paced[:, :, None] * posterior.table.padded[:, None, :])
        return np.asarray(np.matmul(showing, widened(left)[:, :, None])[:, :, 0])
    chances = np.zeros(paced.shape)
    for column in range(paced.shape[1]):
        so_far, further = before[:, [column]], paced[:, [column]]
        then = sum(w * np.exp(-f * (so_far + further) * strengths) for f, w in _FACTORS)
        now = sum(w * np.exp(-f * so_far * strengths) for f, w in _FACTORS)
        chances[:, column] = (left * then / np.maximum(now, 1e-300)).sum(axis=1)
    return chances


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


def _clean_chances(posterior: Posterior, quiet: Floats) -> Floats:
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
    attended = _ATTENDED * (candidate.minutes + _LOOK_MINUTES) + _RUN_OVERHEAD_MINUTES
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
    joint_clean = posterior.posterior[:, None] * _clean_chances(posterior, quiet)
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
