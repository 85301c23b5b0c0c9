"""Suspects by enumeration: nothing faulty, each way of being faulty of each part and place, and pairs of them.

Model. Each faulty part has one unknown strength, findings per hour at reference conditions, log-normal over
a grid; it stays with the part through all trials. In a cell of evidence (a block at one band of temperature, on one
configuration) findings of kind k come as a Poisson process of rate

    strength * sensitivity(mode, load) * heat(mode, temperature) * shows(mode, k) + background(k)

of each faulty part that was installed then, and fall on cores as the mode says: always one, or any. A fault of a place
(a slot of the board) acts while something sits in that place. Minutes without a finding enter through the same rates.
Storms count little more than their first few. The likelihood is summed over the grid of strengths and over what is not
known of how hard each load strained it (`likelihood.py`).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import (
    Again,
    Cell,
    Evidence,
    Floats,
    Group,
    Piece,
    Sign,
    grid_of,
    logged_share,
    pieces_of,
    rate_factor,
    signs_of,
)
from thresher.diagnosis.knowledge import Action, Knowledge, Mode, Spread
from thresher.diagnosis.likelihood import (
    CERTAIN_SHIFT,
    HIDDEN_SHIFT,
    OUTSIDE_SHIFT,
    Explained,
    FaultTable,
    States,
    Whole,
    explain,
    log_sum,
    no_states,
)
from thresher.model.findings import FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.trials import ANOTHER_SLOT, EMPTY_BOOK, Book, BookPart, Configuration
from thresher.model.verdict import EVERYDAY_USE, Reason, Suspect

DECIBANS = 10.0 / math.log(10.0)
"""Natural log odds times this give tenths of a ban: 10 is ten to one, 20 a hundred to one."""

_MOST_CORES = 6
_MOST_TRIED_CORES = 8
"""Up to this many loaded cores are kept one by one; of more, only how many there were."""
_TINY = 1e-300
"""Odds are not known beyond this: it stands for what underflows."""
_LANES = 64
_LANE_KEPT = 0.9
"""How surely a fault of one bit lane keeps to it, and not to a neighbour as well; the makers' judgement."""
_STRAY_WORD = 0.001
"""How likely stray particles hit a word twice."""
_ELSEWHERE = 0.01
"""How likely a module's wrong words seem to lie in another slot: addresses can be put down wrongly."""
_STILL_THERE = 0.5
"""A fault of which less is left in a configuration counts as gone."""
_OUT = ", gone as it is to be handed back"
_BAD_SHOP_PART = 0.05
"""How many known-good parts of a shop are none; the makers' judgement."""
_SURE_SIGN = 0.9
"""How far the shares of signs are known; the rest says nothing. The makers' judgement."""
_TREATED_FACTOR = 0.03
"""How many faults that dust or contact cause are left after cleaning or reseating; the makers' judgement."""


@dataclass(frozen=True, slots=True)
class Fault:
    """A way of being faulty of one part, and for one that stays on a core, which (None: one where nothing was seen).

    `tag` is the part's, empty when no book is kept: then it is the machine's own and always in it. `needs` is the tag
    that must be installed for it to act: the part's own, and for settings and places that of the board that has them.
    `place` is the slot that a fault of a place is bound to, where slots are known. `ours` marks a part of the shop.
    `withstands` says whether it is one that cleaning or reseating does not mend, None where that was not tried.
    """

    mode: Mode
    core: int | None
    log_prior: float
    tag: str = ""
    needs: str = ""
    place: str = ""
    ours: bool = False
    withstands: bool | None = None


@dataclass(frozen=True, slots=True)
class Posterior:
    """All hypotheses with what they are worth: `faults`, `hypotheses` as tuples of their numbers, log priors (H),
    prefixes of log posterior weights (H, P + 1), the posterior (H), and what the likelihood was made from. `members`
    (H, 2) are the numbers of the faults of each hypothesis, that of no fault (F) where there are fewer. `jobs` is how
    many closed jobs of the shop stand behind the priors.
    """

    faults: tuple[Fault, ...]
    hypotheses: tuple[tuple[int, ...], ...]
    prefixes: Floats
    posterior: Floats
    pieces: tuple[Piece, ...]
    explained: Explained
    table: FaultTable
    members: Whole
    jobs: int = 0


