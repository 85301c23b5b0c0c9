"""What a memory load tells while it runs: what was got, how far it is, and what wrong words have in common."""

import msgspec

from thresher.diagnosis.memory_shape import shape_of, wrong_places
from thresher.engine.block_plan import free_memory
from thresher.engine.protocol import MemoryStatus
from thresher.engine.record import Record
from thresher.engine.run import Run, Step
from thresher.inventory.memory_map import why_no_slot
from thresher.loads.team_events import MemoryTakenSeen, PassSeen
from thresher.model.findings import Severity
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import System
from thresher.model.sheet import Block, clock_text

_GIB = 1 << 30
_TELL_PASSES = 3


def loads_memory(step: Step) -> bool:
    """Whether a step is a memory load."""
    return isinstance(step.item, Block) and step.item.load == "memory"


class MemoryWatch:
    """Keeps the memory's part of a run and writes it on the tape."""

    def __init__(self, system: System, record: Record) -> None:
        """Watch over one machine."""
        self._system = system
        self._record = record

    def begin_simulated(self, step: Step) -> None:
        """A bench model's workers walk through a few words each, which stand for all of its memory."""
        total = free_memory(self._system).total or 0
        step.memory = MemoryStatus(int(total * 0.93), int(total * 0.93), total, 0, 0.0, True)
        self._say_coverage(step)

    def _say_coverage(self, step: Step) -> None:
        memory = step.memory
        assert memory is not None and isinstance(step.item, Block)
        had = f"{memory.taken / _GIB:.1f} of {memory.total / _GIB:.1f} GiB"
        locked = "locked in place" if memory.locked else "not locked (no right to), so parts may be moved out"
        where = "" if memory.covered is not None else "; the kernel tells no physical addresses without root"
        patterns = ", ".join(step.item.patterns)
        detail = f"{had}, the rest belongs to the running system; {locked}{where}; {patterns}"
        self._record.note("Memory taken", detail, part=PartKind.MEMORY)

    def say_shape(self, run: Run, inventory: Inventory) -> None:
        """Say what all wrong words of memory have in common, each time it turns out to be another shape."""
        if len(self._record.findings) == run.shape_told_at:
            return  # held back by a storm: nothing new is on record
        run.shape_told_at = len(self._record.findings)
        shape = shape_of(wrong_places(self._record.findings))
        if shape is None or shape.shape.value == run.memory_shape:
            return
        run.memory_shape = shape.shape.value
        slots = sorted({finding.place for finding in self._record.findings if finding.places})
        slot = f"; all in {slots[0]}" if len(slots) == 1 and slots[0] else ""
        if not slot and shape.physical:
            slot = f"; {why_no_slot(inventory)}"
        self._record.note("Wrong words together", f"{shape.sentence}{slot}", Severity.WARNING, part=PartKind.MEMORY)

    def on_event(self, run: Run | None, event: MemoryTakenSeen | PassSeen) -> None:
        """Take in that a worker has its memory, or that all have been through it once more."""
        step = next(filter(loads_memory, run.running_blocks()), None) if run else None
        if step is None or step.team is None:
            return
        if isinstance(event, MemoryTakenSeen):
            self._on_taken(step, event)
            return
        memory = step.memory
        if memory is None:
            return
        covered = step.team.covered_bytes() if self._system.work is None else memory.covered
        step.memory = msgspec.structs.replace(memory, passes=event.number, pass_s=event.seconds, covered=covered)
        if event.number > _TELL_PASSES and event.number & (event.number - 1):
            return  # the first few, then each power of two: passes may take seconds
        had = f"; {covered / _GIB:.1f} of {memory.total / _GIB:.1f} GiB walked through so far" if covered else ""
        left = max(0.0, step.end_s - run.run_at(self._system.now())) if run else 0.0
        more = int(left // max(event.seconds, 0.1))
        self._record.note(
            f"Memory pass {event.number} complete",
            f"{clock_text(event.seconds)}{had}; time for {more} more",
            part=PartKind.MEMORY,
        )

    def _on_taken(self, step: Step, event: MemoryTakenSeen) -> None:
        taken, before = event.taken, step.memory
        assert step.team is not None
        if before is None:
            total = free_memory(self._system).total or 0
            before = MemoryStatus(0, None, total, 0, 0.0, True)
        size = before.taken + taken.size if event.first else before.taken
        covered = step.team.covered_bytes() if taken.frames_told else None
        step.memory = msgspec.structs.replace(
            before, taken=size, covered=covered, locked=before.locked and taken.locked
        )
        step.memory_workers += event.first
        if event.first and step.memory_workers == step.team.size:
            self._say_coverage(step)
