"""What the diagnosis answers with: suspects, their reasons, the status of each part."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import NextTrial

EVERYDAY_USE = "everyday use"
"""The load of evidence that did not come under one of ours: what the machine did at its owner's."""


@dataclass(frozen=True, slots=True)
class Exposure:
    """Minutes that a load ran in one band of conditions, whatever came of it.

    `broken_off` are those of a block that came to no end in order: they are no clean time. `cores` are those that the
    load ran on, none for all of them.
    """

    run: int
    block: int
    load: str
    minutes: float
    temperature_c: float | None
    broken_off: bool = False
    cores: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Reason:
    """One piece of evidence and its weight for (positive) or against a suspect, in tenths of a ban."""

    text: str
    decibans: float


@dataclass(frozen=True, slots=True)
class Suspect:
    """A part and a way of being faulty; `kind` None stands for nothing faulty in the hardware.

    `reasons` starts with the prior and adds up to the log odds of `probability`. `tag` is that of the part where a
    book of trials distinguishes several of a kind. `gone` marks what is no longer in the machine as it is to be handed
    back. `deciding_test` is the test that decides whether it is faulty, in words."""

    mode: str
    title: str
    kind: PartKind | None
    part: str
    place: str
    probability: float
    reasons: tuple[Reason, ...]
    next_step: str = ""
    tag: str = ""
    core: int | None = None
    gone: bool = False
    deciding_test: str = ""
    slot: str = ""

    @property
    def way(self) -> tuple[str, str, str]:
        """What tells it from others: the way of being faulty, the part's tag, the slot of a fault of a place."""
        return self.mode, self.tag, self.slot


@dataclass(frozen=True, slots=True)
class HowLong:
    """How much clean running is worth for one way of being faulty, or what its findings so far say.

    `shown_share` of such faults would have been detected by now; under the newest conditions 95 % and 99 % are reached
    after so many more clean minutes (None: not within a thousand hours, or this load cannot show them)."""

    mode: str
    title: str
    kind: PartKind
    shown_share: float
    minutes_to_95: float | None
    minutes_to_99: float | None


@dataclass(frozen=True, slots=True)
class SeenRate:
    """How often findings have come under load: findings per hour, with the range that holds nine times of ten.

    `minutes_to_sure` is how long a clean run must be after the repair to be 95 % sure that it was right.
    """

    findings: int
    hours: float
    per_hour: float
    low: float
    high: float
    minutes_to_sure: float


@dataclass(frozen=True, slots=True)
class ActStep:
    """One step of an act: what is done (`replace`, `clean`, `reseat`, `back to stock`) to which part.

    `tag` is the part's, or its kind where no book is kept or all of a kind are treated; empty for settings. `needed`
    is the probability that the step fixes something that nothing smaller would."""

    action: str
    tag: str
    kind: PartKind | None
    needed: float = 0.0


@dataclass(frozen=True, slots=True)
class Act:
    """One thing to do, or two together: what, what it costs in parts and minutes, how likely it fixes what is wrong.

    `expected` is the cost with the comebacks that are to be expected, in the shop's money; `risk` the part of it that
    is comebacks and the right repair after them. `fixes` is the probability that no fault is left, 1 for a sound
    machine. `action` is what it is in one word, `tags` and `kinds` the parts that it is about, `steps` each step by
    itself. `needed` is the probability that all steps are needed, so that nothing is bought or done unnecessarily; for
    doing nothing, that nothing is faulty."""

    words: str
    action: str
    tags: tuple[str, ...]
    kinds: tuple[PartKind, ...]
    price: float
    minutes: float
    fix_probability: float
    risk: float
    expected: float
    needed: float = 0.0
    steps: tuple[ActStep, ...] = ()


class Course(StrEnum):
    """What to do: act, test first, verify the machine, return it, or wait, since no test is worth its time."""

    ACT = "act"
    TRY = "try"
    PROVE = "prove"
    RETURN = "return"
    WATCH = "watch"


@dataclass(frozen=True, slots=True)
class Advice:
    """How to continue, with the act or the trial that is meant, and the sentence that says so and why."""

    course: Course
    sentence: str
    act: Act | None = None
    trial: NextTrial | None = None


@dataclass(frozen=True, slots=True)
class Verdict:
    """The decision so far.

    `shown_share` is the share of faults of the kinds tested that would have been detected by now, 0 to 1, and
    `minutes_to_sure` how many more clean minutes of this load under these conditions bring it to 95 % (None when no
    load has run), `minutes_to_very_sure` to 99 %. `how_long` gives the same by way of being faulty; `seen_rate` is
    there from the first finding on; `combined_findings` are what findings say together. `acts` are what may be done,
    least expected cost first; `next_trials` the trials that are most informative for their time, best first.
    `own_prices` when the shop's list was used and not the defaults. `advice` is there as soon as there are acts."""

    suspects: tuple[Suspect, ...]
    statuses: dict[str, PartStatus]
    sentence: str
    shown_share: float
    minutes_to_sure: float | None
    minutes_to_very_sure: float | None = None
    clean_time: tuple[HowLong, ...] = ()
    seen_rate: SeenRate | None = None
    combined_findings: tuple[str, ...] = ()
    acts: tuple[Act, ...] = ()
    next_trials: tuple[NextTrial, ...] = ()
    own_prices: bool = False
    advice: Advice | None = None


def percent(probability: float) -> str:
    """Return a probability for a person; never a certainty that the evidence cannot give."""
    if probability > 0.99:
        return "> 99 %"
    return "< 1 %" if probability < 0.01 else f"{probability * 100:.0f} %"


def suspect_title(suspect: Suspect) -> str:
    """Return the part and place of a suspect as a person names it."""
    if suspect.kind is None:
        return "Nothing faulty"
    part = f"{suspect.kind.value} {suspect.tag}" if suspect.tag and suspect.tag != suspect.kind.value else suspect.part
    part = part[:1].upper() + part[1:]
    return f"{part}, {suspect.place}" if suspect.place else part