def counted(evidence: Evidence) -> Evidence:
    """Return the evidence without what is only a note."""
    return replace(evidence, findings=tuple(each for each in evidence.findings if each.severity is not Severity.NOTE))


def compute_posterior(evidence: Evidence, knowledge: Knowledge) -> Posterior:
    """Work out what every hypothesis is worth."""
    pieces = pieces_of(evidence)
    faults = _faults(evidence, knowledge, _observed_cores(evidence))
    table = _table(faults, pieces, evidence, knowledge)
    pairs = _pairs(faults)
    priors = np.array([fault.log_prior for fault in faults])
    rare = math.log(knowledge.weights.together)
    # strays and bad parts of the shop come to sound and faulty machines alike, so that beside them a fault is as common
    anyway = -math.log(knowledge.weights.nothing)
    by_itself = np.array([fault.mode.harmless or fault.ours for fault in faults], dtype=np.bool_)
    dirt = np.array([fault.mode.action is Action.CLEAN for fault in faults], dtype=np.bool_)
    together = np.where(dirt[pairs].any(axis=1), math.log(knowledge.weights.dirt), rare)
    of_pairs = priors[pairs].sum(axis=1) + np.where(by_itself[pairs].any(axis=1), anyway, together)
    explained = explain(table, pairs, of_pairs)
    log_prior = np.concatenate(([math.log(knowledge.weights.nothing)], priors, of_pairs))
    likelihood = np.vstack((explained.none, explained.one, explained.two))
    prefixes = log_prior[:, None] + np.hstack((np.zeros((len(log_prior), 1)), likelihood))
    posterior = np.exp(prefixes[:, -1] - log_sum(prefixes[:, -1]))
    hypotheses = ((), *((number,) for number in range(len(faults))), *map(tuple, pairs.tolist()))
    healthy = len(faults)
    alone = np.column_stack((np.arange(healthy), np.full(healthy, healthy)))
    members = np.vstack(([[healthy, healthy]], alone, pairs)).astype(np.intp)
    return Posterior(
        tuple(faults), hypotheses, prefixes, posterior, tuple(pieces), explained, table, members, knowledge.jobs
    )


def _pairs(faults: list[Fault]) -> Whole:
    """Return the numbers of all pairs of faults (N, 2), but for one part faulty twice in the same way."""
    names: dict[tuple[str, str, str], int] = {}
    ways = np.array([names.setdefault(way_of(fault), len(names)) for fault in faults], dtype=np.intp)
    first, second = np.triu_indices(len(faults), 1)
    differ = ways[first] != ways[second]
    return np.column_stack((first[differ], second[differ])).astype(np.intp)


def chance_by_fault(posterior: Posterior) -> Floats:
    """Return the probability of each fault (F), alone or beside another."""
    chances = np.zeros(len(posterior.faults) + 1)
    for column in (0, 1):
        np.add.at(chances, posterior.members[:, column], posterior.posterior)
    return chances[:-1]


Way = tuple[str, str, str]
"""The name of a mode, the tag of a part, the slot of a fault of a place."""


def table_of(faults: list[Fault], evidence: Evidence, knowledge: Knowledge) -> FaultTable:
    """Return the table of some evidence for faults that are known."""
    return _table(faults, pieces_of(evidence), evidence, knowledge)


def way_of(fault: Fault) -> Way:
    """Return what tells a way of being faulty of one part or place from others, whichever core it is on."""
    return fault.mode.name, fault.tag, fault.place


def of_kinds(posterior: Posterior, book: Book) -> Posterior:
    """Return what is known of kinds of parts before anything was tried, from what is known of each part in a book.

    Nothing distinguishes the machine's own parts of one kind then, except drives, which the kernel names; and a part of
    the shelf was not in the machine."""
    shelf = {part.tag for part in book.parts if part.known_good}
    absent = np.array([*(fault.tag in shelf for fault in posterior.faults), True])
    unnamed = tuple(
        fault if fault.mode.part is PartKind.DRIVE and fault.tag not in shelf else replace(fault, tag="", needs="")
        for fault in posterior.faults
    )
    members = np.where(absent[posterior.members], len(unnamed), posterior.members)
    return replace(posterior, faults=unnamed, members=members)


