"""Which trial is most informative for its time: over configurations that the shop can make and loads that it can run.

A trial of T minutes ends clean or with a finding. What that would say is worked out for every hypothesis with the
strengths that the evidence has left; the gain is the fall of the uncertainty about what to do to the customer's
machine (entropy in bits over sets of its parts and how each is fixed, not over every way of being faulty), divided by
the minutes of swap and run."""

from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import Cell, Evidence, Floats, logged_share, rate_factor
from thresher.diagnosis.inference import Fault, Posterior, acts_under
from thresher.diagnosis.knowledge import Action
from thresher.diagnosis.likelihood import Whole
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import ALL_SETTINGS, INSTALLED_SYSTEM, Book, Candidate, Configuration, NextTrial
from thresher.model.verdict import EVERYDAY_USE

Run = tuple[str, float]
"""A load and minutes of it."""

_WRITES_TO_DRIVES = ("write and compare",)
_OF_CARDS = ("raster", "card compute", "card memory", "transfer")
_DYING = (FindingKind.DRIVE_FAILED, FindingKind.DRIVE_WORN)
_RUNS: tuple[Run, ...] = (
    ("memory", 15.0),
    ("memory", 45.0),
    ("memory", 120.0),
    ("matrix", 15.0),
    ("matrix", 45.0),
    ("matrix", 120.0),
    ("branchy", 15.0),
    ("branchy", 45.0),
    ("relay", 15.0),
    ("relay", 45.0),
    ("relay", 120.0),
    ("raster", 15.0),
    ("raster", 45.0),
    ("card memory", 15.0),
    ("transfer", 15.0),
    ("write and compare", 15.0),
    ("write and compare", 60.0),
    (EVERYDAY_USE, 60.0),
    (EVERYDAY_USE, 240.0),
)
"""Loads and minutes that are looked at."""
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
"""Starting a run and waiting until it is warm takes somebody's time, whatever its length."""
_TREATMENTS = (
    (PartKind.COOLING, "Cleaned", 20.0),
    (PartKind.MEMORY, "Modules reseated", 4.0),
    (PartKind.BOARD, "Cards and plugs reseated", 6.0),
    (PartKind.DRIVE, "Other drive cable", 6.0),
    (PartKind.GRAPHICS, "Graphics card cleaned", 20.0),
    (PartKind.POWER, "Power plugs reseated", 5.0),
    (PartKind.DISPLAY, "Other display cable", 3.0),
)


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
    if base is not None and set(base.tags) != set(configuration.tags):
        back = replace(base, treated=tuple(dict.fromkeys((*base.treated, *configuration.treated))))
        settings = ", settings as they were" if back.stock != configuration.stock else ""
        made.append(Candidate(f"With its own parts again{settings}", back, swap_minutes(book, configuration, back)))
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
    modules = [part.tag for part in fitted if part.kind is PartKind.MEMORY]
    for alone in modules if len(modules) > 1 else ():
        tags = tuple(tag for tag in configuration.tags if tag == alone or tag not in modules)
        made.append(Candidate(f"{alone} alone", _with(configuration, tags), _SWAP_MINUTES[PartKind.MEMORY]))
    return made


def _with(configuration: Configuration, tags: tuple[str, ...]) -> Configuration:
    return replace(
        configuration, tags=tags, places=tuple((place, tag) for place, tag in configuration.places if tag in tags)
    )


