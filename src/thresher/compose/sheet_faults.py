"""What is wrong with a run sheet, each fault with the block or gate that it is about.

What any machine would refuse is found by reading the sheet's own file; the rest needs to know the machine.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from thresher.compose.entry import cores_text
from thresher.compose.sheet_file import parse_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.loads.registry import SHEET_LOADS
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet, clock_text

_GIB = 1 << 30
_PLACE = re.compile(r"(blocks|gates)\[(\d+)\](?:\.(\w+))?")


@dataclass(frozen=True, slots=True)
class DriveOnBench:
    """A drive of the machine: its kernel name, about how long reading all of it takes, and why it is to be spared.

    `folders` are where its file systems are mounted that take scratch files.
    """

    name: str
    read_s: float
    why_spare: str = ""
    folders: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Bench:
    """What a machine has for a sheet: cores, logical CPUs, bytes of memory, and the loads it cannot run, with why.

    `memory_free` is what could be taken now, `slow_loads` says why loads run in their slower form, empty if they do
    not, `cards` are the kernel names of its graphics cards, and `watches_heat` whether a trusted sensor reports the
    processor's temperature.
    """

    cores: frozenset[int]
    cpus: int
    memory: int | None = None
    no_loads: dict[str, str] = field(default_factory=dict)
    memory_free: int | None = None
    slow_loads: str = ""
    watches_heat: bool = True
    drives: tuple[DriveOnBench, ...] = ()
    cards: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SheetFault:
    """One fault: `block` or `gate` says which by its place in the sheet, both None for the sheet as a whole."""

    message: str
    field: str = ""
    block: int | None = None
    gate: int | None = None

    def place(self, sheet: RunSheet) -> str:
        """Return which block or gate it is about, in words."""
        if self.block is not None:
            block = sheet.blocks[self.block]
            return f"{block.title} at {clock_text(block.start_s)}" + (f", {self.field}" if self.field else "")
        if self.gate is not None:
            gate = sheet.gates[self.gate]
            return f"{gate.kind.value} at {clock_text(gate.start_s)}" + (f", {self.field}" if self.field else "")
        return self.field or "sheet"


def sheet_faults(sheet: RunSheet, bench: Bench | None = None) -> tuple[SheetFault, ...]:
    """Return everything that is wrong with a sheet, on a machine if one is given."""
    faults: list[SheetFault] = []
    try:
        parse_sheet(sheet_text(sheet), "run sheet")
    except InputError as error:
        faults += [_fault(fault.place, fault.message, sheet) for fault in error.faults]
    for number, block in enumerate(sheet.blocks):
        faults += [SheetFault(message, name, number) for name, message in _on_bench(block, bench)] if bench else []
    return tuple(faults)


def _fault(place: str, message: str, sheet: RunSheet) -> SheetFault:
    match = _PLACE.search(place)
    if match is None:
        return SheetFault(message if place in ("blocks", "gates") else f"{place}: {message}", place)
    number = int(match[2])
    if match[1] == "blocks":
        return SheetFault(message, match[3] or "", block=number if number < len(sheet.blocks) else None)
    return SheetFault(message, match[3] or "", gate=number if number < len(sheet.gates) else None)


def _one_thread(block: Block, bench: Bench) -> bool:
    """Whether the cores that a block names have one thread together."""
    return len(block.cores) == 1 and (block.one_per_core or bench.cpus <= len(bench.cores))


def _on_bench(block: Block, bench: Bench) -> Iterator[tuple[str, str]]:
    """Yield field and message of each thing that a block asks of this machine in vain."""
    if (why := bench.no_loads.get(block.load)) is not None:
        yield "load", f"{block.load} cannot run on this machine: {why}"
    load = SHEET_LOADS.get(block.load)
    if load is not None and load.pairs_workers and (bench.cpus < 2 or block.threads == 1 or _one_thread(block, bench)):
        yield "cores", f"{block.load} needs two threads at least: they pass data to each other"
    missing = sorted(set(block.cores) - bench.cores)
    if missing and bench.cores:
        there = cores_text(tuple(bench.cores))
        yield "cores", f"this machine has no core {cores_text(tuple(missing))}; it has {there}"
    if block.threads > bench.cpus:
        yield "threads", f"this machine has {bench.cpus} threads, not {block.threads}"
    gone = sorted(set(block.drives) - {drive.name for drive in bench.drives})
    if block.row is PartKind.DRIVE and (gone or not bench.drives):
        there = ", ".join(drive.name for drive in bench.drives)
        yield "drives", f"this machine has no drive {', '.join(gone)}; it has {there}" if there else "it has no drive"
    absent = sorted(set(block.cards) - set(bench.cards))
    if block.row is PartKind.GRAPHICS and (absent or not bench.cards):
        there = ", ".join(bench.cards)
        yield "cards", f"this machine has no card {', '.join(absent)}; it has {there}" if there else "it has no card"
    walks = block.row is PartKind.MEMORY and block.amount is not None
    if walks and bench.memory is not None and block.amount is not None and block.amount > bench.memory:
        there = f"{bench.memory / _GIB:.1f} GiB"
        yield "amount", f"this machine has {there} of memory, not {block.amount / _GIB:.4g} GiB"