def shown_kinds(knowledge: Knowledge) -> frozenset[FindingKind]:
    """Return the kinds of findings that some way of being faulty shows."""
    return frozenset(kind for mode in knowledge.modes for kind in mode.shows)


def _observed_cores(evidence: Evidence) -> list[int]:
    counts: dict[int, int] = {}
    for finding in evidence.findings:
        if finding.core is not None:
            counts[finding.core] = counts.get(finding.core, 0) + 1
    seen = sorted(counts, key=lambda core: -counts[core])[:_MOST_CORES]
    on = [*(each.cores for each in evidence.findings), *(each.cores for each in evidence.exposures)]
    parts = sorted((cores for cores in on if cores), key=len)
    tried = dict.fromkeys(core for cores in parts if len(cores) <= _MOST_TRIED_CORES for core in cores)
    return list(dict.fromkeys((*seen, *tried)))[: max(len(seen), _MOST_TRIED_CORES)]


def _faults(evidence: Evidence, knowledge: Knowledge, cores: list[int]) -> list[Fault]:
    factors: dict[str, float] = {}
    for symptom in knowledge.symptoms:
        if symptom.text in evidence.symptoms:
            for name, factor in symptom.factors.items():
                factors[name] = factors.get(name, 1.0) * factor
    own_board = next(
        (part.tag for part in evidence.book.parts if part.kind is PartKind.BOARD and not part.known_good), ""
    )
    absent = _absent(evidence)
    faults: list[Fault] = []
    for mode in knowledge.modes:
        there = _spoken_of(mode, evidence) if mode.checked else mode.part not in absent
        if not there:
            continue
        prior = math.log(mode.prior * factors.get(mode.name, 1.0))
        if mode.moves:
            places = _places_of(evidence, mode)
            faults += [Fault(mode, None, prior - math.log(len(places)), "", own_board, place) for place in places]
        elif mode.of_settings or mode.harmless or mode.item:
            faults += _on_cores(mode, prior, "", own_board if mode.of_settings else "", evidence, cores)
        else:
            faults += _of_parts(mode, prior, evidence, knowledge, cores)
    return [variant for fault in faults for variant in _variants(fault, evidence)]


def _variants(fault: Fault, evidence: Evidence) -> list[Fault]:
    """Return a fault that was treated in some trial twice: as one that this mends, and as one that it does not."""
    tried = any(each.configuration.is_treated(fault.tag, fault.mode.part) for each in evidence.book.trials)
    if not fault.mode.treatable or not tried:
        return [fault]
    return [
        replace(fault, withstands=False, log_prior=fault.log_prior + math.log(1.0 - _TREATED_FACTOR)),
        replace(fault, withstands=True, log_prior=fault.log_prior + math.log(_TREATED_FACTOR)),
    ]


def _of_parts(mode: Mode, prior: float, evidence: Evidence, knowledge: Knowledge, cores: list[int]) -> list[Fault]:
    """Return the faults of each part of a kind, the shop's own among them."""
    faults: list[Fault] = []
    own = sum(each.kind is mode.part and not each.known_good for each in evidence.book.parts)
    for part in _parts_of(evidence, mode.part):
        tag = part.tag if part is not None else ""
        if part is not None and part.known_good:
            # it was not in the machine when the customer saw what is reported
            share = _shares_of_parts(knowledge)[mode.name]
            odds = _BAD_SHOP_PART / (1.0 - _BAD_SHOP_PART) * share * knowledge.weights.nothing
            faults += [replace(each, ours=True) for each in _on_cores(mode, math.log(odds), tag, tag, evidence, cores)]
        else:
            # a machine's own parts of a kind share what is known of the kind: one of two modules, half each
            each_of = prior - math.log(own) if part is not None else prior
            faults += _on_cores(mode, each_of, tag, tag, evidence, cores)
    return faults


def _shares_of_parts(knowledge: Knowledge) -> dict[str, float]:
    """Return how common each way of being faulty is among those of its kind of part that go with the part itself."""
    mine = [m for m in knowledge.modes if not (m.of_settings or m.harmless or m.item or m.moves or m.checked)]
    totals: dict[PartKind, float] = {}
    for mode in mine:
        totals[mode.part] = totals.get(mode.part, 0.0) + mode.prior
    return {mode.name: mode.prior / totals.get(mode.part, mode.prior) for mode in knowledge.modes}


