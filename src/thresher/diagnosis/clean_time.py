"""What clean minutes are worth, and how often findings come."""

import math

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats, cell_of, grid_of, rate_factor
from thresher.diagnosis.knowledge import Knowledge, Mode
from thresher.model.findings import ENDING_KINDS, FindingKind
from thresher.model.parts import PartKind
from thresher.model.verdict import HowLong, SeenRate

_SURE, _VERY_SURE = 0.95, 0.99
_LONGEST_HOURS = 1000.0
_HOURS_LOOKED_AT = 240
"""Each is 6 % longer than the one before; between them the share is read off a straight line."""


def _clean_survival(mode: Mode, hours: Floats) -> Floats:
    """Chance that a fault of this mode shows nothing in `hours` at the reference rate, its strength unknown."""
    strengths, log_weights = grid_of(mode)
    return np.asarray(np.exp(log_weights - hours[:, None] * strengths).sum(axis=1), dtype=np.float64)


def _paced_hours(mode: Mode, evidence: Evidence) -> float:
    return sum(
        rate_factor(mode, cell_of(each.load, each.temperature_c)) * each.minutes / 60.0
        for each in evidence.exposures
        if not each.broken_off
    )


def shown_shares(evidence: Evidence, knowledge: Knowledge) -> dict[str, float]:
    """Share of the faults of each mode that would have been detected by now."""
    return {
        mode.name: 1.0 - float(_clean_survival(mode, np.array([_paced_hours(mode, evidence)]))[0])
        for mode in knowledge.modes
    }


def how_long(evidence: Evidence, knowledge: Knowledge) -> tuple[HowLong, tuple[HowLong, ...]]:
    """Return what clean minutes are worth for all faults together, and for each mode that some load has strained.

    Modes count by their prior; further minutes at the rate of the newest exposures, all loads that ran then together.
    """
    every = HowLong("", "all kinds together", PartKind.PROCESSOR, 0.0, None, None)
    if not evidence.exposures:
        return every, ()
    newest = evidence.exposures[-1]
    cell = cell_of(newest.load, newest.temperature_c)
    hours = np.concatenate(([0.0], np.geomspace(0.001, _LONGEST_HOURS, _HOURS_LOOKED_AT)))
    modes = [mode for mode in knowledge.modes if mode.loads.get(newest.load, 0.0) > 0 and not mode.harmless]
    if not modes:
        return every, ()
    unshown = np.zeros_like(hours)
    total = sum(mode.prior for mode in modes)
    by_mode = []
    for mode in modes:
        left = _clean_survival(mode, _paced_hours(mode, evidence) + rate_factor(mode, cell) * hours)
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
