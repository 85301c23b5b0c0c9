"""What a check is, and what it may ask of whoever carries it out.

A check is a generator of requests that returns its results. It never waits by itself: it asks for a pause, for work
beside (what may block), for a load on the parts, or for a person's answer, and goes on with what comes back. So the
same check runs on this computer, on a simulated machine's clock, and in a test that answers its requests by hand.
Whatever it changes it puts back in a `finally`, which also runs when it is stopped.
"""

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar, cast

from thresher.model.channels import Channel
from thresher.model.checks import CheckOutcome, CheckResult, Figure, Need
from thresher.model.findings import Finding, FindingKind
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import System
from thresher.model.questions import Answer, Question
from thresher.model.sheet import Block

Work = TypeVar("Work")


@dataclass(frozen=True, slots=True)
class Progress:
    """How far the check is: what it does now, and which share of it is done, 0 to 1."""

    words: str
    share: float


@dataclass(frozen=True, slots=True)
class Pause:
    """Go on after so many seconds of the machine's time."""

    seconds: float


@dataclass(frozen=True, slots=True)
class Beside:
    """Do something that may block, beside everything else; what it returns comes back, what it raises is raised."""

    work: Callable[[], object]


@dataclass(frozen=True, slots=True)
class UnderLoad:
    """Carry out a block of a sheet; a `LoadSeen` comes back when it has ended."""

    block: Block


@dataclass(frozen=True, slots=True)
class Ask:
    """Ask a person; an `Answer` comes back, None when nobody is there or nobody answers in time."""

    question: Question


Request = Progress | Pause | Beside | UnderLoad | Ask


@dataclass(frozen=True, slots=True)
class Reading:
    """One tick: machine time in seconds, and the values of all channels in their order."""

    at: float
    values: tuple[float | None, ...]


@dataclass(frozen=True, slots=True)
class LoadSeen:
    """What came of a block: what was found meanwhile, the readings, seconds of checked work, and beats by CPU.

    `left_out` says why nothing was done, empty when it was.
    """

    findings: tuple[Finding, ...]
    readings: tuple[Reading, ...]
    checked_s: float
    beats: dict[int, int]
    left_out: str = ""


CheckSteps = Generator[Request, Any, tuple[CheckResult, ...]]
Steps = Generator[Request, Any, Work]


class CheckBench(Protocol):
    """What a check may look at. Nothing of it blocks; what may is asked for by `beside`."""

    @property
    def system(self) -> System:
        """The machine."""
        ...

    @property
    def inventory(self) -> Inventory:
        """Its parts."""
        ...

    @property
    def channels(self) -> tuple[Channel, ...]:
        """The machine's channels."""
        ...

    @property
    def reading(self) -> Reading | None:
        """The newest tick."""
        ...

    @property
    def attended(self) -> bool:
        """Whether a person is there to answer."""
        ...

    def now(self) -> float:
        """Machine time in seconds."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One check.

    `about` tells a beginner in a paragraph what it tests and why. `parts` are the kinds that it speaks about, `usual_s`
    how long it takes on a usual machine. `finds` and `misses` say what it can and cannot find. `kind` is the finding of
    a failure, `code` its fault code. `worth_min` is how many minutes of clean work a pass counts as in the verdict.
    `long` keeps it out of the short round. `run` makes its steps.
    """

    name: str
    row: PartKind
    about: str
    finds: str
    misses: str
    usual_s: float
    run: Callable[[CheckBench], CheckSteps]
    parts: tuple[PartKind, ...] = ()
    needs: tuple[Need, ...] = ()
    kind: FindingKind | None = None
    code: str = ""
    worth_min: float = 0.0
    long: bool = False
    there: Callable[[Inventory], bool] = lambda _inventory: True
    """Whether a machine has what it tests."""

    def passed(self, why: str, *figures: Figure, place: str = "") -> CheckResult:
        """Return a pass."""
        return CheckResult(self.name, self.row, CheckOutcome.PASS, why, figures, place)

    def failed(self, why: str, *figures: Figure, place: str = "", code: str = "") -> CheckResult:
        """Return a failure with the check's fault code, or another one."""
        return CheckResult(self.name, self.row, CheckOutcome.FAIL, why, figures, place, code=code or self.code)

    def unclear(self, missing: str, *figures: Figure, place: str = "") -> CheckResult:
        """Return that it could not tell, and what was missing for it."""
        return CheckResult(
            self.name, self.row, CheckOutcome.INCONCLUSIVE, f"could not tell: {missing}", figures, place, missing
        )

    def nobody(self, what: str) -> CheckResult:
        """Return that a person is needed, and for what."""
        why = f"nobody was there {what}"
        return CheckResult(self.name, self.row, CheckOutcome.NEEDS_PERSON, why, missing=Need.PERSON.value)


def progress(words: str, share: float) -> Steps[None]:
    """Say how far it is."""
    yield Progress(words, share)


def pause(seconds: float) -> Steps[None]:
    """Go on after so many seconds of the machine's time."""
    yield Pause(seconds)


def beside(work: Callable[[], Work]) -> Steps[Work]:
    """Do something that may block, beside everything else, and return what it returns. Raises what it raises."""
    return cast(Work, (yield Beside(work)))


def under_load(block: Block) -> Steps[LoadSeen]:
    """Carry out a block and return what came of it."""
    return cast(LoadSeen, (yield UnderLoad(block)))


def ask(question: Question) -> Steps[Answer | None]:
    """Ask a person; None when nobody answers."""
    return cast("Answer | None", (yield Ask(question)))


def watched(bench: CheckBench, seconds: float, words: str, first: float, last: float) -> Steps[tuple[Reading, ...]]:
    """Collect the readings of some seconds, once a second, with progress from share `first` to `last`."""
    begun, found = bench.now(), list[Reading]()
    while True:
        gone = bench.now() - begun
        newest = bench.reading
        if newest is not None and (not found or newest.at > found[-1].at):
            found.append(newest)
        if gone >= seconds:
            return tuple(found)
        yield Progress(words, first + (last - first) * min(1.0, gone / seconds))
        yield Pause(1.0)
