"""From what is known and what is advised to the status of each part, and to one sentence."""

import numpy as np

from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.faults import STILL_THERE, Way, acts_in, way_of
from thresher.diagnosis.inference import Posterior
from thresher.diagnosis.knowledge import Action, Knowledge
from thresher.model.parts import PartKind, PartStatus
from thresher.model.verdict import ActStep, Advice, Course, Suspect, percent, suspect_title


def statuses_of(
    posterior: Posterior,
    suspects: tuple[Suspect, ...],
    shown: dict[Way, float],
    knowledge: Knowledge,
    evidence: Evidence,
    advice: Advice | None,
) -> dict[str, PartStatus]:
    """Return the status of every kind of part, and of each tagged part that is in the machine.

    A part is to be replaced when that is what is advised; where nothing is advised, when it is as likely as that takes.
    Of several parts of a kind one must be to be replaced by itself: to know that it is one of two is doubt about both.
    `shown` is what share of each way of being faulty would have been detected."""
    there = acts_in(posterior.faults, evidence.book.base) >= STILL_THERE
    judged = _Judged(posterior, suspects, shown, knowledge, advice)
    numbers = [
        n for n, fault in enumerate(posterior.faults) if there[n] and _of_a_part(fault.mode.action, fault.mode.harmless)
    ]
    statuses: dict[str, PartStatus] = {}
    for tag in dict.fromkeys(posterior.faults[n].tag for n in numbers):
        if tag:
            statuses[tag] = judged.status([n for n in numbers if posterior.faults[n].tag == tag], tag)
    for kind in PartKind:
        mine = [n for n in numbers if posterior.faults[n].mode.part is kind]
        if not mine:
            continue
        status = judged.status(mine, kind.value)
        of_tags = [statuses[tag] for tag in {posterior.faults[n].tag for n in mine} if tag]
        if len(of_tags) > 1 and status is PartStatus.REPLACE and PartStatus.REPLACE not in of_tags:
            status = PartStatus.IN_DOUBT
        elif PartStatus.REPLACE in of_tags:
            status = PartStatus.REPLACE
        statuses[kind.value] = status
    return statuses


def _of_a_part(action: Action, harmless: bool) -> bool:
    """Whether a way of being faulty says something about a part of the machine."""
    return not harmless and action is not Action.LOOK


class _Judged:
    """What the evidence says about a set of faults."""

    def __init__(
        self,
        posterior: Posterior,
        suspects: tuple[Suspect, ...],
        shown: dict[Way, float],
        knowledge: Knowledge,
        advice: Advice | None,
    ) -> None:
        self._posterior = posterior
        self._spoken_for = {
            (each.mode, each.tag) for each in suspects if sum(reason.decibans for reason in each.reasons[1:]) > _SPEAKS
        }
        self._shown, self._limits, self._advice = shown, knowledge.thresholds, advice

    def status(self, mine: list[int], name: str) -> PartStatus:
        limits = self._limits
        faults = self._posterior.faults
        if self._is_to_be_replaced(mine, name):
            return PartStatus.REPLACE
        probability = self._probability(mine)
        if probability >= limits.doubt and any((faults[n].mode.name, faults[n].tag) in self._spoken_for for n in mine):
            return PartStatus.IN_DOUBT
        if probability <= limits.cleared and self._shown_of(mine) >= limits.cleared_shown:
            return PartStatus.CLEARED
        return PartStatus.UNTESTED

    def _is_to_be_replaced(self, mine: list[int], name: str) -> bool:
        faults = self._posterior.faults
        if self._advice is None:
            return (
                self._probability([n for n in mine if faults[n].mode.action is Action.REPLACE]) >= self._limits.replace
            )
        steps = self._advice.act.steps if self._advice.act is not None else ()
        return any(step.action == Action.REPLACE and step.tag == name for step in steps)

    def _probability(self, mine: list[int]) -> float:
        """Return how likely at least one of some faults is there."""
        chosen = np.zeros(len(self._posterior.faults) + 1)
        chosen[mine] = 1.0
        return float((chosen[self._posterior.members].max(axis=1) * self._posterior.posterior).sum())

    def _shown_of(self, mine: list[int]) -> float:
        """Share of a part's faults that would have been detected by now, each by how common it is."""
        faults = self._posterior.faults
        priors = {way_of(faults[n]): faults[n].mode.prior for n in mine}
        return sum(prior * self._shown[way] for way, prior in priors.items()) / sum(priors.values())


