"""Suspects by exact enumeration: nothing faulty, each mode alone, and each pair of modes.

Model. Each faulty part has one unknown strength, findings an hour at reference conditions, log-normal over
a grid. In a cell of evidence (a block at one band of temperature) findings of kind k come as a Poisson
process of rate

    strength * sensitivity(mode, load) * heat(mode, temperature) * shows(mode, k) + background(k)

and fall on cores as the mode says: always one, or any. Minutes without a finding enter through the same
rates. Storms count little more than their first few. The likelihood is summed over the grid of strengths,
so that all cells hang together through the same part; strengths of a pair are summed over a grid each.
"""

import math
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
import numpy.typing as npt

from thresher.diagnosis.knowledge import Action, Knowledge, Mode, Spread
from thresher.diagnosis.stories import stories, unexplained
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind, PartStatus
from thresher.model.verdict import (
    EVERYDAY_USE,
    Exposure,
    HowLong,
    Reason,
    SeenRate,
    Suspect,
    Verdict,
    percent,
    suspect_title,
)

Floats = npt.NDArray[np.float64]

DECIBANS = 10.0 / math.log(10.0)
"""Natural log odds times this give tenths of a ban: 10 is ten to one, 20 a hundred to one."""

BAND_K = 5.0
"""Width of a band of temperature: minutes and findings within one are taken as under equal conditions."""