_MEMORY_SLOT = "memory slot"


def _places_of(evidence: Evidence, mode: Mode) -> tuple[str, ...]:
    """Return the places that a fault of a place may be in: the memory slots that were used, else one unnamed."""
    if mode.moves != _MEMORY_SLOT:
        return ("",)
    modules = {part.tag for part in evidence.book.parts if part.kind is PartKind.MEMORY}
    used = [place for trial in evidence.book.trials for place, tag in trial.configuration.places if tag in modules]
    return tuple(dict.fromkeys(place for place in used if place and place != ANOTHER_SLOT)) or ("",)


_OF_GRAPHICS = frozenset({PartKind.GRAPHICS, PartKind.DISPLAY})


def _spoken_of(mode: Mode, evidence: Evidence) -> bool:
    """Whether a check that can show a mode has passed, or something that it shows was found."""
    return any(mode.loads.get(each.load, 0.0) > 0 for each in evidence.exposures) or any(
        finding.kind in mode.shows for finding in evidence.findings
    )


def _absent(evidence: Evidence) -> frozenset[PartKind]:
    """Return the kinds that the machine does not have, by a book that lists its parts.

    Every card is listed; a display may hang on one without being known, so it is there wherever a card is."""
    parts = evidence.book.parts
    has_card = any(part.kind is PartKind.GRAPHICS and not part.known_good for part in parts)
    seen = any(finding.part is PartKind.GRAPHICS for finding in evidence.findings)
    return frozenset() if not parts or has_card or seen else _OF_GRAPHICS


def _parts_of(evidence: Evidence, kind: PartKind) -> tuple[BookPart | None, ...]:
    """Return the parts of a kind in the book; the machine's own one, unnamed, where the book has none."""
    mine = tuple(part for part in evidence.book.parts if part.kind is kind)
    return mine or (None,)


def _on_cores(mode: Mode, prior: float, tag: str, needs: str, evidence: Evidence, cores: list[int]) -> list[Fault]:
    if mode.places is not Spread.ONE_CORE:
        return [Fault(mode, None, prior, tag, needs)]
    count = max(evidence.cores, len(cores), 1)
    faults = [Fault(mode, core, prior - math.log(count), tag, needs) for core in cores]
    if count > len(cores):
        faults.append(Fault(mode, None, prior + math.log((count - len(cores)) / count), tag, needs))
    return faults


def acts_under(fault: Fault, configuration: Configuration | None) -> float:
    """Return how much of a fault is left in a configuration: 1 with its part in as it was, 0 with the part out."""
    if configuration is None:
        return 1.0
    if fault.mode.of_settings and fault.mode.part in configuration.stock:
        return 0.0
    if fault.needs and fault.needs not in configuration.tags:
        return 0.0
    if fault.mode.item and fault.mode.item in configuration.treated:
        return 0.0
    if fault.mode.moves:
        if fault.place:
            return float(any(place == fault.place for place, _ in configuration.places))
        return float(fault.mode.moves not in configuration.treated)
    if fault.mode.treatable and configuration.is_treated(fault.tag, fault.mode.part):
        return _TREATED_FACTOR if fault.withstands is None else float(fault.withstands)
    return 1.0


