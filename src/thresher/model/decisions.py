"""Verdicts frozen when a decision was made, what it turned out to be, and jobs that are closed with that."""

from dataclasses import dataclass

from thresher.model.parts import PartKind
from thresher.model.verdict import ActStep, Suspect, percent, suspect_title


@dataclass(frozen=True, slots=True)
class FrozenVerdict:
    """A verdict as it stood when a decision was made, at Unix time `wall`: what was to be done, and why.

    `suspects` are the likeliest ones with their reasons, `trials` how many trials the book held.
    """

    wall: float
    sentence: str
    act: str
    steps: tuple[ActStep, ...]
    suspects: tuple[Suspect, ...]
    trials: int
    note: str = ""


@dataclass(frozen=True, slots=True)
class Culprit:
    """What it really was: a part by kind and tag, with its way of being faulty where that is known."""

    kind: PartKind
    tag: str = ""
    mode: str = ""


@dataclass(frozen=True, slots=True)
class TurnedOut:
    """What a job turned out to be, at Unix time `wall`; no culprit stands for nothing faulty in the hardware."""

    wall: float
    culprits: tuple[Culprit, ...]
    note: str = ""


@dataclass(frozen=True, slots=True)
class Decisions:
    """All verdicts frozen in a job, oldest first, and what it turned out to be when that is known."""

    frozen: tuple[FrozenVerdict, ...] = ()
    turned_out: TurnedOut | None = None


@dataclass(frozen=True, slots=True)
class ClosedJob:
    """A job of the shop that is known for what it was. `said` is the chance that its last frozen verdict gave to that.

    `job` names the job file, `counts` whether it adjusts how common faults are taken to be.
    """

    job: str
    number: str
    wall: float
    culprits: tuple[Culprit, ...]
    said: float | None = None
    counts: bool = True


@dataclass(frozen=True, slots=True)
class PriorChange:
    """How the shop's own closed jobs have changed how common a way of being faulty is: shares of all jobs, 0 to 1.

    `kind` None stands for nothing faulty in the hardware; `jobs` is how many of them it was.
    """

    mode: str
    title: str
    kind: PartKind | None
    before: float
    after: float
    jobs: float


NO_DECISIONS = Decisions()


def chance_given(frozen: FrozenVerdict, turned_out: TurnedOut) -> float:
    """Return the chance that a frozen verdict gave to what it turned out to be: of the least likely of its culprits."""
    if not turned_out.culprits:
        return sum(each.probability for each in frozen.suspects if each.kind is None)
    return min(_chance_of(frozen, culprit) for culprit in turned_out.culprits)


def _chance_of(frozen: FrozenVerdict, culprit: Culprit) -> float:
    mine = [
        each.probability
        for each in frozen.suspects
        if each.kind is culprit.kind and (not culprit.tag or each.tag in ("", culprit.tag))
        and (each.mode == culprit.mode if culprit.mode else not each.mode.endswith(".settings"))
    ]  # fmt: skip
    return min(1.0, sum(mine))


def compare(frozen: FrozenVerdict, turned_out: TurnedOut) -> str:
    """Say in a sentence how a frozen verdict stands beside what it turned out to be."""
    chance = chance_given(frozen, turned_out)
    named = ", ".join(culprit_words(each) for each in turned_out.culprits) or "nothing faulty in the hardware"
    top = frozen.suspects[0] if frozen.suspects else None
    if chance >= 0.5:
        return f"It turned out to be {named}, as was said with {percent(chance)}."
    said = f"{suspect_title(top)} with {percent(top.probability)}" if top is not None else "nothing"
    return f"It turned out to be {named}, which was given {percent(chance)}; the likeliest then was {said}."


def culprit_words(culprit: Culprit) -> str:
    """Return a culprit as a person names it."""
    if culprit.mode.endswith(".settings"):
        return f"settings of the {culprit.kind.value}"
    tag = f" {culprit.tag}" if culprit.tag and culprit.tag != culprit.kind.value else ""
    return f"the {culprit.kind.value}{tag}"
