"""The book of trials: which parts and settings were in the machine for which runs, and how each trial ended.

Evidence stays with the instances that were installed. Trial number 0 is the machine as it came in; people read it as
1."""

from dataclasses import dataclass, field, replace
from enum import StrEnum

from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind


class Ended(StrEnum):
    """How a trial ended that was not carried out here, or that no run could record."""

    CLEAN = "clean"
    FAILED = "failed"
    NO_START = "did not start"


@dataclass(frozen=True, slots=True)
class BookPart:
    """One physical part that is or was in the machine, by its tag. `ours` for a known-good part of the shop."""

    tag: str
    kind: PartKind
    name: str = ""
    known_good: bool = False


INSTALLED_SYSTEM = "installed system"
"""What is left out of a machine that is run from the stick: it stands among what is treated."""
ANOTHER_SLOT = "another slot"
"""The place of a part that was moved to a slot, socket or port that is free: which one does not matter."""
ALL_SETTINGS = (PartKind.PROCESSOR, PartKind.MEMORY, PartKind.GRAPHICS)
"""Kinds of parts whose settings go back to stock: clocks and voltages, memory profile, graphics clocks and driver."""


@dataclass(frozen=True, slots=True)
class Configuration:
    """What is in the machine: the tags of its parts, and where those sit whose place matters (place, tag).

    `stock` settings are those with clocks and voltages back to stock or the memory profile off, `treated` the parts
    that were cleaned or reseated: their dust, paste or contact is another than before.
    """

    tags: tuple[str, ...]
    places: tuple[tuple[str, str], ...] = ()
    stock: tuple[PartKind, ...] = ()
    treated: tuple[str, ...] = ()

    def place_of(self, tag: str) -> str:
        """Return where a part sits, empty where that is not known."""
        return next((place for place, mine in self.places if mine == tag), "")

    def swapped(self, out: str, into: str) -> "Configuration":
        """Return the configuration with one part in the place of another."""
        tags = tuple(into if tag == out else tag for tag in self.tags)
        return replace(
            self, tags=tags, places=tuple((where, into if tag == out else tag) for where, tag in self.places)
        )

    def is_treated(self, tag: str, kind: PartKind) -> bool:
        """Whether a part was cleaned or reseated, named itself or as all of its kind."""
        return tag in self.treated or kind.value in self.treated


@dataclass(frozen=True, slots=True)
class Outcome:
    """What was seen without a run of ours: under which load, and for how many minutes.

    `kind` is what was seen, where it failed; `trust` how far the word for it goes, from 0 to 1.
    """

    ended: Ended
    load: str
    minutes: float
    kind: FindingKind | None = None
    trust: float = 0.8
    note: str = ""


@dataclass(frozen=True, slots=True)
class Trial:
    """One configuration, the runs made under it and what was seen otherwise.

    `kept` when this is how the machine is to stay, after a part was replaced or something was fixed permanently.
    """

    number: int
    title: str
    configuration: Configuration
    runs: tuple[int, ...] = ()
    outcomes: tuple[Outcome, ...] = ()
    kept: bool = False


@dataclass(frozen=True, slots=True)
class Book:
    """All parts that took part, and all trials in order; the first is the machine as it came in."""

    parts: tuple[BookPart, ...] = ()
    trials: tuple[Trial, ...] = field(default=())

    def trial_of(self, run: int | None) -> Trial | None:
        """Return the trial that a run belongs to: the one that names it, otherwise the first."""
        named = next((trial for trial in self.trials if run is not None and run in trial.runs), None)
        return named or (self.trials[0] if self.trials else None)

    @property
    def base(self) -> Configuration | None:
        """How the machine will be returned as far as decided: the newest kept configuration, or as it came in."""
        kept = [trial.configuration for trial in self.trials if trial.kept]
        return kept[-1] if kept else self.trials[0].configuration if self.trials else None

    def part(self, tag: str) -> BookPart | None:
        """Return a part by its tag."""
        return next((part for part in self.parts if part.tag == tag), None)


@dataclass(frozen=True, slots=True)
class Candidate:
    """A configuration that the shop can make: what changes, in words, and the minutes for it."""

    title: str
    configuration: Configuration
    minutes: float


Stint = tuple[str, float]
"""A load and minutes of it."""


@dataclass(frozen=True, slots=True)
class NextTrial:
    """A trial worth making: `gain` bits, for minutes of swap and of `stints`, one load after the other in one run.

    `finds` is how likely it ends with a finding; `if_clean` and `if_found` name the part that each ending would leave
    as the likeliest, with its probability. `proof` marks one that verifies the machine before it is returned,
    `overnight` one that nobody waits for.
    """

    candidate: Candidate
    stints: tuple[Stint, ...]
    gain: float
    finds: float
    if_clean: str
    if_found: str
    proof: bool = False
    overnight: bool = False

    @property
    def run_minutes(self) -> float:
        """Minutes of all loads."""
        return sum(minutes for _, minutes in self.stints)

    @property
    def minutes(self) -> float:
        """Minutes of the swap and the run."""
        return self.candidate.minutes + self.run_minutes

    @property
    def loads(self) -> str:
        """Name the loads with their minutes."""
        return ", ".join(f"{minutes:.0f} min of {load}" for load, minutes in self.stints)

    @property
    def sentence(self) -> str:
        """Say in one sentence what the trial is and why."""
        if self.proof:
            return f"Verify before returning it: {self.loads}"
        if not self.stints:
            return (
                f"{self.candidate.title}, and see whether it starts. If it does not: {self.if_found}."
                f" If it does: {self.if_clean}"
            )
        when = "Overnight: " if self.overnight else ""
        return (
            f"{when}{self.candidate.title}, {self.loads}. If it fails: {self.if_found}. If it passes: {self.if_clean}"
        )


EMPTY_BOOK = Book()
"""No book is kept: every part is the machine's own and always in it."""