def _table(faults: list[Fault], pieces: list[Piece], evidence: Evidence, knowledge: Knowledge) -> FaultTable:
    groups = [(number, group) for number, piece in enumerate(pieces) for group in piece.groups]
    spent = [(number, cell, minutes) for number, piece in enumerate(pieces) for cell, minutes in piece.minutes]
    cells = list(dict.fromkeys([group.cell for _, group in groups] + [cell for _, cell, _ in spent]))
    there = _there(faults, cells, evidence)
    column = {cell: number for number, cell in enumerate(cells)}
    of_group = np.array([column[group.cell] for _, group in groups], dtype=np.intp)
    rates = there[:, of_group] * _shown_shares(faults, [group for _, group in groups], evidence)
    expected = np.zeros((len(faults), len(pieces)))
    for number, cell, minutes in spent:
        logged = np.array([logged_share(fault.mode, cell.load) for fault in faults])
        expected[:, number] += there[:, column[cell]] * logged * minutes / 60.0
    stints = list(dict.fromkeys((cell.trial, cell.load) for cell in cells))
    stint_of = {stint: number for number, stint in enumerate(stints)}
    of_piece = [next((stint_of[c.trial, c.load] for c, _ in piece.minutes), 0) for piece in pieces]
    grids = {fault.mode.name: grid_of(fault.mode) for fault in faults}
    owner = np.array([number for number, _ in groups], dtype=np.intp)
    counts = {trial: _Counts(evidence, trial) for trial in {group.cell.trial for _, group in groups}}
    quiet = np.array([_quiet(group, counts[group.cell.trial], evidence, knowledge) for _, group in groups])
    stint = np.array([stint_of[group.cell.trial, group.cell.load] for _, group in groups], dtype=np.intp)
    worth = np.array([group.worth for _, group in groups])
    kept, worth = _alike(rates, quiet, stint, owner, worth)
    return FaultTable(
        rates[:, kept],
        expected,
        np.array([grids[fault.mode.name][0] for fault in faults]),
        np.array([grids[fault.mode.name][1] for fault in faults]),
        worth,
        owner[kept],
        quiet[kept],
        stint[kept],
        np.array(of_piece, dtype=np.intp),
        np.array([shift_of(load, knowledge) for _, load in stints], dtype=np.intp),
        _states(faults, pieces, evidence),
        tuple(stints),
    )


def shift_of(load: str, knowledge: Knowledge) -> int:
    """Return by how many points of the grid the hidden factors of a load lie aside."""
    if load in (EVERYDAY_USE, ""):
        return OUTSIDE_SHIFT
    return CERTAIN_SHIFT if any(mode.checked and load in mode.loads for mode in knowledge.modes) else HIDDEN_SHIFT


def _alike(rates: Floats, quiet: Floats, stint: Whole, owner: Whole, worth: Floats) -> tuple[Whole, Floats]:
    """Return which groups are worth keeping, and what they count, when groups that no fault tells apart are one."""
    first: dict[tuple[bytes, float, int, int], int] = {}
    kept: list[int] = []
    together: list[float] = []
    for number in range(len(worth)):
        key = (rates[:, number].tobytes(), float(quiet[number]), int(stint[number]), int(owner[number]))
        if key not in first:
            first[key] = len(kept)
            kept.append(number)
            together.append(0.0)
        together[first[key]] += float(worth[number])
    return np.array(kept, dtype=np.intp), np.array(together)


def _there(faults: list[Fault], cells: list[Cell], evidence: Evidence) -> Floats:
    """Return how fast findings of each fault come in each cell, for strength 1 (F, C): 0 where its part was out."""
    modes = {fault.mode.name: fault.mode for fault in faults}
    paces = {name: np.array([rate_factor(mode, cell) for cell in cells]) for name, mode in modes.items()}
    there = np.array([paces[fault.mode.name] for fault in faults]).reshape(len(faults), len(cells))
    named = frozenset(fault.core for fault in faults if fault.core is not None)
    for trial in dict.fromkeys(cell.trial for cell in cells):
        left = acts_in(faults, _configuration(evidence, trial))
        there[:, [cell.trial == trial for cell in cells]] *= left[:, None]
    for number, cell in enumerate(cells):
        if cell.cores:
            there[:, number] *= [_strained_share(fault, cell, named, evidence.cores) for fault in faults]
    return there


def acts_in(faults: Sequence[Fault], configuration: Configuration | None) -> Floats:
    """Return how much of each fault is left in a configuration (F)."""
    return np.array([acts_under(fault, configuration) for fault in faults])


