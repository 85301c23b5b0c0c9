"""Results of component checks: bounded tests of one part that pass, fail, or say what was missing."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind
from thresher.model.verdict import Exposure


class CheckOutcome(StrEnum):
    """How a check ended."""

    PASS = "pass"  # noqa: S105 (an outcome, no password)
    FAIL = "fail"
    INCONCLUSIVE = "inconclusive"
    NEEDS_PERSON = "needs a person"

    @property
    def rank(self) -> int:
        """Which of several outcomes stands for all: the lowest."""
        return (CheckOutcome.FAIL, CheckOutcome.INCONCLUSIVE, CheckOutcome.NEEDS_PERSON, CheckOutcome.PASS).index(self)


class Round(StrEnum):
    """Which checks a round over the parts of a machine has."""

    SHORT = "short"
    THOROUGH = "thorough"


class Need(StrEnum):
    """What a check needs beyond the machine as it stands."""

    PERSON = "a person"
    ADAPTER = "the adapter plugged in"
    CABLE = "a network cable plugged in"
    ON_BATTERY = "the adapter pulled out"
    STICK = "a USB stick"
    DISC = "a disc in the drive"
    CARD = "a memory card"
    LOOP = "a sound cable from output to input"
    RIGHTS = "more rights"


@dataclass(frozen=True, slots=True)
class Figure:
    """One thing that a check measured: its value with unit, the limits it was held against, and where those are from.

    `words` is what was read where it is no number."""

    name: str
    value: float | None = None
    unit: str = ""
    low: float | None = None
    high: float | None = None
    source: str = ""
    words: str = ""

    @property
    def within(self) -> bool:
        """Whether it lies within its limits; what was not measured breaks none."""
        if self.value is None:
            return True
        return (self.low is None or self.value >= self.low) and (self.high is None or self.value <= self.high)

    @property
    def text(self) -> str:
        """The figure as a person reads it, with its limits."""
        if self.value is None:
            return f"{self.name} {self.words or 'not measured'}"
        least = f"at least {self.low:.4g}" if self.low is not None else ""
        most = f"at most {self.high:.4g}" if self.high is not None else ""
        limits = " and ".join(each for each in (least, most) if each)
        unit = f" {self.unit}" if self.unit else ""
        return f"{self.name} {self.value:.4g}{unit}" + (f" ({limits})" if limits else "")


@dataclass(frozen=True, slots=True)
class CheckResult:
    """What a check says of one part: the outcome and why, in a sentence, with its figures.

    `place` names the part where there are several, `missing` what an inconclusive one lacked, `code` is the fault code
    of a failure. `at` is machine time in seconds, `wall` Unix time, `seconds` how long it took; `worth_min` is how many
    minutes of clean work it counts as in the verdict. `job` is the file name of the job where that is another one.
    """

    check: str
    row: PartKind
    outcome: CheckOutcome
    why: str
    figures: tuple[Figure, ...] = ()
    place: str = ""
    missing: str = ""
    code: str = ""
    at: float = 0.0
    wall: float = 0.0
    seconds: float = 0.0
    run: int | None = None
    worth_min: float = 0.0
    job: str = ""

    @property
    def title(self) -> str:
        """The check with its place."""
        return f"{self.check}, {self.place}" if self.place else self.check


def exposure_of_check(result: CheckResult) -> Exposure | None:
    """Return what a pass is worth in the verdict, None for anything else."""
    if result.outcome is not CheckOutcome.PASS or not result.worth_min or result.run is None:
        return None
    return Exposure(result.run, -1, result.check, result.worth_min, None)


def together(results: Iterable[CheckResult]) -> CheckOutcome | None:
    """Return the outcome that stands for several results, None for none."""
    return min((each.outcome for each in results), key=lambda outcome: outcome.rank, default=None)
