"""Memory as a load: how much is taken, the task of its workers, and the coverage that it reports."""

import os
import time
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from thresher.diagnosis.memory_shape import shape_of, wrong_places
from thresher.inventory.memory_map import kept_memory, why_no_slot
from thresher.loads.exercise import Words
from thresher.loads.load import Load, Reporter, Task
from thresher.loads.memory.free import free_memory
from thresher.loads.memory.pages import PAGE, Region, shuffle_pages
from thresher.loads.memory.walk import CHUNK_WORDS, SIMULATED_WORDS, MemoryWalk, SimulatedStretch, WrongCells
from thresher.loads.plan import LoadPlan, PlanRequest, too_little_memory
from thresher.loads.status import LoadStatus, MemoryStatus
from thresher.loads.team.events import MemoryTakenSeen, PassSeen, TeamEvent
from thresher.loads.team.messages import Failed, MemoryTaken, MemoryWrong, PassDone, SpawnWorker
from thresher.loads.team.watch import QuietWatch, WatchContext
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.port import BitFlip
from thresher.model.sheet import Block, WorkingSet, clock_text

if TYPE_CHECKING:
    from thresher.simulator.memory_cells import SimulatedCells

_GIB = 1 << 30
_RESERVE_SHARE = 0.06
_RESERVE_LEAST = 512 << 20
"""Kept for the running system: what the kernel, the window and the journal need to continue."""
_EACH_WORKER_NEEDS = 40 << 20
_REPORT_PASSES = 3
_SHARES = (1.0, 0.9, 0.75, 0.5)
_LONGEST_SLEEP_S = 0.05
_SIMULATED_SHARE = 0.93


def _plan(request: PlanRequest) -> LoadPlan:
    """Take what is free above a reserve, or what the block asks for. Raises EnvironmentFault."""
    block, memory = request.block, request.memory
    if memory.available is None or memory.total is None:
        raise EnvironmentFault(
            f"starting {block.title}", "the kernel does not report how much memory is free", "Look at /proc/meminfo."
        )
    reserve = max(_RESERVE_LEAST, int(memory.total * _RESERVE_SHARE)) + request.workers * _EACH_WORKER_NEEDS
    most = memory.available - reserve
    wanted = block.amount if block.amount is not None else int(most * block.share)
    chunk = CHUNK_WORDS * 8
    each = min(wanted, most) // request.workers // chunk * chunk
    if each < chunk:
        free = f"{memory.available >> 20} MiB are free, of which {reserve >> 20} MiB are kept for the running system"
        raise too_little_memory(block.title, free)
    return LoadPlan(
        "memory",
        1,
        1,
        compiled=request.compiled,
        bytes_each=each,
        patterns=block.patterns,
        wait_s=block.wait_s,
        working_set=WorkingSet.MAIN_MEMORY,
    )


def _small_plan(block: Block) -> LoadPlan:
    return LoadPlan("memory", 1, 1, patterns=block.patterns, wait_s=block.wait_s, bytes_each=1)


def _marks(_plan: LoadPlan, _workers: int) -> int:
    """A mark for every page frame there is, with room for what lies above holes in the address space."""
    return os.sysconf("SC_PHYS_PAGES") * 2 + (8 << 30) // PAGE