def _shown_shares(faults: list[Fault], groups: list[Group], evidence: Evidence) -> Floats:
    """Return which share of each fault's findings is of the kind, core and sign of each group (F, G)."""
    modes = {fault.mode.name: fault.mode for fault in faults}
    row = {name: number for number, name in enumerate(modes)}
    mode_of = np.array([row[fault.mode.name] for fault in faults], dtype=np.intp)
    on_one = np.array([fault.mode.places is Spread.ONE_CORE for fault in faults], dtype=np.bool_)
    core_of = np.array([-1 if fault.core is None else fault.core for fault in faults], dtype=np.intp)
    any_core = 1.0 / max(evidence.cores, 1)
    counts = {trial: _Counts(evidence, trial) for trial in {group.cell.trial for group in groups}}
    by_mode: dict[tuple[FindingKind, Sign], Floats] = {}
    placed: dict[tuple[FindingKind, Sign, int], Floats] = {}
    shares = np.zeros((len(faults), len(groups)))
    for column, group in enumerate(groups):
        key = (group.kind, group.sign)
        if key not in by_mode:
            by_mode[key] = np.array([_shown_share(mode, group) * _sign_share(mode, group) for mode in modes.values()])
        mine = by_mode[key][mode_of]
        if group.core is not None:
            mine = mine * np.where(on_one, core_of == group.core, any_core)
        if group.sign.slot or group.sign.part is not None:
            where = (*key, group.cell.trial)
            if where not in placed:
                there = counts[group.cell.trial]
                placed[where] = np.array([_place_share(fault, group, there) for fault in faults])
            mine = mine * placed[where]
        shares[:, column] = mine
    return shares


class _Counts:
    """What was installed in a trial, and how many of each kind of part."""

    def __init__(self, evidence: Evidence, trial: int) -> None:
        self.configuration = _configuration(evidence, trial)
        kinds = {part.tag: part.kind for part in evidence.book.parts}
        tags = self.configuration.tags if self.configuration is not None else ()
        self._kinds = [kinds.get(tag) for tag in tags]

    def of(self, kind: PartKind) -> int:
        """Return how many parts of a kind are installed, as many as usual where no book says."""
        return self._kinds.count(kind) or (_MODULES if kind is PartKind.MEMORY else 1)


def _states(faults: list[Fault], pieces: list[Piece], evidence: Evidence) -> States:
    """Return in which configurations the machine started and in which not, and what of each fault was in them."""
    mine = [(number, piece.state) for number, piece in enumerate(pieces) if piece.state is not None]
    if not mine:
        return no_states(len(faults))
    acts = np.column_stack([acts_in(faults, _configuration(evidence, state.trial)) for _, state in mine])
    return States(
        acts,
        np.array([state.dead for _, state in mine], dtype=np.bool_),
        np.array([state.trust for _, state in mine]),
        np.array([number for number, _ in mine], dtype=np.intp),
        np.array([fault.mode.no_start for fault in faults]),
    )


def _configuration(evidence: Evidence, trial: int) -> Configuration | None:
    """Return what was installed in a trial, None when no book is kept."""
    trials = evidence.book.trials
    return trials[trial].configuration if trial < len(trials) else None


def _strained_share(fault: Fault, cell: Cell, named: frozenset[int], cores: int) -> float:
    """Return how likely a load that ran on some of the cores strained a fault that stays on one."""
    if not cell.cores or fault.mode.places is not Spread.ONE_CORE:
        return 1.0
    if fault.core is not None:
        return 1.0 if fault.core in cell.cores else 0.0
    others = max(cores - len(named), 1)
    return min(1.0, sum(core not in named for core in cell.cores) / others)


_WRONG_DATA = (
    frozenset({FindingKind.WRONG_RESULT, FindingKind.MEMORY_WRONG}),
    frozenset({FindingKind.CARD_RESULT, FindingKind.CARD_PIXEL, FindingKind.CARD_MEMORY, FindingKind.CARD_TRANSFER}),
)
"""Kinds that are one thing under different loads: data that went wrong, in the machine and in a graphics card."""


def _shown_share(mode: Mode, group: Group) -> float:
    """Return in which share of its findings a mode shows as this kind.

    Data that went wrong show as words of memory under a load of memory and as results under the others, whatever it
    was that spoilt them."""
    if group.sign.kinds:
        return sum(share * mode.shows.get(kind, 0.0) for kind, share in group.sign.kinds)
    for kinds in _WRONG_DATA:
        if group.kind in kinds:
            return sum(mode.shows.get(kind, 0.0) for kind in kinds)
    return mode.shows.get(group.kind, 0.0)


