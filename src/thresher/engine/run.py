"""One run: a sheet carried out on the machine's own time, gates and blocks in their order.

Run time counts from the start. A gate that opens early or late shifts everything after it, so that the plan
and the record stay on one axis.
"""

from collections import deque
from dataclasses import dataclass, field

from thresher.engine.protocol import MemoryStatus, PlanItem
from thresher.engine.states import Ending, RunState, change
from thresher.loads.catalogue import CATALOGUE
from thresher.loads.patterns import PATTERNS
from thresher.loads.shapes import Holder
from thresher.loads.stalls import RunTimes
from thresher.loads.team import Team
from thresher.model.parts import LogicalCpu
from thresher.model.sheet import Block, Gate, GateKind, RunSheet
from thresher.model.verdict import Exposure

_SETTLE_OVER_S = 20.0


@dataclass(slots=True)
class Step:
    """A gate or block on its way: planned times shift with the gates before it, real ones replace them."""

    index: int
    item: Gate | Block
    start_s: float
    end_s: float
    state: str = "coming"
    team: Team | None = None
    loading_since: float | None = None
    holder: Holder | None = None
    memory: MemoryStatus | None = None
    memory_workers: int = 0
    round_trips: tuple[tuple[int, int, float], ...] = ()
    round_off: float = 0.0
    hung_since: dict[int, float] = field(default_factory=dict)

    @property
    def title(self) -> str:
        """What a person reads on it."""
        return self.item.title if isinstance(self.item, Block) else self.item.kind.value