def next_trials(
    posterior: Posterior, evidence: Evidence, options: tuple[Candidate, ...], most: int = 3
) -> tuple[NextTrial, ...]:
    """Return the trials that are most informative for their time, best first; none when none is worth its time."""
    temperature = max(
        (each.temperature_c for each in evidence.exposures if each.temperature_c is not None), default=None
    )
    targets = _targets(posterior, evidence.book.base)
    left = posterior.explained.grid
    left = np.exp(left - left.max(axis=1, keepdims=True))
    left /= left.sum(axis=1, keepdims=True)
    runs = _runs(evidence)
    cells = {load: Cell(load, temperature) for load, _ in runs}
    # (F, R): what each run at reference strength would make a fault show
    hours = np.array(
        [
            [
                rate_factor(fault.mode, cells[load]) * logged_share(fault.mode, load) * minutes / 60.0
                for load, minutes in runs
            ]
            for fault in posterior.faults
        ]
    )
    best: list[NextTrial] = []
    quiet: dict[float, Floats] = {}
    for candidate in options:
        there = np.array([acts_under(fault, candidate.configuration) for fault in posterior.faults])
        # a configuration leaves a fault whole, takes it out or leaves little of it: few shares, worked out once each
        for share in set(there.tolist()) - set(quiet):
            quiet[share] = _quiet_chances(posterior, left, hours * share)
        by_fault = np.empty_like(hours)
        for share in set(there.tolist()):
            by_fault[there == share] = quiet[share][there == share]
        clean = _clean_chances(posterior, by_fault)
        trial = _best_run(posterior, candidate, clean, targets, runs)
        best += [trial] if trial is not None else []
    return tuple(sorted(best, key=lambda trial: -trial.gain_per_minute)[:most])


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
    name = fault.tag or fault.mode.part.value
    return f"{_TREATED_WORDS[fault.mode.action]} {name}" if fault.mode.action in _TREATED_WORDS else name


_TREATED_WORDS = {Action.CLEAN: "dirt in", Action.RESEAT: "the seat of"}


def _quiet_chances(posterior: Posterior, left: Floats, paced: Floats) -> Floats:
    """Return for each fault the chance that it shows nothing in each run: (F, R).

    `left` (F, K) is how strong each fault is by the evidence so far, `paced` (F, R) the hours at reference conditions.
    """
    strengths = posterior.table.strengths
    return np.asarray((left[:, None, :] * np.exp(-paced[:, :, None] * strengths[:, None, :])).sum(axis=2))


def _clean_chances(posterior: Posterior, quiet: Floats) -> Floats:
    """Return for each hypothesis the chance that each run ends clean (H, R), from that of each fault (F, R)."""
    with_nobody = np.vstack((quiet, np.ones((1, quiet.shape[1]))))
    members = posterior.members
    return np.asarray(with_nobody[members[:, 0]] * with_nobody[members[:, 1]], dtype=np.float64)


def _runs(evidence: Evidence) -> tuple[Run, ...]:
    """Return the runs that may be proposed: none writes to a drive that loses data, none works a card without one."""
    dying = any(each.kind in _DYING for each in evidence.findings)
    cards = any(part.kind is PartKind.GRAPHICS for part in evidence.book.parts)
    left_out = (_WRITES_TO_DRIVES if dying else ()) + (() if cards else _OF_CARDS)
    return tuple(run for run in _RUNS if run[0] not in left_out)


def _best_run(
    posterior: Posterior, candidate: Candidate, clean: Floats, targets: _Targets, runs: tuple[Run, ...]
) -> NextTrial | None:
    """Return the run that is most informative per minute under a configuration, None when none is worth its time."""
    joint_clean = posterior.posterior[:, None] * clean
    all_of = targets.sums(posterior.posterior[:, None])
    if_clean = targets.sums(joint_clean)
    if_found = np.maximum(all_of - if_clean, 0.0)
    gains = _entropy(all_of) - _entropy(if_clean) - _entropy(if_found)
    made = replace(candidate, minutes=candidate.minutes + _RUN_OVERHEAD_MINUTES)
    a_minute = gains / np.array([made.minutes + minutes for _, minutes in runs])
    number = int(a_minute.argmax())
    if gains[number] < _LEAST_GAIN:
        return None
    load, minutes = runs[number]
    finds, gain = float(if_found[:, number].sum()), float(gains[number])
    words = (_likeliest(each[:, number], targets.names) for each in (if_clean, if_found))
    return NextTrial(made, load, minutes, gain, finds, *words)


def _entropy(weights: Floats) -> Floats:
    """Return the entropy in bits of each column's shares, times the column's sum."""
    total = np.maximum(weights.sum(axis=0), 1e-300)
    shares = weights / total
    return np.asarray(-(weights * np.log2(np.maximum(shares, 1e-300))).sum(axis=0), dtype=np.float64)


def _likeliest(weights: Floats, names: tuple[str, ...]) -> str:
    best = int(weights.argmax())
    return f"{names[best]} ({weights[best] / max(weights.sum(), 1e-300) * 100:.0f} %)"