_SURE, _VERY_SURE = 0.95, 0.99
_LONGEST_HOURS = 1000.0
_GRID_POINTS = 19
_GRID_REACH = 2.5
_MOST_CORES = 6
_EVERYDAY_SHARE = 0.05
"""How hard everyday use strains a part, as a share of the load that strains it most; the makers' judgement."""
_PAIR_PENALTY = 0.5
"""Two independent faults at once are already rare by their priors; this leaves room for one causing the other."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """All that is known: findings, minutes of load, the number of cores, and what the customer says."""

    findings: tuple[Finding, ...]
    exposures: tuple[Exposure, ...]
    cores: int
    symptoms: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class _Cell:
    load: str
    temperature_c: float | None


@dataclass(frozen=True, slots=True)
class _Group:
    """Findings of one kind in one cell on one core, with the count that a storm is worth."""

    cell: _Cell
    kind: FindingKind
    core: int | None
    worth: float


@dataclass(frozen=True, slots=True)
class _Piece:
    """A piece of evidence that a technician would name: groups of findings, or minutes of a load."""

    text: str
    groups: tuple[_Group, ...] = ()
    minutes: tuple[tuple[_Cell, float], ...] = ()


@dataclass(frozen=True, slots=True)
class _Fault:
    """A mode, and for a mode that stays on one core, which (None: one on which nothing was seen)."""

    mode: Mode
    core: int | None
    log_prior: float


def _log_sum(values: Floats, axis: int | tuple[int, ...] | None = None) -> Floats:
    """Logarithm of a sum of exponentials."""
    return np.asarray(np.logaddexp.reduce(values, axis=axis), dtype=np.float64)


def band_of(temperature_c: float | None) -> float | None:
    """Return the middle of the band that a temperature falls in."""
    return None if temperature_c is None else (np.floor(temperature_c / BAND_K) + 0.5) * BAND_K


def storm_worth(count: int) -> float:
    """Return what a number of equal findings in one cell is worth: the first three in full, then by doublings."""
    return float(min(count, 3) + np.log2(1 + max(0, count - 3)))


def diagnose(evidence: Evidence, knowledge: Knowledge) -> Verdict:
    """Return the suspects with probabilities and reasons, most likely first."""
    counted = tuple(finding for finding in evidence.findings if finding.severity is not Severity.NOTE)
    evidence = replace(evidence, findings=counted)
    pieces = _pieces(evidence)
    faults = _faults(evidence, knowledge, _observed_cores(evidence))
    hypotheses: list[tuple[_Fault, ...]] = [(), *((fault,) for fault in faults)]
    hypotheses += [(a, b) for a, b in combinations(faults, 2) if a.mode is not b.mode]
    tables = {id(fault): _rates(fault, pieces, evidence.cores) for fault in faults}
    quiet = _background_rates(pieces, knowledge, evidence.cores)
    # likelihood of the first 0, 1, 2 ... pieces under each hypothesis: (hypotheses, pieces + 1)
    prefixes = np.array(
        [
            np.concatenate(([_log_prior(each)], _log_prior(each) + _prefix_likelihoods(each, tables, quiet, pieces)))
            for each in hypotheses
        ]
    )
    posterior = np.exp(prefixes[:, -1] - _log_sum(prefixes[:, -1]))
    suspects = _suspects(hypotheses, prefixes, posterior, pieces, evidence)
    shown = _shown_shares(evidence, knowledge)
    statuses = _statuses(suspects, shown, knowledge)
    together, by_mode = how_long(evidence, knowledge)
    return Verdict(
        suspects, statuses, _sentence(suspects, knowledge, evidence, together.shown_share), together.shown_share,
        together.minutes_to_95, together.minutes_to_99, by_mode, seen_rate(evidence),
        (*stories(evidence.findings, evidence.exposures), *unexplained(evidence.findings, _shown_kinds(knowledge))),
    )  # fmt: skip


def _shown_kinds(knowledge: Knowledge) -> frozenset[FindingKind]:
    return frozenset(kind for mode in knowledge.modes for kind in mode.shows)


def _cell(load: str, temperature_c: float | None) -> _Cell:
    return _Cell(load, band_of(temperature_c))


def _pieces(evidence: Evidence) -> list[_Piece]:
    """Order the evidence for the explanation: minutes by load, then findings by kind and core as they first came."""
    named: dict[tuple[FindingKind, int | None], dict[_Cell, int]] = {}
    for finding in evidence.findings:
        cells = named.setdefault((finding.kind, finding.core), {})
        cell = _cell(finding.load, finding.temperature_c)
        cells[cell] = cells.get(cell, 0) + finding.count
    by_load: dict[str, dict[_Cell, float]] = {}
    for exposure in evidence.exposures:
        cells_of_load = by_load.setdefault(exposure.load, {})
        cell = _cell(exposure.load, exposure.temperature_c)
        cells_of_load[cell] = cells_of_load.get(cell, 0.0) + exposure.minutes
    # minutes first: what they say by themselves is what the same time without a finding would have said
    pieces = [
        _Piece(f"{sum(spent.values()):.0f} min of {load}, by themselves", minutes=tuple(spent.items()))
        for load, spent in by_load.items()
    ]
    for (kind, core), cells in named.items():
        groups = tuple(_Group(cell, kind, core, storm_worth(count)) for cell, count in cells.items())
        where = f", core {core}" if core is not None else ""
        pieces.append(_Piece(f"{sum(cells.values())} × {kind.value}{where}", groups))
    return pieces


def _observed_cores(evidence: Evidence) -> list[int]:
    counts: dict[int, int] = {}
    for finding in evidence.findings:
        if finding.core is not None:
            counts[finding.core] = counts.get(finding.core, 0) + 1
    return sorted(counts, key=lambda core: -counts[core])[:_MOST_CORES]


def _faults(evidence: Evidence, knowledge: Knowledge, cores: list[int]) -> list[_Fault]:
    factors: dict[str, float] = {}
    for symptom in knowledge.symptoms:
        if symptom.text in evidence.symptoms:
            for name, factor in symptom.factors.items():
                factors[name] = factors.get(name, 1.0) * factor
    faults = []
    for mode in knowledge.modes:
        prior = float(np.log(mode.prior * factors.get(mode.name, 1.0)))
        if mode.places is Spread.ANYWHERE:
            faults.append(_Fault(mode, None, prior))
            continue
        count = max(evidence.cores, len(cores), 1)
        faults += [_Fault(mode, core, prior - float(np.log(count))) for core in cores]
        if count > len(cores):
            faults.append(_Fault(mode, None, prior + float(np.log((count - len(cores)) / count))))
    return faults


def _log_prior(hypothesis: tuple[_Fault, ...]) -> float:
    pair = float(np.log(_PAIR_PENALTY)) if len(hypothesis) > 1 else 0.0
    return sum(fault.log_prior for fault in hypothesis) + pair


def _grid(mode: Mode) -> tuple[Floats, Floats]:
    """Return strengths (findings an hour) and the logarithms of their prior weights."""
    steps = np.linspace(-_GRID_REACH, _GRID_REACH, _GRID_POINTS)
    log_weights = -(steps**2) / 2
    return 10.0 ** (mode.rate + steps * mode.spread_decades), log_weights - _log_sum(log_weights)


def _pace(mode: Mode, cell: _Cell) -> float:
    """How much faster or slower than at reference conditions findings come in a cell."""
    heat = 1.0
    if mode.heat_k and cell.temperature_c is not None:
        heat = float(np.exp(np.clip((cell.temperature_c - mode.reference_c) / mode.heat_k, -6.0, 4.0)))
    if cell.load == EVERYDAY_USE:
        return _EVERYDAY_SHARE * max(mode.loads.values(), default=0.0)
    return mode.loads.get(cell.load, 0.0) * heat


def _place_share(fault: _Fault, core: int | None, cores: int) -> float:
    if core is None:
        return 1.0
    if fault.mode.places is Spread.ONE_CORE:
        return 1.0 if core == fault.core else 0.0
    return 1.0 / max(cores, 1)


@dataclass(frozen=True, slots=True)
class _RateTable:
    """A fault's part in each group's rate and each piece's expected count, for strength 1, and its strengths."""

    groups: Floats
    expected: Floats
    strengths: Floats
    log_weights: Floats