@dataclass(slots=True)
class Run:
    """The state of a run; the engine drives it once a tick."""

    number: int
    sheet: RunSheet
    began_at: float
    start_c: float | None
    cores: dict[int, int]
    state: RunState = RunState.IDLE
    steps: list[Step] = field(default_factory=list)
    ending: Ending | None = None
    ending_detail: str = ""
    workers_started: int = 0
    mismatches: int = 0
    beats_before: int = 0
    exposure_minutes: dict[tuple[int, str, float | None], float] = field(default_factory=dict)
    memory_shape: str = ""
    shape_told_at: int = 0
    stalled_told: set[int] = field(default_factory=set)
    stall_looks: dict[int, float] = field(default_factory=dict)
    run_times: RunTimes = field(default_factory=RunTimes)
    hottest: deque[tuple[float, float]] = field(default_factory=deque)

    def __post_init__(self) -> None:
        """Lay out the steps in the order of their start."""
        items: list[Gate | Block] = sorted(
            (*self.sheet.gates, *self.sheet.blocks), key=lambda item: (item.start_s, isinstance(item, Block))
        )
        self.steps = [Step(index, item, item.start_s, item.start_s + item.length_s) for index, item in enumerate(items)]

    def run_at(self, at: float) -> float:
        """Return run time for machine time, in seconds."""
        return at - self.began_at

    def change(self, new: RunState) -> None:
        """Go to another state. Raises IllegalTransition."""
        self.state = change(self.state, new)

    @property
    def active(self) -> bool:
        """Whether the run has begun and not ended."""
        return self.state not in (RunState.IDLE, RunState.ENDED)

    @property
    def teams(self) -> list[Team]:
        """Teams of the running blocks."""
        return [step.team for step in self.steps if step.team is not None]

    def running_blocks(self) -> list[Step]:
        """Return the blocks that run now."""
        return [step for step in self.steps if isinstance(step.item, Block) and step.state == "running"]

    def due_blocks(self, run_at: float) -> list[Step]:
        """Return the blocks whose start has come and that no gate holds back."""
        held = any(isinstance(step.item, Gate) and step.state == "running" for step in self.steps)
        if held:
            return []
        return [
            step
            for step in self.steps
            if isinstance(step.item, Block)
            and step.state == "coming"
            and step.start_s <= run_at
            and not any(
                isinstance(other.item, Gate) and other.state == "coming" and other.index < step.index
                for other in self.steps
            )
        ]

    def gate_now(self, run_at: float) -> Step | None:
        """Return the gate that the run stands in or has just come to."""
        for step in self.steps:
            if isinstance(step.item, Gate) and step.state != "done" and step.start_s <= run_at:
                return step
        return None

    def note_hottest(self, at: float, hottest_c: float | None) -> None:
        """Remember the hottest temperature for the gates."""
        if hottest_c is not None:
            self.start_c = hottest_c if self.start_c is None else self.start_c
            self.hottest.append((at, hottest_c))
        while self.hottest and self.hottest[0][0] < at - _SETTLE_OVER_S - 1.0:
            self.hottest.popleft()

    def gate_opens(self, step: Step, at: float) -> str | None:
        """Return the sentence with which a gate opens now, or None while it waits."""
        gate = step.item
        assert isinstance(gate, Gate)
        waited = self.run_at(at) - step.start_s
        if not self.hottest:
            return "no temperature to watch; waited the planned time" if waited >= gate.length_s else None
        now_c = self.hottest[-1][1]
        if gate.kind is GateKind.SETTLE:
            values = [value for _, value in self.hottest]
            steady = waited >= _SETTLE_OVER_S and max(values) - min(values) <= gate.within_k
            if steady:
                return f"steady at {now_c:.0f} °C"
        elif self.start_c is not None and now_c <= self.start_c + gate.within_k:
            return f"down to {now_c:.0f} °C, began at {self.start_c:.0f} °C"
        if waited >= gate.at_most_s:
            return f"still {now_c:.0f} °C after the longest wait; goes on"
        return None

    def open_gate(self, step: Step, at: float) -> None:
        """Close a gate's account and shift everything after it."""
        shift = self.run_at(at) - step.end_s
        step.end_s, step.state = self.run_at(at), "done"
        for later in self.steps[step.index + 1 :]:
            later.start_s += shift
            later.end_s += shift

    def hold_gate(self, step: Step, at: float) -> None:
        """Stretch a gate that waits longer than planned, and what comes after it with it."""
        late = self.run_at(at) - step.end_s
        if late > 0:
            step.end_s += late
            for later in self.steps[step.index + 1 :]:
                later.start_s += late
                later.end_s += late

    def delay(self, step: Step, seconds: float) -> None:
        """Move a step that cannot begin yet, and all after it."""
        for later in self.steps[step.index :]:
            if later.state == "coming":
                later.start_s += seconds
                later.end_s += seconds

    def add_exposure(self, step: Step, load: str, band_c: float | None, seconds: float) -> None:
        """Count time under load."""
        key = (step.index, load, band_c)
        self.exposure_minutes[key] = self.exposure_minutes.get(key, 0.0) + seconds / 60.0

    def exposures(self) -> list[Exposure]:
        """Return the time under load by block and band of temperature."""
        return [
            Exposure(self.number, index, load, minutes, band)
            for (index, load, band), minutes in self.exposure_minutes.items()
        ]

    def plan(self) -> tuple[PlanItem, ...]:
        """Return the steps for the window."""
        return tuple(
            PlanItem(
                isinstance(step.item, Gate), step.item.row if isinstance(step.item, Block) else None, step.title,
                step.start_s, step.end_s, step.state, _story(step.item),
            )
            for step in self.steps
        )  # fmt: skip

    @property
    def length_s(self) -> float:
        """Length of the run as it stands now."""
        return max(step.end_s for step in self.steps)


def _story(item: Gate | Block) -> str:
    """Say what a block strains and finds."""
    if isinstance(item, Gate):
        return ""
    kind = CATALOGUE[item.load]
    patterns = "".join(f"\n{name}: {PATTERNS[name].about}" for name in item.patterns)
    return f"Strains {kind.strains}.\nFinds {kind.finds}.{patterns}"


def choose_cpus(
    cpus: tuple[LogicalCpu, ...], allowed: set[int] | None, threads: int, cores: tuple[int, ...] = ()
) -> list[int]:
    """Return the logical CPUs for a block: all that are allowed, or `threads` of them, one a core first.

    With `cores` those of the named cores only.
    """
    usable = [cpu for cpu in cpus if (allowed is None or cpu.cpu in allowed) and (not cores or cpu.core in cores)]
    seen: dict[tuple[int, int], int] = {}
    order: list[tuple[int, int]] = []
    for cpu in usable:
        rank = seen.get((cpu.package, cpu.core), 0)
        seen[(cpu.package, cpu.core)] = rank + 1
        order.append((rank, cpu.cpu))
    chosen = [number for _, number in sorted(order)]
    return chosen[:threads] if threads else chosen