_MODULES = 2
"""How many memory modules there are where no book says."""


def _device_share(fault: Fault, group: Group, configuration: Configuration | None, devices: int) -> float:
    """Return which share of a fault's findings of a kind names this drive or card, of so many."""
    if fault.mode.part is group.sign.part and not fault.mode.of_settings and configuration is not None:
        return 1.0 if configuration.place_of(fault.tag) in ("", ANOTHER_SLOT, group.sign.device) else _ELSEWHERE
    return 1.0 / devices


def _sign_share(mode: Mode, group: Group) -> float:
    """Return which share of a mode's findings of a kind has this sign, wherever its part is."""
    sign, share = group.sign, 1.0
    if sign.steady is not None:
        steady = mode.steady_words if group.kind is FindingKind.MEMORY_WRONG else mode.steady_results
        steady = _SURE_SIGN * steady + (1.0 - _SURE_SIGN) * 0.5
        share *= steady if sign.steady else 1.0 - steady
    if sign.lane is not None:
        kept = _LANE_KEPT if mode.places is Spread.ONE_LANE else 1.0 / _LANES
        share *= kept if sign.lane is Again.SAME else 1.0 - kept
    if sign.word is not None:
        share *= mode.same_words if sign.word is Again.SAME else 1.0 - mode.same_words
    return share


def _place_share(fault: Fault, group: Group, there: _Counts) -> float:
    """Return which share of a fault's findings is in the slot, or names the device, that a group's does."""
    sign, mode, share, configuration = group.sign, fault.mode, 1.0, there.configuration
    if sign.part is not None:
        share *= _device_share(fault, group, configuration, there.of(sign.part))
    if not sign.slot:
        return share
    if mode.part is PartKind.MEMORY and not mode.of_settings and configuration is not None:
        share *= 1.0 if configuration.place_of(fault.tag) in ("", ANOTHER_SLOT, sign.slot) else _ELSEWHERE
    elif fault.place:
        share *= 1.0 if fault.place == sign.slot else _ELSEWHERE
    elif mode.places is not Spread.ONE_LANE or sign.word is None:
        share /= there.of(PartKind.MEMORY)  # a way to the memory has one slot too: only the first is free to be in any
    return share


def _quiet(group: Group, there: _Counts, evidence: Evidence, knowledge: Knowledge) -> float:
    sign, share = group.sign, 1.0
    if sign.part is not None:
        share /= there.of(sign.part)
    if sign.steady is not None:
        share *= 0.5
    if sign.lane is not None:
        share *= 1.0 / _LANES if sign.lane is Again.SAME else 1.0 - 1.0 / _LANES
    if sign.word is not None:
        share *= _STRAY_WORD if sign.word is Again.SAME else 1.0 - _STRAY_WORD
    if sign.slot:
        share /= there.of(PartKind.MEMORY)
    kinds = sign.kinds or ((group.kind, 1.0),)
    background = sum(part * knowledge.background[kind] for kind, part in kinds)
    return background * share / (max(evidence.cores, 1) if group.core is not None else 1)


def _log_odds(prefixes: Floats, chosen: Floats) -> Floats:
    """Return the log odds of sets of hypotheses (S, H) against all others after 0, 1, 2 ... pieces: (S, P + 1)."""
    weights = np.exp(prefixes - prefixes.max(axis=0))
    for_it = chosen @ weights
    against = weights.sum(axis=0) - for_it
    return np.asarray(np.log(np.maximum(for_it, _TINY)) - np.log(np.maximum(against, _TINY)), dtype=np.float64)