_SPEAKS = 3.0
"""Evidence of so many decibans speaks for a suspect."""


def sentence_of(
    suspects: tuple[Suspect, ...], knowledge: Knowledge, evidence: Evidence, share: float, advice: Advice | None
) -> str:
    """Return the verdict in one sentence, which is that of the advice where there is one.

    `share` is what share of faults would have been detected by now."""
    if advice is not None and advice.course is Course.ACT and advice.act is not None:
        return "; ".join(_step_sentence(step, suspects, knowledge) for step in advice.act.steps)
    if advice is None:
        sure = [
            (first, sum_) for first, sum_ in _decisions(suspects, knowledge) if sum_ >= knowledge.thresholds.replace
        ]
        if sure:
            return "; ".join(_action_sentence(first, sum_, knowledge) for first, sum_ in sure)
    healthy = next(each for each in suspects if each.kind is None)
    handing_back = advice is not None and advice.course in (Course.PROVE, Course.RETURN)
    if not evidence.findings and (handing_back or healthy.probability >= _LIKELY_HEALTHY):
        return f"No fault found; {percent(share)} of such faults would have been detected by now"
    if advice is not None and advice.course is Course.RETURN:
        return f"No fault left ({percent(healthy.probability)} likely healthy); the last runs confirm it"
    if advice is not None and advice.course is Course.PROVE:
        return f"No known fault left ({percent(healthy.probability)} likely healthy), but no run has confirmed it yet"
    top = next(each for each in suspects if not each.gone)
    if top.kind is None:
        return f"Cannot tell yet: {percent(top.probability)} likely that nothing is faulty"
    return f"Cannot tell yet: most likely {_begun_small(suspect_title(top))}, {top.title} ({percent(top.probability)})"


_LIKELY_HEALTHY = 0.5


def _step_sentence(step: ActStep, suspects: tuple[Suspect, ...], knowledge: Knowledge) -> str:
    """Return what a step does and why, by the likeliest suspect that it is for."""
    for suspect in suspects:
        if suspect.kind is None or suspect.gone:
            continue
        mode = knowledge.mode(suspect.mode)
        if mode.action.value == step.action and step.tag in (
            suspect.tag,
            suspect.place,
            mode.item,
            mode.moves,
            mode.part.value,
        ):
            return _action_sentence(suspect, step.needed, knowledge)
        if mode.of_settings and step.action == Action.STOCK:
            return _action_sentence(suspect, step.needed, knowledge)
    return f"{step.action} {step.tag}".strip().capitalize() + f" ({percent(step.needed)})"


def _begun_small(words: str) -> str:
    return words[:1].lower() + words[1:]


def _decisions(suspects: tuple[Suspect, ...], knowledge: Knowledge) -> list[tuple[Suspect, float]]:
    """Suspects that the same act at the same place would fix belong together: the likeliest of each, and their sum."""
    together: dict[tuple[Action, str, str], list[Suspect]] = {}
    for suspect in suspects:
        action = knowledge.mode(suspect.mode).action if suspect.kind is not None else Action.LOOK
        if action is not Action.LOOK and not suspect.gone:
            together.setdefault((action, suspect.part, suspect.place), []).append(suspect)
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
    if knowledge.mode(suspect.mode).moves:
        moves = knowledge.mode(suspect.mode).moves
        act = f"Use a {moves} other than {suspect.place}" if suspect.place else f"Use another {moves}"
        return f"{act}: {suspect.title} ({percent(probability)})"
    place = f"{suspect.place} " if suspect.place else ""
    what = "is weak" if suspect.core is not None else suspect.title
    place = f"{suspect.place}, " if suspect.place and suspect.core is None else place
    return f"{words[knowledge.mode(suspect.mode).action]}: {place}{what} ({percent(probability)})"
