"""Loads with known answers in shared memory: how they are planned, and the task of their workers."""

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np

from thresher.loads.compute.mixed import Mixed, mixed_bytes
from thresher.loads.exercise import Exercise, wrong_words
from thresher.loads.load import ExerciseForm, Load, Reporter, Task
from thresher.loads.plan import LoadPlan, PlanRequest, Sizing, sizing_for
from thresher.loads.team.messages import Mismatch, RoundOffHigh
from thresher.loads.team.watch import LoadWatch, QuietWatch, WatchContext
from thresher.model.parts import PartKind
from thresher.model.port import BitFlip
from thresher.model.sheet import Block, Precision, WorkingSet

REPEATS = 3


class LoadWords(NamedTuple):
    """What a person reads about a load: what it strains, what it finds and what it misses."""

    strains: str
    finds: str
    misses: str = ""


class Stress(NamedTuple):
    """What a simulated machine feels of a load (`Load`)."""

    heat: float
    memory: float = 0.0
    wide: bool = False


class Small(NamedTuple):
    """Size and sets of the load for workers of a simulated machine, and the 64-bit words of one beat's result."""

    size: int
    sets: int
    words_in_beat: Callable[[LoadPlan], int]


def exercise_load(
    name: str,
    words: LoadWords,
    places: tuple[WorkingSet, ...],
    sized: Callable[[Sizing], tuple[int, int]],
    form: ExerciseForm,
    stress: Stress,
    small: Small,
    *,
    precisions: tuple[Precision, ...] = (Precision.DOUBLE,),
    short_beat: bool = True,
    kernels: tuple[str, ...] = (),
    vectors: Callable[[LoadPlan], bool] = lambda _plan: False,
    watch: Callable[[WatchContext], LoadWatch] = QuietWatch,
) -> Load:
    """Return a processor load whose workers share operands and known answers."""

    def plan_at(place: WorkingSet, request: PlanRequest) -> LoadPlan:
        precision = request.block.precision
        size, sets = sized(sizing_for(place, request.caches, request.operand_bytes, request.compiled, precision))
        return LoadPlan(name, size, sets, precision=precision, working_set=place, compiled=request.compiled)

    def plan(request: PlanRequest) -> LoadPlan:
        place = request.block.working_set
        if place is not WorkingSet.MIXED:
            return plan_at(place, request)
        parts = tuple(plan_at(each, request) for each in WorkingSet if each is not WorkingSet.MIXED and each in places)
        block = request.block
        return LoadPlan(name, 1, 1, 0x7E5, block.precision, place, request.compiled, parts=parts)

    def small_plan(block: Block) -> LoadPlan:
        return LoadPlan(name, small.size, small.sets, precision=block.precision, working_set=WorkingSet.CORE)

    whole = ExerciseForm(
        lambda each: mixed_bytes(each, form.shared_bytes) if each.parts else form.shared_bytes(each),
        lambda each, memory: (
            Mixed(each, memory, form.shared_bytes, form.make) if each.parts else form.make(each, memory)
        ),
    )
    return Load(
        name,
        PartKind.PROCESSOR,
        words.strains,
        words.finds,
        places,
        plan,
        small_plan,
        lambda each, _workers: whole.shared_bytes(each),
        lambda order, shared, reporter: ExerciseTask(whole.make(order.plan, shared), reporter),
        small.words_in_beat,
        watch,
        stress.heat,
        stress.memory,
        stress.wide,
        precisions,
        short_beat,
        kernels,
        vectors,
        exercise=whole,
        misses=words.misses,
    )


class ExerciseTask(Task):
    """A load with known answers in shared memory, as its worker does it."""

    def __init__(self, exercise: Exercise, reporter: Reporter) -> None:
        """Begin with beat 0."""
        self._exercise = exercise
        self._reporter = reporter
        self._beat = 0
        self._round_off_reported = 0.0

    def make(self) -> None:
        """Make operands and known answers."""
        self._exercise.make()

    def confirm(self) -> list[int]:
        """Work the known answers out again by other means."""
        return self._exercise.confirm()

    def begin(self) -> None:
        """Everything is there already."""

    def age(self, seconds: float, temperature_c: float) -> None:
        """Results do not age."""

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        """Do a beat and compare it."""
        exercise = self._exercise
        right = exercise.compute(self._beat)
        if flips:
            found = exercise.found()
            for flip in flips:
                found[flip.word % len(found)] ^= np.uint64(1 << flip.bit)
            right = bool(np.array_equal(found, exercise.expected(self._beat)))
        if exercise.round_off:
            self._note_round_off(right)
        if not right:
            self._on_mismatch(flips)
        self._beat += 1
        return True

    def recheck(self, beat: int) -> bool:
        """Do another worker's beat."""
        return self._exercise.compute(beat)

    def _note_round_off(self, right: bool) -> None:
        distance = self._exercise.round_off
        self._reporter.note_round_off(distance)
        if right and distance >= self._exercise.round_off_margin and distance > self._round_off_reported:
            self._round_off_reported = distance
            self._reporter.send(RoundOffHigh(self._beat, distance))

    def _on_mismatch(self, flips: Sequence[BitFlip]) -> None:
        count = self._reporter.count_to_report()
        if not count:
            return
        exercise = self._exercise
        found, expected = exercise.found(), exercise.expected(self._beat)
        wrong, shown = wrong_words(found, expected)
        words = len(expected)
        again = max((flip.again for flip in flips), default=0)
        wrong_again = sum(not exercise.compute(self._beat) or number < again for number in range(REPEATS))
        what = exercise.describe(shown[0].index) if shown else ""
        self._reporter.send(Mismatch(self._beat, wrong, words, shown, REPEATS, wrong_again, count, what=what))
