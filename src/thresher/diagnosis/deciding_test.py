"""The test that decides whether one suspect is faulty, and its probability after either ending."""

from collections.abc import Sequence

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats
from thresher.diagnosis.faults import Way, acts_in, way_of
from thresher.diagnosis.inference import Posterior
from thresher.diagnosis.next_trial import (
    by_share,
    clean_chances,
    hours_of,
    likely_ones,
    loads_for,
    quiet_chances,
    set_up_cost,
    strengths_left,
)
from thresher.model.trials import Candidate
from thresher.model.verdict import percent

_MINUTES = (30.0, 120.0)
_LEAST_RESOLVED = 0.02
"""A test must take away at least this share of the doubt about a suspect to be worth naming."""


def deciding_tests(
    posterior: Posterior, evidence: Evidence, options: Sequence[Candidate], ways: Sequence[Way]
) -> dict[Way, str]:
    """Return for each way of being faulty the test that takes away most doubt about it for its cost, in words."""
    loads = loads_for(evidence)
    paces, left = hours_of(posterior, evidence, loads), strengths_left(posterior)
    likely = likely_ones(posterior)
    of_way = np.array([[way_of(fault) == way for fault in posterior.faults] + [False] for way in ways])
    chosen = (of_way[:, likely.members[:, 0]] | of_way[:, likely.members[:, 1]]).astype(np.float64)
    now = chosen @ likely.posterior
    runs = [(load, minutes) for minutes in _MINUTES for load in loads]
    hours = np.concatenate([paces * minutes / 60.0 for minutes in _MINUTES], axis=1)
    run_minutes = np.array([minutes for _, minutes in runs])
    best: dict[Way, tuple[float, str]] = {}
    known: dict[float, Floats] = {}
    for candidate in options:
        there = acts_in(posterior.faults, candidate.configuration)
        quiet = by_share(there, lambda share: quiet_chances(posterior, left, hours * share), known)
        clean = likely.posterior[:, None] * clean_chances(likely, quiet)
        passes, and_so = clean.sum(axis=0), chosen @ clean
        if_passes = and_so / np.maximum(passes, 1e-300)
        if_fails = (now[:, None] - and_so) / np.maximum(1.0 - passes, 1e-300)
        resolved = _doubt(now)[:, None] - passes * _doubt(if_passes) - (1.0 - passes) * _doubt(if_fails)
        cost = run_minutes + set_up_cost(candidate)
        for row, way in enumerate(ways):
            number = int((resolved[row] / cost).argmax())
            value = float(resolved[row, number] / cost[number])
            if resolved[row, number] < _LEAST_RESOLVED * _doubt(now)[row] or value <= best.get(way, (0.0, ""))[0]:
                continue
            load, minutes = runs[number]
            fails, passed = (percent(float(np.clip(each[row, number], 0.0, 1.0))) for each in (if_fails, if_passes))
            words = f"{candidate.title}, {minutes:.0f} min of {load}: {fails} if it fails, {passed} if it passes"
            best[way] = (value, words)
    return {way: words for way, (_, words) in best.items()}


def _doubt(chance: Floats) -> Floats:
    """Return the bits that are missing to know whether something is so."""
    sure = np.clip(chance, 1e-12, 1.0 - 1e-12)
    return np.asarray(-(sure * np.log2(sure) + (1.0 - sure) * np.log2(1.0 - sure)))
