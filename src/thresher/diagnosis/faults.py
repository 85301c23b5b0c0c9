"""Faults: each way of being faulty of each part and place that the evidence may be explained by."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats
from thresher.diagnosis.knowledge import Knowledge, Mode, Spread
from thresher.model.parts import PartKind
from thresher.model.trials import ANOTHER_SLOT, BookPart, Configuration

_MOST_CORES = 6
_MOST_TRIED_CORES = 8
"""Up to this many loaded cores are kept one by one; of more, only how many there were."""
_BAD_SHOP_PART = 0.05
"""Share of a shop's known-good parts that are faulty; the makers' judgement."""
TREATED_FACTOR = 0.03
"""Share of the faults caused by dust or contact that cleaning or reseating does not fix; the makers' judgement."""
STILL_THERE = 0.5
"""A fault of which less is left in a configuration counts as fixed by it."""


@dataclass(frozen=True, slots=True)
class Fault:
    """A way of being faulty of one part, and for one that stays on a core, which (None: one where nothing was seen).

    `tag` is the part's, empty when no book is kept: then it is the machine's own and always in it. `needs` is the tag
    that must be installed for it to act: the part's own, and for settings and places that of the board that has them.
    `place` is the slot that a fault of a place is bound to, where slots are known. `ours` marks a part of the shop.
    `treatment_failed` says whether cleaning or reseating did not fix it, None where neither was tried.
    """

    mode: Mode
    core: int | None
    log_prior: float
    tag: str = ""
    needs: str = ""
    place: str = ""
    ours: bool = False
    treatment_failed: bool | None = None


Way = tuple[str, str, str]
"""The name of a mode, the tag of a part, the slot of a fault of a place."""


def way_of(fault: Fault) -> Way:
    """Return mode, part and place of a fault: what identifies it apart from its core."""
    return fault.mode.name, fault.tag, fault.place


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


def faults_of_evidence(evidence: Evidence, knowledge: Knowledge) -> list[Fault]:
    """Return every fault that there could be, with how common it is."""
    cores = _observed_cores(evidence)
    factors: dict[str, float] = {}
    for symptom in knowledge.symptoms:
        if symptom.text in evidence.symptoms:
            for name, factor in symptom.factors.items():
                factors[name] = factors.get(name, 1.0) * factor
    own_board = next(
        (part.tag for part in evidence.book.parts if part.kind is PartKind.BOARD and not part.known_good), ""
    )
    absent = _absent(evidence)
    shares = _shares_of_parts(knowledge)
    bad_shop_part = _BAD_SHOP_PART / (1.0 - _BAD_SHOP_PART) * knowledge.weights.nothing
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
            faults += _of_parts(mode, prior, bad_shop_part * shares[mode.name], evidence, cores)
    return [variant for fault in faults for variant in _variants(fault, evidence)]


def _variants(fault: Fault, evidence: Evidence) -> list[Fault]:
    """Return a fault whose part was treated in some trial twice: fixed by that, and not fixed by it."""
    if not fault.mode.treatable:
        return [fault]
    if not any(each.configuration.is_treated(fault.tag, fault.mode.part) for each in evidence.book.trials):
        return [fault]
    return [
        replace(fault, treatment_failed=False, log_prior=fault.log_prior + math.log(1.0 - TREATED_FACTOR)),
        replace(fault, treatment_failed=True, log_prior=fault.log_prior + math.log(TREATED_FACTOR)),
    ]


def _of_parts(mode: Mode, prior: float, shop_odds: float, evidence: Evidence, cores: list[int]) -> list[Fault]:
    """Return the faults of each part of a kind, those of the shop's parts among them."""
    faults: list[Fault] = []
    own = sum(each.kind is mode.part and not each.known_good for each in evidence.book.parts)
    for part in _parts_of(evidence, mode.part):
        tag = part.tag if part is not None else ""
        if part is not None and part.known_good:
            # it was not in the machine when the customer saw what is reported
            ours = _on_cores(mode, math.log(shop_odds), tag, tag, evidence, cores)
            faults += [replace(each, ours=True) for each in ours]
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
        return TREATED_FACTOR if fault.treatment_failed is None else float(fault.treatment_failed)
    return 1.0


def acts_in(faults: Sequence[Fault], configuration: Configuration | None) -> Floats:
    """Return how much of each fault is left in a configuration (F)."""
    return np.array([acts_under(fault, configuration) for fault in faults])
