"""Run sheets: the plan of a run as plain data, which the engine explains, times, checks and carries out."""

from dataclasses import dataclass, field
from enum import StrEnum

from thresher.model.parts import PartKind


class WorkingSet(StrEnum):
    """Where the data of a load live, and so which caches and buses it strains."""

    CORE = "inside the core"
    SHARED_CACHE = "shared cache"
    MAIN_MEMORY = "main memory"


class GateKind(StrEnum):
    """What a gate waits for."""

    SETTLE = "settle"
    COOL_DOWN = "cool down"


@dataclass(frozen=True, slots=True)
class Gate:
    """A point that waits: `length_s` is planned for it, `at_most_s` is the longest it may take.

    A settle gate opens when the hottest channel has moved less than `within_k` kelvin for 20 s; a cool-down
    gate when the hottest channel is within `within_k` kelvin of where the run began.
    """

    kind: GateKind
    start_s: float
    length_s: float
    at_most_s: float
    within_k: float = 2.0


@dataclass(frozen=True, slots=True)
class Block:
    """One load on the sheet: `threads` 0 means every logical CPU, else that many, one a core first."""

    row: PartKind
    load: str
    start_s: float
    length_s: float
    threads: int = 0
    working_set: WorkingSet = WorkingSet.SHARED_CACHE
    shape: str = "steady"

    @property
    def title(self) -> str:
        """What a person reads on the block."""
        return f"{self.load}, {self.working_set.value}"


@dataclass(frozen=True, slots=True)
class SheetLimits:
    """What stops a run by itself. None means: only the machine's own limits are watched, nothing stops it.

    `stop_after_faults` counts findings of severity fault.
    """

    temperature_c: float | None = None
    stop_after_faults: int | None = None


@dataclass(frozen=True, slots=True)
class RunSheet:
    """The plan of a run, checked: gates and blocks on one time axis in seconds.

    `about` says what it does, `finds` and `misses` what it can and cannot find, `reasons` by symptom why it is
    proposed for it.
    """

    title: str
    blocks: tuple[Block, ...]
    gates: tuple[Gate, ...] = ()
    limits: SheetLimits = field(default_factory=SheetLimits)
    about: str = ""
    finds: str = ""
    misses: str = ""
    reasons: dict[str, str] = field(default_factory=dict)

    @property
    def length_s(self) -> float:
        """Planned length from start to the end of the last item."""
        ends = [block.start_s + block.length_s for block in self.blocks]
        return max(ends + [gate.start_s + gate.length_s for gate in self.gates], default=0.0)


def clock_text(seconds: float) -> str:
    """Return seconds as `h:mm:ss`, with a leading minus where negative."""
    whole = round(abs(seconds))
    sign = "-" if seconds < 0 and whole else ""
    return f"{sign}{whole // 3600}:{whole // 60 % 60:02d}:{whole % 60:02d}"
