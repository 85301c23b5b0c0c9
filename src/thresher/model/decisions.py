"""Verdicts locked when a decision was made, the actual cause, and jobs that are closed with that."""

from dataclasses import dataclass

from thresher.model.parts import PartKind
from thresher.model.verdict import ActStep, Suspect, percent, suspect_title


@dataclass(frozen=True, slots=True)
class LockedVerdict:
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
class ActualCause:
    """What a job actually was, at Unix time `wall`; no culprit stands for nothing faulty in the hardware."""

    wall: float
    culprits: tuple[Culprit, ...]
    note: str = ""


@dataclass(frozen=True, slots=True)
class Decisions:
    """All verdicts locked in a job, oldest first, and the actual cause when that is known."""

    locked: tuple[LockedVerdict, ...] = ()
    actual_cause: ActualCause | None = None


@dataclass(frozen=True, slots=True)
class ClosedJob:
    """A job of the shop that is known for what it was. `predicted` is the chance that its last locked
    verdict gave to that.

    `job` names the job file, `counted` whether it adjusts how common faults are taken to be.
    """

    job: str
    number: str
    wall: float
    culprits: tuple[Culprit, ...]
    predicted: float | None = None
    counted: bool = True


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


def chance_given(frozen: LockedVerdict, actual_cause: ActualCause) -> float:
    """Return the chance that a locked verdict gave to the actual cause: of the least likely of its culprits."""
    if not actual_cause.culprits:
        return sum(each.probability for each in frozen.suspects if each.kind is None)
    return min(_chance_of(frozen, culprit) for culprit in actual_cause.culprits)


def _chance_of(frozen: LockedVerdict, culprit: Culprit) -> float:
    mine = [
        each.probability
        for each in frozen.suspects
        if each.kind is culprit.kind
        and (not culprit.tag or each.tag in ("", culprit.tag))
        and (each.mode == culprit.mode if culprit.mode else not each.mode.endswith(".settings"))
    ]
    return min(1.0, sum(mine))


def compare(frozen: LockedVerdict, actual_cause: ActualCause) -> str:
    """Say in a sentence how a locked verdict stands beside the actual cause."""
    chance = chance_given(frozen, actual_cause)
    named = ", ".join(culprit_words(each) for each in actual_cause.culprits) or "nothing faulty in the hardware"
    top = frozen.suspects[0] if frozen.suspects else None
    if chance >= 0.5:
        return f"Actual cause: {named}, predicted at {percent(chance)}."
    words = f"{suspect_title(top)} ({percent(top.probability)})" if top is not None else "nothing"
    return f"Actual cause: {named}, predicted at {percent(chance)}; the top suspect was {words}."


def culprit_words(culprit: Culprit) -> str:
    """Return a culprit as a person names it."""
    if culprit.mode.endswith(".settings"):
        return f"settings of the {culprit.kind.value}"
    tag = f" {culprit.tag}" if culprit.tag and culprit.tag != culprit.kind.value else ""
    return f"the {culprit.kind.value}{tag}"
