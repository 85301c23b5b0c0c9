"""From suspects to the status of each part, and to one sentence."""

from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.model.parts import PartKind, PartStatus
from thresher.model.verdict import Suspect, percent, suspect_title


def statuses_of(suspects: tuple[Suspect, ...], shown: dict[str, float], knowledge: Knowledge) -> dict[str, PartStatus]:
    """Return the status of every kind of part, and of each tagged part, by their suspects.

    `shown` is what share of each mode would have been detected. Of several parts of a kind one must be to be replaced
    by itself: to know that it is one of two is doubt about both."""
    statuses: dict[str, PartStatus] = {}
    for tag in {suspect.tag for suspect in suspects if suspect.kind is not None and suspect.tag}:
        statuses[tag] = _status_of([each for each in suspects if each.tag == tag], shown, knowledge)
    for kind in PartKind:
        mine = [suspect for suspect in suspects if suspect.kind is kind]
        if not mine:
            continue
        status = _status_of(mine, shown, knowledge)
        of_tags = [statuses[tag] for tag in {suspect.tag for suspect in mine if suspect.tag}]
        one_of_several = len(of_tags) > 1 and PartStatus.REPLACE not in of_tags
        statuses[kind.value] = PartStatus.IN_DOUBT if status is PartStatus.REPLACE and one_of_several else status
    return statuses


def _status_of(mine: list[Suspect], shown: dict[str, float], knowledge: Knowledge) -> PartStatus:
    limits = knowledge.thresholds
    total = min(1.0, sum(suspect.probability for suspect in mine))
    to_replace = sum(each.probability for each in mine if knowledge.mode(each.mode).action is Action.REPLACE)
    if to_replace >= limits.replace:
        return PartStatus.REPLACE
    if total >= limits.doubt and any(sum(r.decibans for r in s.reasons[1:]) > 3.0 for s in mine):
        return PartStatus.IN_DOUBT
    if total <= limits.cleared and _shown_of(mine, shown, knowledge) >= limits.cleared_shown:
        return PartStatus.CLEARED
    return PartStatus.UNTESTED


def _shown_of(suspects: list[Suspect], shown: dict[str, float], knowledge: Knowledge) -> float:
    """Share of a part's faults that would have been detected by now, each way of being faulty by how common it is."""
    priors = {suspect.mode: knowledge.mode(suspect.mode).prior for suspect in suspects}
    return sum(prior * shown[mode] for mode, prior in priors.items()) / sum(priors.values())


def sentence_of(suspects: tuple[Suspect, ...], knowledge: Knowledge, evidence: Evidence, share: float) -> str:
    """Return the verdict in one sentence; `share` is what share of faults would have been detected by now."""
    sure = [
        (leading, total) for leading, total in _decisions(suspects, knowledge) if total >= knowledge.thresholds.replace
    ]
    if sure:
        return "; ".join(_action_sentence(leading, total, knowledge) for leading, total in sure)
    top = suspects[0]
    if top.kind is None and not evidence.findings:
        return f"No fault found; {percent(share)} of such faults would have been detected by now"
    if top.kind is None:
        return f"Cannot tell yet: {percent(top.probability)} likely that nothing is faulty"
    return f"Cannot tell yet: most likely {_begun_small(suspect_title(top))}, {top.title} ({percent(top.probability)})"


def _begun_small(words: str) -> str:
    return words[:1].lower() + words[1:]


def _decisions(suspects: tuple[Suspect, ...], knowledge: Knowledge) -> list[tuple[Suspect, float]]:
    """Suspects that the same act at the same place would fix belong together: the likeliest of each, and their sum."""
    together: dict[tuple[Action, str, str], list[Suspect]] = {}
    for suspect in suspects:
        if suspect.kind is not None:
            key = (knowledge.mode(suspect.mode).action, suspect.part, suspect.place)
            together.setdefault(key, []).append(suspect)
    groups = [(each[0], min(1.0, sum(suspect.probability for suspect in each))) for each in together.values()]
    return sorted(groups, key=lambda group: -group[1])


_RESEATS = {
    PartKind.DRIVE: "Change the drive cable",
    PartKind.DISPLAY: "Change the display cable",
    PartKind.POWER: "Reseat the power plugs, other cable",
}
"""What reseating is for parts where that is not the word for it."""


def _action_sentence(suspect: Suspect, probability: float, knowledge: Knowledge) -> str:
    several = suspect.tag and suspect.kind is not None and suspect.tag != suspect.kind.value
    part = f"{suspect.kind.value} {suspect.tag}" if several and suspect.kind is not None else suspect.part
    if suspect.kind is PartKind.GRAPHICS and not several:
        part = suspect.kind.word
    part = knowledge.mode(suspect.mode).item or part
    words = {
        Action.REPLACE: f"Replace the {part}",
        Action.CLEAN: "Clean the graphics card" if suspect.kind is PartKind.GRAPHICS else "Clean the cooling",
        Action.RESEAT: _RESEATS.get(suspect.kind, f"Reseat: {part}") if suspect.kind is not None else "",
        Action.STOCK: "Go back to stock settings",
        Action.NOTHING: "Do nothing",
    }
    place = f"{suspect.place} " if suspect.place else ""
    what = "is weak" if suspect.core is not None else suspect.title
    place = f"{suspect.place}, " if suspect.place and suspect.core is None else place
    return f"{words[knowledge.mode(suspect.mode).action]}: {place}{what} ({percent(probability)})"