def suspects_of(posterior: Posterior, evidence: Evidence, book: Book = EMPTY_BOOK) -> tuple[Suspect, ...]:
    """Return the suspects with probabilities and reasons, most likely first. `book` says where parts sit."""
    places = _one_place_each(evidence, book)
    named: dict[Way, Mode] = {way_of(fault): fault.mode for fault in posterior.faults if not fault.mode.harmless}
    numbers = {key: number for number, key in enumerate(named)}
    # the last column stands for no fault: nobody's
    owner = np.zeros((len(named), len(posterior.faults) + 1))
    for number, fault in enumerate(posterior.faults):
        if not fault.mode.harmless:
            owner[numbers[way_of(fault)], number] = 1.0
    chosen = np.maximum(owner[:, posterior.members[:, 0]], owner[:, posterior.members[:, 1]])
    # what is not in the machine as it is to be handed back does not make it faulty
    there = acts_in(posterior.faults, evidence.book.base)
    gone = np.array([fault.mode.harmless for fault in posterior.faults], dtype=np.bool_) | (there < _STILL_THERE)
    sound = np.append(gone, True)
    gone_now = [not fault.ours and left < _STILL_THERE for fault, left in zip(posterior.faults, there, strict=True)]
    # one that a treatment mends is gone by it, its twin that withstands it is not
    out = {way_of(f) for f, is_gone in zip(posterior.faults, gone_now, strict=True) if is_gone}
    out -= {way_of(f) for f, is_gone in zip(posterior.faults, gone_now, strict=True) if not is_gone}
    healthy = sound[posterior.members].all(axis=1).astype(np.float64)
    odds = _log_odds(posterior.prefixes, np.vstack((chosen, healthy)))
    by_fault = chance_by_fault(posterior)
    suspects = []
    for (name, tag, slot), mode in named.items():
        number = numbers[name, tag, slot]
        core = _likeliest_core(posterior, name, tag, by_fault) if mode.places is Spread.ONE_CORE else None
        place = f"core {core}" if core is not None else slot or places.get((mode.part, tag), "")
        suspects.append(
            Suspect(
                name,
                mode.title + (_OUT if (name, tag, slot) in out else ""),
                mode.part,
                tag or (mode.item if mode.action is Action.LOOK else mode.part.value),
                place,
                float((chosen[number] * posterior.posterior).sum()),
                _reasons(odds[number], posterior, evidence),
                mode.next_step,
                tag,
                core,
                (name, tag, slot) in out,
                slot=slot,
            )
        )
    suspects.append(
        Suspect(
            "nothing",
            "nothing faulty in the hardware",
            None,
            "",
            "",
            float((healthy * posterior.posterior).sum()),
            _reasons(odds[-1], posterior, evidence),
            "Longer, or another load",
        )
    )
    return tuple(sorted(suspects, key=lambda suspect: (suspect.gone, -suspect.probability)))


def _one_place_each(evidence: Evidence, book: Book) -> dict[tuple[PartKind, str], str]:
    """Return the place of each part of the book by its tag; without one that which all findings of a kind name."""
    places: dict[tuple[PartKind, str], str] = {}
    slots = {finding.place for finding in evidence.findings if finding.kind is FindingKind.MEMORY_WRONG}
    signs = signs_of(evidence.findings)
    named_of = {
        kind: {sign.device for sign in signs if sign.part is kind} for kind in (PartKind.DRIVE, PartKind.GRAPHICS)
    }
    for kind, named in ((PartKind.MEMORY, slots), *named_of.items()):
        if len(named) == 1:
            places[kind, ""] = next(iter(named))
    for part in book.parts:
        if part.kind is PartKind.MEMORY:
            places[part.kind, part.tag] = places.get((PartKind.MEMORY, ""), "")
        elif part.kind in named_of and book.trials:
            places[part.kind, part.tag] = book.trials[0].configuration.place_of(part.tag)
    return places


def _likeliest_core(posterior: Posterior, name: str, tag: str, by_fault: Floats) -> int | None:
    mine = [n for n, fault in enumerate(posterior.faults) if fault.mode.name == name and fault.tag == tag]
    return posterior.faults[max(mine, key=lambda number: by_fault[number])].core


def _reasons(log_odds: Floats, posterior: Posterior, evidence: Evidence) -> tuple[Reason, ...]:
    words = ", with what the customer reports" if evidence.symptoms else ""
    if posterior.jobs:
        words += f", by {posterior.jobs} closed job{'s' if posterior.jobs > 1 else ''} of this shop too"
    reasons = [Reason(f"how common it is{words}", float(log_odds[0]) * DECIBANS)]
    for piece, change in zip(posterior.pieces, np.diff(log_odds), strict=True):
        reasons.append(Reason(piece.text, float(change) * DECIBANS))
    return tuple(reasons)