def _rates(fault: _Fault, pieces: list[_Piece], cores: int) -> _RateTable:
    mode = fault.mode
    groups = [
        _pace(mode, group.cell) * mode.shows.get(group.kind, 0.0) * _place_share(fault, group.core, cores)
        for piece in pieces
        for group in piece.groups
    ]
    expected = [sum(_pace(mode, cell) * minutes / 60.0 for cell, minutes in piece.minutes) for piece in pieces]
    strengths, log_weights = _grid(mode)
    return _RateTable(np.array(groups), np.array(expected), strengths, log_weights)


def _background_rates(pieces: list[_Piece], knowledge: Knowledge, cores: int) -> Floats:
    return np.array(
        [
            knowledge.background[group.kind] / (max(cores, 1) if group.core is not None else 1)
            for piece in pieces
            for group in piece.groups
        ]
    )


def _prefix_likelihoods(
    hypothesis: tuple[_Fault, ...], tables: dict[int, _RateTable], quiet: Floats, pieces: list[_Piece]
) -> Floats:
    """Return the log likelihood of the first 1, 2, ... pieces, strengths summed out.

    Minutes under the background alone are the same for every hypothesis and left out.
    """
    parts = [tables[id(fault)] for fault in hypothesis]
    axes = len(parts)
    rates = quiet.reshape((1,) * axes + (-1,))
    expected = np.zeros((1,) * axes + (len(pieces),))
    log_weights = np.zeros((1,) * axes)
    for axis, table in enumerate(parts):
        shape = [1] * axes
        shape[axis] = _GRID_POINTS
        strength = table.strengths.reshape([*shape, 1])
        rates = rates + strength * table.groups
        expected = expected + strength * table.expected
        log_weights = log_weights + table.log_weights.reshape(shape)
    worth = np.array([group.worth for piece in pieces for group in piece.groups])
    owner = np.array([number for number, piece in enumerate(pieces) for _ in piece.groups], dtype=np.intp)
    by_group = worth * np.log(rates) if len(worth) else np.zeros((*rates.shape[:-1], 0))
    by_piece = -expected + by_group @ (owner[:, None] == np.arange(len(pieces))).astype(np.float64)
    running = np.cumsum(by_piece, axis=-1) + log_weights[..., None]
    return np.asarray(_log_sum(running, axis=tuple(range(axes))) if axes else running, dtype=np.float64)


def _log_odds(prefixes: Floats, chosen: npt.NDArray[np.bool_]) -> Floats:
    """Return the log odds of a set of hypotheses against all others after 0, 1, 2 ... pieces."""
    for_it = _log_sum(prefixes[chosen], axis=0)
    against = _log_sum(prefixes[~chosen], axis=0)
    return np.asarray(for_it - against, dtype=np.float64)


def _suspects(
    hypotheses: list[tuple[_Fault, ...]], prefixes: Floats, posterior: Floats, pieces: list[_Piece], evidence: Evidence
) -> tuple[Suspect, ...]:
    suspects = []
    slot = _one_slot(evidence)
    modes: dict[str, Mode] = {fault.mode.name: fault.mode for each in hypotheses for fault in each}
    for mode in modes.values():
        chosen = np.array([any(fault.mode is mode for fault in each) for each in hypotheses])
        core = _likeliest_core(mode, hypotheses, posterior)
        probability = float(posterior[chosen].sum())
        suspects.append(
            Suspect(
                mode.name, mode.title, mode.part, mode.part.value,
                f"core {core}" if core is not None else slot if mode.part is PartKind.MEMORY else "",
                probability, _reasons(_log_odds(prefixes, chosen), pieces, evidence), mode.next_step,
            )
        )  # fmt: skip
    healthy = np.array([not each for each in hypotheses])
    suspects.append(
        Suspect(
            "nothing", "nothing faulty in the hardware", None, "", "", float(posterior[healthy].sum()),
            _reasons(_log_odds(prefixes, healthy), pieces, evidence), "Longer, or another load",
        )
    )  # fmt: skip
    return tuple(sorted(suspects, key=lambda suspect: -suspect.probability))


