"""Faults and evidence as arrays: how often each fault would show each group of findings, and in how much time.

The signs of a finding (which slot, which drive, which bit, wrong again when repeated) scale its rate under each fault.
"""

from collections.abc import Sequence

import numpy as np

from thresher.diagnosis.evidence import (
    Again,
    Cell,
    Evidence,
    Floats,
    Group,
    Piece,
    Sign,
    configuration_of,
    grid_of,
    logged_share,
    rate_factor,
)
from thresher.diagnosis.faults import Fault, acts_in
from thresher.diagnosis.knowledge import Knowledge, Mode, Spread
from thresher.diagnosis.likelihood import (
    CERTAIN_SHIFT,
    HIDDEN_SHIFT,
    OUTSIDE_SHIFT,
    FaultTable,
    States,
    Whole,
    no_states,
)
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import ANOTHER_SLOT, Configuration
from thresher.model.verdict import EVERYDAY_USE

_LANES = 64
_LANE_KEPT = 0.9
"""How surely a fault of one bit lane keeps to it, and not to a neighbour as well; the makers' judgement."""
_STRAY_WORD = 0.001
"""How likely stray particles hit a word twice."""
_ELSEWHERE = 0.01
"""How likely a module's wrong words seem to lie in another slot: addresses can be put down wrongly."""
_SURE_SIGN = 0.9
"""How far the shares of signs are known; the rest says nothing. The makers' judgement."""


def table_of(faults: Sequence[Fault], pieces: Sequence[Piece], evidence: Evidence, knowledge: Knowledge) -> FaultTable:
    """Return all faults and all evidence as arrays."""
    groups = [(number, group) for number, piece in enumerate(pieces) for group in piece.groups]
    spent = [(number, cell, minutes) for number, piece in enumerate(pieces) for cell, minutes in piece.minutes]
    cells = list(dict.fromkeys([group.cell for _, group in groups] + [cell for _, cell, _ in spent]))
    there = _there(faults, cells, evidence)
    column = {cell: number for number, cell in enumerate(cells)}
    of_group = np.array([column[group.cell] for _, group in groups], dtype=np.intp)
    rates = there[:, of_group] * _shown_shares(faults, [group for _, group in groups], evidence)
    expected = np.zeros((len(faults), len(pieces)))
    logged = {
        load: np.array([logged_share(fault.mode, load) for fault in faults])
        for load in dict.fromkeys(cell.load for _, cell, _ in spent)
    }
    for number, cell, minutes in spent:
        expected[:, number] += there[:, column[cell]] * logged[cell.load] * minutes / 60.0
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
    """Merge groups that look the same to every fault: return which to keep, and their counts."""
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


def _there(faults: Sequence[Fault], cells: Sequence[Cell], evidence: Evidence) -> Floats:
    """Return how fast findings of each fault come in each cell, for strength 1 (F, C): 0 where its part was out."""
    modes = {fault.mode.name: fault.mode for fault in faults}
    paces = {name: np.array([rate_factor(mode, cell) for cell in cells]) for name, mode in modes.items()}
    there = np.array([paces[fault.mode.name] for fault in faults]).reshape(len(faults), len(cells))
    named = frozenset(fault.core for fault in faults if fault.core is not None)
    for trial in dict.fromkeys(cell.trial for cell in cells):
        left = acts_in(faults, configuration_of(evidence, trial))
        there[:, [cell.trial == trial for cell in cells]] *= left[:, None]
    for number, cell in enumerate(cells):
        if cell.cores:
            there[:, number] *= [_strained_share(fault, cell, named, evidence.cores) for fault in faults]
    return there


def _shown_shares(faults: Sequence[Fault], groups: Sequence[Group], evidence: Evidence) -> Floats:
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
        self.configuration = configuration_of(evidence, trial)
        kinds = {part.tag: part.kind for part in evidence.book.parts}
        tags = self.configuration.tags if self.configuration is not None else ()
        self._kinds = [kinds.get(tag) for tag in tags]

    def of(self, kind: PartKind) -> int:
        """Return how many parts of a kind are installed, as many as usual where no book says."""
        return self._kinds.count(kind) or (_MODULES if kind is PartKind.MEMORY else 1)


def _states(faults: Sequence[Fault], pieces: Sequence[Piece], evidence: Evidence) -> States:
    """Return in which configurations the machine started and in which not, and what of each fault was in them."""
    mine = [(number, piece.state) for number, piece in enumerate(pieces) if piece.state is not None]
    if not mine:
        return no_states(len(faults))
    acts = np.column_stack([acts_in(faults, configuration_of(evidence, state.trial)) for _, state in mine])
    return States(
        acts,
        np.array([state.dead for _, state in mine], dtype=np.bool_),
        np.array([state.trust for _, state in mine]),
        np.array([number for number, _ in mine], dtype=np.intp),
        np.array([fault.mode.no_start for fault in faults]),
    )


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
