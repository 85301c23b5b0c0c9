"""Run sheets: the plan of a run as plain data, which the engine explains, times, checks and carries out."""

from dataclasses import dataclass, field
from enum import StrEnum

from thresher.model.parts import PartKind


class WorkingSet(StrEnum):
    """Where the data of a load live, and so which caches and buses it strains."""

    CORE = "inside the core"
    SHARED_CACHE = "shared cache"
    MAIN_MEMORY = "main memory"
    MIXED = "mixed"
    """Each beat the next of the three, so that sizes are walked through."""


class Precision(StrEnum):
    """Of the numbers that a load computes with."""

    DOUBLE = "double"
    SINGLE = "single"


class ShapeKind(StrEnum):
    """How a load is applied over time."""

    STEADY = "steady"
    PULSE = "pulse"
    RAMP = "ramp"
    HOP = "hop"
    STAGGER = "stagger"


@dataclass(frozen=True, slots=True)
class Shape:
    """A shape and its times in seconds.

    Pulse: on for `duty` of every `period_s`, in step on all cores. Ramp: from nothing to full over `period_s`, then
    again. Hop: one core after another for `period_s` each, the last `1 - duty` of it a pause. Stagger: a core more
    joins every `period_s` until all run, then again from the first.
    """

    kind: ShapeKind = ShapeKind.STEADY
    period_s: float = 0.0
    duty: float = 1.0

    @property
    def title(self) -> str:
        """What a person reads of it; empty for steady."""
        if self.kind is ShapeKind.STEADY:
            return ""
        period = f"{self.period_s * 1000:.0f} ms" if self.period_s < 1 else f"{self.period_s:g} s"
        share = f" {self.duty * 100:.0f} %" if self.kind in (ShapeKind.PULSE, ShapeKind.HOP) else ""
        return f"{self.kind.value} {period}{share}"


class GateKind(StrEnum):
    """What a gate waits for."""

    SETTLE = "settle"
    COOL_DOWN = "cool down"
    ASK = "ask"
    """For a person to say "go on"; after the longest time it goes on without."""


@dataclass(frozen=True, slots=True)
class Gate:
    """A point that waits: `length_s` is planned for it, `at_most_s` is the longest it may take.

    A settle gate opens when the hottest channel moves by less than `within_k` kelvin in 20 s, its noise allowed for; a
    cool-down gate when it is within `within_k` kelvin of `to_c`, of where the run began if that is None.
    """

    kind: GateKind
    start_s: float
    length_s: float
    at_most_s: float
    within_k: float = 2.0
    to_c: float | None = None


@dataclass(frozen=True, slots=True)
class Block:
    """One load on the sheet: `threads` 0 means every logical CPU, else that many, one a core first.

    `cores` names cores instead, `one_per_core` leaves their further threads idle. `hold_c` keeps the hottest core at
    that temperature by doing less. For memory, `share` of what is free above the reserve, or `amount` in bytes, is
    walked through by `patterns`. For drives, `drives` are their kernel names, none for all of them; a scratch file has
    `amount` bytes and lies in `folder`, empty for one that the program picks. For graphics, `cards` are their kernel
    names, none for all of them, and `amount` is how much of a card's memory is checked. `is_check` marks a component
    check, which `load` names and which has nothing else to set.
    """

    row: PartKind
    load: str
    start_s: float
    length_s: float
    threads: int = 0
    working_set: WorkingSet = WorkingSet.SHARED_CACHE
    shape: Shape = field(default_factory=Shape)
    precision: Precision = Precision.DOUBLE
    cores: tuple[int, ...] = ()
    hold_c: float | None = None
    share: float = 1.0
    amount: int | None = None
    patterns: tuple[str, ...] = ()
    wait_s: float = 60.0
    one_per_core: bool = False
    drives: tuple[str, ...] = ()
    folder: str = ""
    cards: tuple[str, ...] = ()
    is_check: bool = False

    @property
    def title(self) -> str:
        """What a person reads on the block."""
        parts = [self.load]
        if self.is_check:
            return self.load
        if self.row is PartKind.DRIVE:
            return f"{self.load}, {', '.join(self.drives) or 'all drives'}"
        if self.row is PartKind.GRAPHICS:
            words = [self.load, ", ".join(self.cards) or "all cards", self.shape.title]
            return ", ".join(word for word in words if word)
        if self.row is PartKind.MEMORY:
            parts.append(
                "patterns"
                if not self.patterns
                else self.patterns[0]
                if len(self.patterns) == 1
                else f"{len(self.patterns)} patterns"
            )
        else:
            parts.append(self.working_set.value)
        if self.precision is not Precision.DOUBLE:
            parts.append(self.precision.value)
        if self.shape.title:
            parts.append(self.shape.title)
        return ", ".join(parts)


SheetItem = Gate | Block
"""What stands on the time axis of a run sheet."""


@dataclass(frozen=True, slots=True)
class SheetLimits:
    """What stops a run by itself. None means: only the machine's own limits are watched, nothing stops it.

    `stop_after_faults` counts findings of severity fault.
    """

    temperature_c: float | None = None
    stop_after_faults: int | None = None


class AfterCrash(StrEnum):
    """What happens when the machine comes to a sudden end during a run."""

    WAIT = "stop and wait"
    GO_ON = "go on"
    ISOLATE = "find the part"
    """Divide what ran then and try the groups one by one, until the part is named."""


@dataclass(frozen=True, slots=True)
class CrashPlan:
    """What a sheet says for a machine that comes to a sudden end.

    After `most` ends nothing is started any more, and never sooner than `between_s` seconds after the start before:
    a machine that ends while it starts comes to rest. With `watchdog` the hardware watchdog resets a machine that has
    frozen, where there is one.
    """

    then: AfterCrash = AfterCrash.WAIT
    most: int = 5
    between_s: float = 120.0
    watchdog: bool = False


@dataclass(frozen=True, slots=True)
class RunSheet:
    """The plan of a run, checked: gates and blocks on one time axis in seconds.

    `about` says what it does, `finds` and `misses` what it can and cannot find, `reasons` by symptom why it is
    proposed for it. `crash` says what happens when the machine comes to a sudden end. With `repeat` it starts again
    whenever it was carried out to its end, until somebody stops it.
    """

    title: str
    blocks: tuple[Block, ...]
    gates: tuple[Gate, ...] = ()
    limits: SheetLimits = field(default_factory=SheetLimits)
    about: str = ""
    finds: str = ""
    misses: str = ""
    reasons: dict[str, str] = field(default_factory=dict)
    repeat: bool = False
    crash: CrashPlan = field(default_factory=CrashPlan)

    @property
    def items(self) -> tuple[SheetItem, ...]:
        """Gates and blocks."""
        return (*self.gates, *self.blocks)

    @property
    def length_s(self) -> float:
        """Planned length from start to the end of the last item."""
        return max((item.start_s + item.length_s for item in self.items), default=0.0)


def clock_text(seconds: float) -> str:
    """Return seconds as `h:mm:ss`, with a leading minus where negative."""
    whole = round(abs(seconds))
    sign = "-" if seconds < 0 and whole else ""
    return f"{sign}{whole // 3600}:{whole // 60 % 60:02d}:{whole % 60:02d}"