class MemoryTask(Task):
    """A stretch of memory of this worker's own."""

    def __init__(self, order: SpawnWorker, shared: memoryview, reporter: Reporter) -> None:
        """Begin with nothing taken; `shared` has a mark for every page frame."""
        self._order = order
        self._reporter = reporter
        self._covered = np.frombuffer(shared, np.uint8)
        self._walk: MemoryWalk | None = None
        self._region: Region | None = None
        self._cells: SimulatedCells | None = None
        self._machine_s = 0.0
        self._pass_began = 0.0

    def make(self) -> None:
        """Patterns know what they hold."""

    def confirm(self) -> list[int]:
        """There is no reference to confirm."""
        return []

    def _now(self) -> float:
        return self._machine_s if self._order.paced else time.monotonic()

    def begin(self) -> None:
        """Take this worker's memory."""
        if self._walk is not None:
            return
        order = self._order
        if order.paced:
            from thresher.simulator.memory_cells import SimulatedCells  # only a simulated machine needs it

            stretch = SimulatedStretch(order.base, order.stride)
            self._cells = SimulatedCells(stretch.words, order.faults)
            first = order.worker * SIMULATED_WORDS
            self._walk = MemoryWalk(order.plan, stretch, first, self._cells, self._now)
        else:
            region = self._take()
            self._walk = MemoryWalk(order.plan, region, order.worker * (order.plan.bytes_each // 8), None, self._now)
        self._pass_began = self._now()

    def _take(self) -> Region:
        region = self._region = self._as_much_as_there_is()
        taken = region.taken
        if region.frames is not None:
            frames = region.frames[region.frames < len(self._covered)].astype(np.intp)
            self._covered[frames] = 1
        self._reporter.send(MemoryTaken(taken.size, taken.locked, taken.huge, taken.has_frames))
        return region

    def _as_much_as_there_is(self) -> Region:
        """Take what was planned, or less when something else has taken memory since."""
        wanted = self._order.plan.bytes_each
        for share in _SHARES:
            try:
                return Region(int(wanted * share), self._reporter.alive, self._order.frames)
            except OSError as error:
                reason = error
        remedy = "Choose a smaller share, or close what uses memory."
        self._reporter.send(Failed(f"taking {wanted >> 20} MiB of memory", os.strerror(reason.errno or 0), remedy))
        raise reason

    def age(self, seconds: float, temperature_c: float) -> None:
        """Let cells that leak lose their charge."""
        self._machine_s += seconds
        if self._cells is not None:
            self._cells.age(seconds, temperature_c)

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        """Do the next step of a pattern over the next chunk."""
        walk = self._walk
        assert walk is not None
        if walk.waiting and not self._order.paced:
            time.sleep(_LONGEST_SLEEP_S)
        waited = walk.waiting
        wrong = walk.do_beat(_spoil_words(flips) if flips else None)
        if wrong is not None:
            self._on_wrong(wrong)
        if walk.pass_ended:
            self._on_pass(walk)
        return not waited

    def recheck(self, beat: int) -> bool:
        """The memory of one worker is not another's."""
        del beat
        return True

    def _on_wrong(self, wrong: WrongCells) -> None:
        if count := self._reporter.count_to_report():
            self._reporter.send(MemoryWrong(wrong.pattern, wrong.step, wrong.count, wrong.shown, count))

    def _on_pass(self, walk: MemoryWalk) -> None:
        now = self._now()
        self._reporter.send(PassDone(walk.passes, now - self._pass_began))
        self._pass_began = now
        if self._region is None:
            return
        # other pages the next time, so that coverage grows with every pass
        self._region.release()
        self._reporter.alive()
        shuffle_pages()
        self._reporter.alive()
        region = self._take()
        walk.restart(region, self._order.worker * (self._order.plan.bytes_each // 8))


def _spoil_words(flips: Sequence[BitFlip]) -> Callable[[Words], None]:
    def spoil(words: Words) -> None:
        for flip in flips:
            words[flip.word % len(words)] ^= np.uint64(1 << flip.bit)

    return spoil


class CoverageWatch(QuietWatch):
    """Reports how much memory was taken, each pass, and what all wrong words have in common."""

    def __init__(self, context: WatchContext) -> None:
        """Watch one block."""
        super().__init__(context)
        self._status: MemoryStatus | None = None
        self._workers_ready = 0
        self._shape = ""

    def begin(self) -> None:
        """On a simulated machine a few words stand for all of its memory; else workers report what they took."""
        if self.context.pacing.paced:
            total = free_memory(self.context.system).total or 0
            taken = int(total * _SIMULATED_SHARE)
            self._status = MemoryStatus(taken, taken, total, 0, 0.0, True)
            self._report_coverage()

    @property
    def checking(self) -> bool:
        """Whether all workers have their memory: before that nothing is checked."""
        return self.context.pacing.paced or self._workers_ready >= self.context.team.size

    def status(self) -> LoadStatus | None:
        """Return the coverage."""
        return self._status

    def on_event(self, event: TeamEvent) -> bool:
        """Note that a worker has its memory, or that all have been through it once more."""
        if isinstance(event, MemoryTakenSeen):
            self._on_taken(event)
        elif isinstance(event, PassSeen):
            self._on_pass(event)
        else:
            return False
        return True

    def _covered_bytes(self) -> int | None:
        """Return how much memory was walked through in all passes, each page once; None where that is unknown."""
        pages = int(np.count_nonzero(np.frombuffer(self.context.team.shared, np.uint8)))
        return pages * PAGE or None

    def _on_taken(self, event: MemoryTakenSeen) -> None:
        taken, before = event.taken, self._status
        if before is None:
            before = MemoryStatus(0, None, free_memory(self.context.system).total or 0, 0, 0.0, True)
        size = before.taken + taken.size if event.first else before.taken
        covered = self._covered_bytes() if taken.has_frames else None
        locked = before.locked and taken.locked
        self._status = msgspec.structs.replace(before, taken=size, covered=covered, locked=locked)
        self._workers_ready += event.first
        if event.first and self._workers_ready == self.context.team.size:
            self._report_coverage()

    def _report_coverage(self) -> None:
        memory = self._status
        assert memory is not None
        taken = f"{memory.taken / _GIB:.1f} of {memory.total / _GIB:.1f} GiB"
        locked = "locked" if memory.locked else "not locked (no permission), so pages may be swapped out"
        where = (
            "" if memory.covered is not None else "; physical addresses unknown (the kernel gives them to root only)"
        )
        patterns = ", ".join(self.context.block.patterns)
        kept = kept_memory(self.context.system)
        reach = f"; {kept}" if kept else ""
        detail = f"{taken}, the rest is in use by the running system; {locked}{where}; {patterns}{reach}"
        self.context.tape.note("Memory taken", detail, part=PartKind.MEMORY)

    def _on_pass(self, event: PassSeen) -> None:
        memory = self._status
        if memory is None:
            return
        covered = memory.covered if self.context.pacing.paced else self._covered_bytes()
        self._status = msgspec.structs.replace(memory, passes=event.number, pass_s=event.seconds, covered=covered)
        if event.number > _REPORT_PASSES and event.number & (event.number - 1):
            return  # the first few, then each power of two: passes may take seconds
        tested = f"; {covered / _GIB:.1f} of {memory.total / _GIB:.1f} GiB tested so far" if covered else ""
        more = int(self.context.clock.left_s() // max(event.seconds, 0.1))
        detail = f"{clock_text(event.seconds)}{tested}; time for {more} more"
        self.context.tape.note(f"Memory pass {event.number} complete", detail, part=PartKind.MEMORY)

    def on_finding(self) -> None:
        """Report what all wrong words of memory have in common, each time the shape changes."""
        findings = self.context.tape.findings
        shape = shape_of(wrong_places(findings))
        if shape is None or shape.shape.value == self._shape:
            return
        self._shape = shape.shape.value
        slots = sorted({finding.place for finding in findings if finding.places})
        slot = f"; all in {slots[0]}" if len(slots) == 1 and slots[0] else ""
        if not slot and shape.physical:
            slot = f"; {why_no_slot(self.context.tape.inventory)}"
        detail = f"{shape.sentence}{slot}"
        self.context.tape.note("Wrong words together", detail, Severity.WARNING, part=PartKind.MEMORY)


LOAD = Load(
    "memory",
    PartKind.MEMORY,
    "every cell within reach, with patterns that each find faults of their own kind",
    "cells, address lines, contacts, the controller, and timings that are too tight",
    (WorkingSet.MAIN_MEMORY,),
    _plan,
    _small_plan,
    _marks,
    MemoryTask,
    lambda _plan: 1024,
    CoverageWatch,
    0.45,
    1.0,
    kernels=("thresher.loads.kernels.cells",),
    vectors=lambda plan: plan.compiled,
    paced_beats=8,
    walks_memory=True,
    misses="what the running system occupies, and faults that need the processor at full heat",
)
