"""What clean minutes are worth, and how often findings come.

Every minute counts here as it does in the likelihood: for parts that were installed, under loads that can show the
fault, use outside our runs by what a log would hold of it, and with what is not known of how hard a load strains it."""

import math
from dataclasses import replace

import numpy as np

from thresher.diagnosis.evidence import Cell, Evidence, Floats, logged_share, pieces_of, rate_factor, trial_number
from thresher.diagnosis.fault_table import shift_of, table_of
from thresher.diagnosis.faults import Way, acts_in, way_of
from thresher.diagnosis.inference import Posterior
from thresher.diagnosis.knowledge import Knowledge
from thresher.diagnosis.likelihood import FaultTable, Whole, log_silence, log_sum, spent_by_stint, with_hidden
from thresher.model.exposure import band_of
from thresher.model.findings import ENDING_KINDS, FindingKind
from thresher.model.parts import PartKind
from thresher.model.verdict import HowLong, SeenRate

_SURE, _VERY_SURE = 0.95, 0.99
_LONGEST_HOURS = 1000.0
_HOURS_LOOKED_AT = 80
"""Each is 19 % longer than the one before; between them the share is read off a straight line."""


def clean_table(posterior: Posterior, evidence: Evidence, knowledge: Knowledge) -> FaultTable:
    """Return the table of the evidence without minutes before an end of the machine: they are no clean time."""
    clean = tuple(each for each in evidence.exposures if not each.broken_off)
    if len(clean) == len(evidence.exposures):
        return posterior.table
    only = replace(evidence, exposures=clean)
    return table_of(posterior.faults, pieces_of(only), only, knowledge)


def shown_shares(posterior: Posterior, table: FaultTable) -> dict[Way, float]:
    """Return which share of each way of being faulty of each part would have been detected by now, by the clean table.

    Where parts have no tags yet, the shop's do not count: they were not in the machine."""
    quiet = np.exp(log_silence(table))
    priors = np.exp([fault.log_prior for fault in posterior.faults])
    total: dict[Way, float] = {}
    missed: dict[Way, float] = {}
    for number, fault in enumerate(posterior.faults):
        if fault.ours and not fault.tag:
            continue
        way = way_of(fault)
        total[way] = total.get(way, 0.0) + float(priors[number])
        missed[way] = missed.get(way, 0.0) + float(priors[number] * quiet[number])
    return {way: 1.0 - missed[way] / total[way] for way in total}


def how_long(
    posterior: Posterior, table: FaultTable, evidence: Evidence, knowledge: Knowledge
) -> tuple[HowLong, tuple[HowLong, ...]]:
    """Return what clean minutes are worth for all faults together, and for each mode that some load has strained.

    Modes count by their prior; further minutes at the rate of the newest exposures. `table` is the clean table.
    """
    every = HowLong("", "all kinds together", PartKind.PROCESSOR, 0.0, None, None)
    if not evidence.exposures:
        return every, ()
    newest = evidence.exposures[-1]
    cell = Cell(newest.load, band_of(newest.temperature_c))
    there = acts_in(posterior.faults, evidence.book.trials[-1].configuration if evidence.book.trials else None)
    chosen = [
        number
        for number, fault in enumerate(posterior.faults)
        if fault.mode.loads.get(newest.load, 0.0) > 0 and not fault.mode.harmless and not fault.ours and there[number]
    ]
    if not chosen:
        return every, ()
    hours = np.concatenate(([0.0], np.geomspace(0.001, _LONGEST_HOURS, _HOURS_LOOKED_AT)))
    priors = np.exp([fault.log_prior for fault in posterior.faults])
    paces = np.array(
        [
            rate_factor(posterior.faults[n].mode, cell) * logged_share(posterior.faults[n].mode, cell.load) * there[n]
            for n in chosen
        ]
    )
    stint = (trial_number(evidence, newest.run), newest.load)
    left = _left_after(table, np.array(chosen, dtype=np.intp), paces, hours, stint, shift_of(newest.load, knowledge))
    by_mode: dict[str, list[int]] = {}
    for row, number in enumerate(chosen):
        by_mode.setdefault(posterior.faults[number].mode.name, []).append(row)
    weights = priors[chosen]
    together = weights @ left / weights.sum()
    modes = []
    for name, rows in by_mode.items():
        mode = posterior.faults[chosen[rows[0]]].mode
        mine = weights[rows] @ left[rows] / weights[rows].sum()
        modes.append(_how_long(name, mode.title, mode.part, mine, hours))
    return _how_long(every.mode, every.title, every.kind, together, hours), tuple(modes)


def _left_after(
    table: FaultTable, chosen: Whole, paces: Floats, hours: Floats, newest: tuple[int, str], shift: int
) -> Floats:
    """Return how likely each fault shows nothing so far and in so many hours more of the newest stint (N, H)."""
    before = np.zeros((len(chosen), table.strengths.shape[1]))
    so_far = np.zeros(len(chosen))
    padded = table.padded[chosen]
    for stint, spent in spent_by_stint(table).items():
        if table.names[stint] == newest:
            so_far = spent[chosen]
        elif spent[chosen].any():
            before += with_hidden(-padded * spent[chosen, None], int(table.shifts[stint]))
    before += table.log_weights[chosen]
    spent_then = so_far[:, None] + paces[:, None] * hours
    left = before[:, None, :] + with_hidden(-padded[:, None, :] * spent_then[:, :, None], shift)
    return np.asarray(np.exp(log_sum(left, axis=2)))


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
    FindingKind.WRONG_RESULT,
    FindingKind.MEMORY_WRONG,
    FindingKind.MESSAGE_WRONG,
    FindingKind.CORRECTED_CHECK,
    FindingKind.UNCORRECTED_CHECK,
    FindingKind.MEMORY_CORRECTED,
    FindingKind.MEMORY_UNCORRECTED,
    FindingKind.WORKER_CRASH,
    FindingKind.CORE_HANG,
    *ENDING_KINDS,
)


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
