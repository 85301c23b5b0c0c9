"""What a load is: its words for a person, its sizing, its worker's task and its watch, in one value a load.

`thresher.loads.registry` lists them. Nothing else in the program asks for a load by its name.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from thresher.loads.exercise import Exercise
from thresher.loads.plan import LoadPlan, PlanRequest
from thresher.model.parts import PartKind
from thresher.model.port import BitFlip
from thresher.model.sheet import Block, Precision, WorkingSet

if TYPE_CHECKING:
    from thresher.loads.team.messages import Report, SpawnWorker
    from thresher.loads.team.watch import LoadWatch, WatchContext

ALL_PLACES = tuple(WorkingSet)


class Reporter(Protocol):
    """How a task reaches the engine."""

    def send(self, report: "Report") -> None:
        """Send a report."""
        ...

    def count_to_report(self) -> int:
        """Count a mismatch; return for how many the next report stands, 0 when none is due yet."""
        ...

    def alive(self) -> None:
        """Show that the worker has not stalled."""
        ...

    def note_round_off(self, distance: float) -> None:
        """Keep the largest round-off."""
        ...


class Task(Protocol):
    """What a worker does over and over."""

    def make(self) -> None:
        """Make what all workers need."""
        ...

    def confirm(self) -> list[int]:
        """Confirm it on another core; return the sets that do not agree."""
        ...

    def begin(self) -> None:
        """Take what this worker needs for itself."""
        ...

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        """Do a beat or a part of one, disturbed by `flips`; return whether one has ended, its result compared."""
        ...

    def recheck(self, beat: int) -> bool:
        """Do another worker's beat and return whether it came out right."""
        ...

    def age(self, seconds: float, temperature_c: float) -> None:
        """Let a simulated machine's time pass."""
        ...


@dataclass(frozen=True, slots=True)
class ExerciseForm:
    """A load as known answers in shared memory: the bytes that all workers share, and the exercise over them."""

    shared_bytes: Callable[[LoadPlan], int]
    make: Callable[[LoadPlan, memoryview], Exercise]


@dataclass(frozen=True, slots=True)
class Load:
    """One load.

    `heat` is the power it draws as a share of the hottest load's, `memory` the share of its time that it waits for
    main memory, `wide` whether it strains the widest vectors; simulated machines feel these. `strains`, `finds` and
    `misses` complete the sentences "Strains …", "Finds …" and "Misses …". `kernels` are the modules of its compiled
    form. `small_plan` is what workers of a simulated machine do, `words_in_beat` how many 64-bit words a simulated
    fault may spoil in one beat, and `paced_beats` how many beats of theirs stand for one of a machine's. `vectors`
    says whether a plan runs in our own kernels, whose vector width is known."""

    name: str
    row: PartKind
    strains: str
    finds: str
    working_sets: tuple[WorkingSet, ...]
    plan: Callable[[PlanRequest], LoadPlan]
    small_plan: Callable[[Block], LoadPlan]
    shared_bytes: Callable[[LoadPlan, int], int]
    make_task: "Callable[[SpawnWorker, memoryview, Reporter], Task]"
    words_in_beat: Callable[[LoadPlan], int]
    watch: "Callable[[WatchContext], LoadWatch]"
    heat: float
    memory: float = 0.0
    wide: bool = False
    precisions: tuple[Precision, ...] = (Precision.DOUBLE,)
    short_beat: bool = True
    kernels: tuple[str, ...] = ()
    vectors: Callable[[LoadPlan], bool] = lambda _plan: False
    paced_beats: int = 1
    walks_memory: bool = False
    pairs_workers: bool = False
    exercise: ExerciseForm | None = None
    misses: str = ""

    @property
    def shaped(self) -> bool:
        """Whether it can be pulsed and held at a temperature: its workers need nobody else's time."""
        return not (self.pairs_workers or self.walks_memory)
