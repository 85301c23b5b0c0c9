"""Suspects with their probabilities and reasons, from what every hypothesis is worth."""

import math

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats, signs_of
from thresher.diagnosis.faults import STILL_THERE, Way, acts_in, way_of
from thresher.diagnosis.inference import Posterior, chance_by_fault
from thresher.diagnosis.knowledge import Action, Mode, Spread
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import EMPTY_BOOK, Book
from thresher.model.verdict import Reason, Suspect

DECIBANS = 10.0 / math.log(10.0)
"""Natural log odds times this give tenths of a ban: 10 is ten to one, 20 a hundred to one."""

_TINY = 1e-300
"""Odds are not known beyond this: it stands for what underflows."""
_FIXED = " (fixed or removed)"


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
    gone = np.array([fault.mode.harmless for fault in posterior.faults], dtype=np.bool_) | (there < STILL_THERE)
    sound = np.append(gone, True)
    gone_now = [not fault.ours and left < STILL_THERE for fault, left in zip(posterior.faults, there, strict=True)]
    # cleaning or reseating removes the variant that it fixes, not the one that it does not
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
                mode.title + (_FIXED if (name, tag, slot) in out else ""),
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