def _one_slot(evidence: Evidence) -> str:
    """Return the memory slot that every wrong word was put down to; empty when they name several or none."""
    slots = {finding.place for finding in evidence.findings if finding.kind is FindingKind.MEMORY_WRONG}
    return slots.pop() if len(slots) == 1 else ""


def _likeliest_core(mode: Mode, hypotheses: list[tuple[_Fault, ...]], posterior: Floats) -> int | None:
    if mode.places is not Spread.ONE_CORE:
        return None
    weights: dict[int | None, float] = {}
    for each, probability in zip(hypotheses, posterior, strict=True):
        for fault in each:
            if fault.mode is mode:
                weights[fault.core] = weights.get(fault.core, 0.0) + float(probability)
    return max(weights, key=lambda core: weights[core])


def _reasons(log_odds: Floats, pieces: list[_Piece], evidence: Evidence) -> tuple[Reason, ...]:
    said = ", with what the customer says" if evidence.symptoms else ""
    reasons = [Reason(f"how common it is{said}", float(log_odds[0]) * DECIBANS)]
    for piece, change in zip(pieces, np.diff(log_odds), strict=True):
        reasons.append(Reason(piece.text, float(change) * DECIBANS))
    return tuple(reasons)


def _clean_survival(mode: Mode, hours: Floats) -> Floats:
    """Chance that a fault of this mode shows nothing in `hours` at reference pace, its strength unknown."""
    strengths, log_weights = _grid(mode)
    return np.asarray(np.exp(log_weights - hours[:, None] * strengths).sum(axis=1), dtype=np.float64)


def _paced_hours(mode: Mode, evidence: Evidence) -> float:
    return sum(_pace(mode, _cell(each.load, each.temperature_c)) * each.minutes / 60.0 for each in evidence.exposures)


def _shown_shares(evidence: Evidence, knowledge: Knowledge) -> dict[str, float]:
    """Share of the faults of each mode that would have shown something by now."""
    return {
        mode.name: 1.0 - float(_clean_survival(mode, np.array([_paced_hours(mode, evidence)]))[0])
        for mode in knowledge.modes
    }


def _statuses(suspects: tuple[Suspect, ...], shown: dict[str, float], knowledge: Knowledge) -> dict[str, PartStatus]:
    limits = knowledge.thresholds
    statuses = {}
    for kind in PartKind:
        mine = [suspect for suspect in suspects if suspect.kind is kind]
        if not mine:
            continue
        total = min(1.0, sum(suspect.probability for suspect in mine))
        to_replace = sum(
            suspect.probability for suspect in mine if knowledge.mode(suspect.mode).action is Action.REPLACE
        )
        if to_replace >= limits.replace:
            statuses[kind.value] = PartStatus.REPLACE
        elif total >= limits.doubt and any(sum(r.decibans for r in s.reasons[1:]) > 3.0 for s in mine):
            statuses[kind.value] = PartStatus.IN_DOUBT
        elif total <= limits.cleared and _shown_of(mine, shown, knowledge) >= limits.cleared_shown:
            statuses[kind.value] = PartStatus.CLEARED
        else:
            statuses[kind.value] = PartStatus.UNTESTED
    return statuses


def _shown_of(suspects: list[Suspect], shown: dict[str, float], knowledge: Knowledge) -> float:
    """Share of a part's faults that would have shown by now, each way of being faulty by how common it is."""
    priors = {suspect.mode: knowledge.mode(suspect.mode).prior for suspect in suspects}
    return sum(prior * shown[mode] for mode, prior in priors.items()) / sum(priors.values())


def how_long(evidence: Evidence, knowledge: Knowledge) -> tuple[HowLong, tuple[HowLong, ...]]:
    """Return what clean minutes are worth for all faults together, and for each mode that some load has strained.

    Modes count by their prior; minutes go on at the pace of the newest exposures, all loads that ran then together.
    """
    every = HowLong("", "all kinds together", PartKind.PROCESSOR, 0.0, None, None)
    if not evidence.exposures:
        return every, ()
    newest = evidence.exposures[-1]
    cell = _cell(newest.load, newest.temperature_c)
    hours = np.concatenate(([0.0], np.geomspace(0.001, _LONGEST_HOURS, 700)))
    modes = [mode for mode in knowledge.modes if mode.loads.get(newest.load, 0.0) > 0]
    if not modes:
        return every, ()
    unshown = np.zeros_like(hours)
    total = sum(mode.prior for mode in modes)
    by_mode = []
    for mode in modes:
        left = _clean_survival(mode, _paced_hours(mode, evidence) + _pace(mode, cell) * hours)
        unshown += mode.prior / total * left
        by_mode.append(_how_long(mode.name, mode.title, mode.part, left, hours))
    return _how_long(every.mode, every.title, every.kind, unshown, hours), tuple(by_mode)


