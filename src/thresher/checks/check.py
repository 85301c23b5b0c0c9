"""What a check is, and what it may ask of whoever carries it out.

A check is a generator of requests that returns its results. It never waits by itself: it asks for a pause, for work
beside (what may block), for a load on the parts, or for a person's answer, and goes on with what comes back. So the
same check runs on this computer, on a simulated machine's clock, and in a test that answers its requests by hand.
Whatever it changes it puts back in a `finally`, which also runs when it is stopped.
"""

import threading
from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar, cast

from thresher.model.channels import Channel
from thresher.model.checks import CheckOutcome, CheckResult, Figure, Need
from thresher.model.findings import Finding, FindingKind
from thresher.model.parts import BuiltInKind, Inventory, PartKind
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
    """Do something that may block, beside everything else; what it returns comes back, what it raises is raised.

    `undo` is done with what it returns when the check was stopped before that came.
    """

    work: Callable[[], object]
    undo: Callable[[Any], None] = lambda _value: None


@dataclass(frozen=True, slots=True)
class Coverage:
    """How much of the memory a load has: bytes taken, bytes in the machine, and whole passes over what was taken."""

    taken: int
    total: int
    passes: int


@dataclass(frozen=True, slots=True)
class UnderLoad:
    """Carry out a block of a sheet; a `LoadSeen` comes back when it has ended.

    `meanwhile` is done beside at every tick under load, as far as the one before has come back. `until` ends the block
    before its time, by how far a load of the memory has come.
    """

    block: Block
    meanwhile: Callable[[], object] | None = None
    until: Callable[[Coverage], bool] = lambda _coverage: False


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

    `left_out` says why nothing was done, or why it broke off; empty when it was carried out. `samples` are what was
    returned meanwhile, `coverage` how far a load of the memory came.
    """

    findings: tuple[Finding, ...]
    readings: tuple[Reading, ...]
    checked_s: float
    beats: dict[int, int]
    left_out: str = ""
    samples: tuple[object, ...] = ()
    coverage: Coverage | None = None


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

    `about` says in a paragraph what it tests and why, for somebody new to the trade. `parts` are the kinds that it
    speaks about, `usual_s` how long it takes on a usual machine, `time` on one machine where that depends. `finds`
    and `misses` say what it can and cannot find. `kind` is the finding of a failure, `code` its fault code.
    `worth_min` is how many minutes of clean work a pass counts as in the verdict. `long` keeps it out of the short
    round. `run` makes its steps.
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
    time: Callable[[Inventory], float | None] = lambda _inventory: None
    there: Callable[[Inventory], bool] = lambda _inventory: True
    """Whether a machine has the part that it tests."""
    built_in: BuiltInKind | None = None
    """What else has to be built in for it."""

    def has_subject(self, inventory: Inventory) -> bool:
        """Whether a machine has what it tests."""
        return self.there(inventory) and (self.built_in is None or inventory.has(self.built_in))

    @property
    def subject(self) -> str:
        """What it tests, as a person calls it."""
        return self.built_in.value if self.built_in is not None else self.row.word

    def seconds_on(self, inventory: Inventory) -> float:
        """Return about how long it takes on a machine."""
        return max(1.0, self.time(inventory) or self.usual_s)

    def passed(self, why: str, *figures: Figure, place: str = "") -> CheckResult:
        """Return a pass."""
        return CheckResult(self.name, self.row, CheckOutcome.PASS, why, figures, place)

    def failed(self, why: str, *figures: Figure, place: str = "", code: str = "") -> CheckResult:
        """Return a failure with the check's fault code, or another one."""
        return CheckResult(self.name, self.row, CheckOutcome.FAIL, why, figures, place, code=code or self.code)

    def unclear(self, missing: str, *figures: Figure, place: str = "") -> CheckResult:
        """Return that it could not tell, and what was missing for it."""
        return CheckResult(self.name, self.row, CheckOutcome.INCONCLUSIVE, missing, figures, place, missing)

    def nobody(self, what: str) -> CheckResult:
        """Return that a person is needed, and for what."""
        why = f"nobody was there {what}"
        return CheckResult(self.name, self.row, CheckOutcome.NEEDS_PERSON, why, missing=Need.PERSON.value)


def let_go(close: Callable[[], object]) -> None:
    """Close something that may take a moment, without waiting: a check that is stopped must be gone at once."""
    threading.Thread(target=close, name="let go", daemon=True).start()


def having(kind: PartKind) -> Callable[[Inventory], bool]:
    """Return a test of whether a machine has a part of a kind."""
    return lambda inventory: bool(inventory.parts_of(kind))


def progress(words: str, share: float) -> Steps[None]:
    """Say how far it is."""
    yield Progress(words, share)


def pause(seconds: float) -> Steps[None]:
    """Go on after so many seconds of the machine's time."""
    yield Pause(seconds)


def beside(work: Callable[[], Work], undo: Callable[[Work], None] = lambda _value: None) -> Steps[Work]:
    """Do something that may block, beside everything else, and return what it returns. Raises what it raises.

    A check that is stopped meanwhile never gets it; `undo` then takes it back.
    """
    return cast(Work, (yield Beside(work, undo)))


def under_load(block: Block) -> Steps[LoadSeen]:
    """Carry out a block and return what came of it."""
    return cast(LoadSeen, (yield UnderLoad(block)))


def sampled_under_load(block: Block, meanwhile: Callable[[], Work]) -> Steps[tuple[LoadSeen, tuple[Work, ...]]]:
    """Carry out a block, and return what came of it with what was sampled meanwhile."""
    seen = cast(LoadSeen, (yield UnderLoad(block, meanwhile)))
    return seen, cast("tuple[Work, ...]", seen.samples)


def load_until(block: Block, until: Callable[[Coverage], bool]) -> Steps[LoadSeen]:
    """Carry out a block of the memory until it is through, at most for the block's length."""
    return cast(LoadSeen, (yield UnderLoad(block, until=until)))


def ask(question: Question) -> Steps[Answer | None]:
    """Ask a person; None when nobody answers."""
    return cast("Answer | None", (yield Ask(question)))


def one_answer(check: Check, bench: CheckBench, question: Question, doing: str) -> Steps[Answer | CheckResult]:
    """Ask the one question that a check rests on; a result comes back in its place when nobody answers."""
    if not bench.attended:
        return check.nobody(doing)
    yield Progress(check.name, 0.0)
    answer = yield from ask(question)
    return answer if answer is not None else check.unclear("the question was left unanswered")


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
