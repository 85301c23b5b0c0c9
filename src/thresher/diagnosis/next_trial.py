"""Which trial tells most for its time: over fits that the shop can make and loads that it can run.

A trial of T minutes ends clean or with a finding. What that would say is worked out for every hypothesis with the
strengths that the evidence has left; the gain is the fall of the uncertainty about which parts to act on (entropy in
bits over sets of parts, not over every way of being faulty), divided by the minutes of swap and run.
"""

import numpy as np

from thresher.diagnosis.evidence import Cell, Evidence, Floats, pace
from thresher.diagnosis.inference import Fault, Weighed, acts_under
from thresher.diagnosis.likelihood import Whole
from thresher.model.parts import PartKind
from thresher.model.trials import Book, Candidate, Fit, NextTrial

_MINUTES = (5.0, 15.0, 45.0)
_LEAST_GAIN = 0.002
"""Bits below which a trial says nothing worth its time."""
_SWAP_MINUTES = {
    PartKind.PROCESSOR: 25.0, PartKind.MEMORY: 4.0, PartKind.GRAPHICS: 8.0, PartKind.DRIVE: 8.0, PartKind.POWER: 15.0,
    PartKind.BOARD: 60.0, PartKind.COOLING: 15.0,
}  # fmt: skip
_SETTINGS_MINUTES, _CLEAN_MINUTES, _RESEAT_MINUTES = 6.0, 20.0, 5.0
_LOADS = ("memory", "matrix")


def candidates(book: Book, fit: Fit) -> tuple[Candidate, ...]:
    """Return the fits that can be made from the present one with the parts in the book.

    One part against another of its kind, one memory module alone, settings to stock, cleaned, seated anew, or all as it
    is.
    """
    made = [Candidate("The same again", fit, 0.0)]
    for tag in fit.tags:
        part = book.part(tag)
        if part is None:
            continue
        for other in book.parts:
            if other.kind is part.kind and other.tag not in fit.tags:
                tags = tuple(other.tag if each == tag else each for each in fit.tags)
                title = f"{other.tag} in place of {tag}"
                made.append(Candidate(title, _with(fit, tags), _SWAP_MINUTES.get(part.kind, 10.0)))
    modules = [tag for tag in fit.tags if (part := book.part(tag)) is not None and part.kind is PartKind.MEMORY]
    if len(modules) > 1:
        for alone in modules:
            tags = tuple(tag for tag in fit.tags if tag == alone or tag not in modules)
            made.append(Candidate(f"{alone} alone", _with(fit, tags), _SWAP_MINUTES[PartKind.MEMORY]))
    if not fit.stock:
        stock = Fit(fit.tags, fit.places, (PartKind.PROCESSOR, PartKind.MEMORY), fit.treated)
        made.append(Candidate("Settings back to stock", stock, _SETTINGS_MINUTES))
    for kind, title, minutes in (
        (PartKind.COOLING, "Cleaned", _CLEAN_MINUTES), (PartKind.BOARD, "Cards and plugs seated anew", _RESEAT_MINUTES),
    ):  # fmt: skip
        if kind.value not in fit.treated:
            treated = Fit(fit.tags, fit.places, fit.stock, (*fit.treated, kind.value))
            made.append(Candidate(title, treated, minutes))
    return tuple(made)


def _with(fit: Fit, tags: tuple[str, ...]) -> Fit:
    return Fit(tags, tuple((place, tag) for place, tag in fit.places if tag in tags), fit.stock, fit.treated)


def next_trials(
    weighed: Weighed, evidence: Evidence, options: tuple[Candidate, ...], most: int = 3
) -> tuple[NextTrial, ...]:
    """Return the trials that tell most for their time, best first; none when none tells anything."""
    temperature = max(
        (each.temperature_c for each in evidence.exposures if each.temperature_c is not None), default=None
    )
    targets, names = _targets(weighed)
    left = weighed.explained.grid
    left = np.exp(left - left.max(axis=1, keepdims=True))
    left /= left.sum(axis=1, keepdims=True)
    paces = {load: np.array([pace(fault.mode, Cell(load, temperature)) for fault in weighed.faults]) for load in _LOADS}
    best: list[NextTrial] = []
    for candidate in options:
        there = np.array([acts_under(fault, candidate.fit) for fault in weighed.faults])
        mine = []
        for load in _LOADS:
            for minutes in _MINUTES:
                clean = _clean_chances(weighed, left, paces[load] * there * minutes / 60.0)
                trial = _worth(weighed, candidate, load, minutes, clean, targets, names)
                mine += [trial] if trial is not None else []
        if mine:
            best.append(max(mine, key=lambda trial: trial.gain_a_minute))
    return tuple(sorted(best, key=lambda trial: -trial.gain_a_minute)[:most])


def _targets(weighed: Weighed) -> tuple[Whole, list[str]]:
    """Return for each hypothesis the number of the set of parts that it would have mended, and the sets' names."""
    names: dict[str, int] = {}
    numbers = []
    for hypothesis in weighed.hypotheses:
        parts = sorted({_name(weighed.faults[number]) for number in hypothesis})
        numbers.append(names.setdefault(" and ".join(parts) or "nothing faulty", len(names)))
    return np.array(numbers, dtype=np.intp), list(names)


def _name(fault: Fault) -> str:
    return "settings" if fault.mode.of_settings else fault.tag or fault.mode.part.value


def _clean_chances(weighed: Weighed, left: Floats, paced: Floats) -> Floats:
    """Return for each hypothesis the chance that a run ends clean.

    `left` (F, K) is how strong each fault is by the evidence so far, `paced` (F) the hours at reference conditions.
    """
    quiet = (left * np.exp(-paced[:, None] * weighed.table.strengths)).sum(axis=1)
    return np.asarray(np.append(quiet, 1.0)[weighed.members].prod(axis=1), dtype=np.float64)


def _worth(
    weighed: Weighed, candidate: Candidate, load: str, minutes: float, clean: Floats, targets: Whole,
    names: list[str],
) -> NextTrial | None:  # fmt: skip
    joint_clean, joint_found = weighed.posterior * clean, weighed.posterior * (1.0 - clean)
    p_clean, p_found = float(joint_clean.sum()), float(joint_found.sum())
    now = _by_target(weighed.posterior, targets, len(names))
    if_clean, if_found = (_by_target(each, targets, len(names)) for each in (joint_clean, joint_found))
    gain = _entropy(now) - p_clean * _entropy(if_clean) - p_found * _entropy(if_found)
    if gain < _LEAST_GAIN:
        return None
    return NextTrial(candidate, load, minutes, gain, p_found, _likeliest(if_clean, names), _likeliest(if_found, names))


def _by_target(weights: Floats, targets: Whole, count: int) -> Floats:
    total = float(weights.sum())
    summed = np.bincount(targets, weights, count).astype(np.float64)
    return summed / total if total > 0 else summed


def _entropy(chances: Floats) -> float:
    some = chances[chances > 0]
    return float(-(some * np.log2(some)).sum())


def _likeliest(chances: Floats, names: list[str]) -> str:
    best = int(chances.argmax())
    return f"{names[best]} ({chances[best] * 100:.0f} %)"