def _how_long(name: str, title: str, kind: PartKind, unshown: Floats, hours: Floats) -> HowLong:
    sure, very_sure = (_minutes_until(unshown, hours, share) for share in (_SURE, _VERY_SURE))
    return HowLong(name, title, kind, float(1.0 - unshown[0]), sure, very_sure)


def _minutes_until(unshown: Floats, hours: Floats, share: float) -> float | None:
    """Return after how many minutes so large a share has shown, None when not within the hours looked at."""
    if unshown[0] <= 1.0 - share:
        return 0.0
    if unshown[-1] > 1.0 - share:
        return None
    # what is left falls with every hour, so the axis can be read backwards
    return float(np.interp(1.0 - share, unshown[::-1], hours[::-1])) * 60.0


_SHOWN_BY_LOADS = (
    FindingKind.WRONG_RESULT, FindingKind.MEMORY_WRONG, FindingKind.MESSAGE_WRONG, FindingKind.CORRECTED_CHECK,
    FindingKind.UNCORRECTED_CHECK, FindingKind.MEMORY_CORRECTED, FindingKind.MEMORY_UNCORRECTED,
    FindingKind.WORKER_CRASH, FindingKind.CORE_HANG, FindingKind.ENDED_SUDDENLY,
)  # fmt: skip


def seen_rate(evidence: Evidence) -> SeenRate | None:
    """Return how often faults have shown under the loads that showed them, None before the first.

    Findings count as a Poisson process with the Jeffreys prior: the rate has a gamma distribution of n + 1/2. A storm
    is one finding, so that one bad second is not taken for a habit.
    """
    mine = [each for each in evidence.findings if each.kind in _SHOWN_BY_LOADS and each.run_at is not None]
    loads = {each.load for each in mine}
    hours = sum(each.minutes for each in evidence.exposures if each.load in loads) / 60.0
    if not mine or hours <= 0.0:
        return None
    from scipy.special import gammaincinv  # slow to load, and needed from the first finding on only

    count = len(mine)
    low, middle, high = (float(value) for value in gammaincinv(count + 0.5, np.array([0.05, 0.5, 0.95])) / hours)
    sure = -math.log(1.0 - _SURE) / low * 60.0
    return SeenRate(count, hours, middle, low, high, sure)


def _sentence(suspects: tuple[Suspect, ...], knowledge: Knowledge, evidence: Evidence, share: float) -> str:
    sure = [
        (leading, total) for leading, total in _decisions(suspects, knowledge) if total >= knowledge.thresholds.replace
    ]
    if sure:
        return "; ".join(_action_sentence(leading, total, knowledge) for leading, total in sure)
    top = suspects[0]
    if top.kind is None and not evidence.findings:
        return f"Nothing found; of faults of these kinds {percent(share)} would have shown by now"
    if top.kind is None:
        return f"Cannot tell yet: {percent(top.probability)} that nothing is faulty"
    return f"Cannot tell yet: most likely {suspect_title(top).lower()}, {top.title} ({percent(top.probability)})"


def _decisions(suspects: tuple[Suspect, ...], knowledge: Knowledge) -> list[tuple[Suspect, float]]:
    """Suspects that the same act at the same place would mend belong together: the likeliest of each, and their sum."""
    together: dict[tuple[Action, str, str], list[Suspect]] = {}
    for suspect in suspects:
        if suspect.kind is not None:
            key = (knowledge.mode(suspect.mode).action, suspect.part, suspect.place)
            together.setdefault(key, []).append(suspect)
    groups = [(each[0], min(1.0, sum(suspect.probability for suspect in each))) for each in together.values()]
    return sorted(groups, key=lambda group: -group[1])


def _action_sentence(suspect: Suspect, probability: float, knowledge: Knowledge) -> str:
    words = {
        Action.REPLACE: f"Replace the {suspect.part}",
        Action.CLEAN: "Clean the cooling",
        Action.STOCK: "Go back to stock settings",
        Action.NOTHING: "Do nothing",
    }
    place = f"{suspect.place} " if suspect.place else ""
    what = "is weak" if suspect.place.startswith("core") else suspect.title
    place = f"{suspect.place}, " if suspect.place and not suspect.place.startswith("core") else place
    return f"{words[knowledge.mode(suspect.mode).action]}: {place}{what} ({percent(probability)})"
