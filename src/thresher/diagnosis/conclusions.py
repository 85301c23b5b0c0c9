"""From suspects to the status of each part, and to one sentence."""

from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.model.parts import PartKind, PartStatus
from thresher.model.verdict import Suspect, percent, suspect_title


def statuses_of(suspects: tuple[Suspect, ...], shown: dict[str, float], knowledge: Knowledge) -> dict[str, PartStatus]:
    """Return the status of every kind of part by its suspects; `shown` is what share of each mode would have shown."""
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


def sentence_of(suspects: tuple[Suspect, ...], knowledge: Knowledge, evidence: Evidence, share: float) -> str:
    """Return the verdict in one sentence; `share` is what share of faults would have shown by now."""
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
    several = suspect.tag and suspect.kind is not None and suspect.tag != suspect.kind.value
    part = f"{suspect.kind.value} {suspect.tag}" if several and suspect.kind is not None else suspect.part
    words = {
        Action.REPLACE: f"Replace the {part}",
        Action.CLEAN: "Clean the cooling",
        Action.RESEAT: f"Seat anew: {part}",
        Action.STOCK: "Go back to stock settings",
        Action.NOTHING: "Do nothing",
    }
    place = f"{suspect.place} " if suspect.place else ""
    what = "is weak" if suspect.place.startswith("core") else suspect.title
    place = f"{suspect.place}, " if suspect.place and not suspect.place.startswith("core") else place
    return f"{words[knowledge.mode(suspect.mode).action]}: {place}{what} ({percent(probability)})"
