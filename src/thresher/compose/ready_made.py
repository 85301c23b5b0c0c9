"""From the parts that are picked to blocks: one load on them, and the ready-made shapes of a run."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

from thresher.loads.drive_loads import DriveUse
from thresher.loads.registry import WORK_LOADS, SheetLoad, usual_working_set
from thresher.model.memory_patterns import SHORT
from thresher.model.parts import PartKind
from thresher.model.sheet import (
    Block,
    Gate,
    GateKind,
    Precision,
    RunSheet,
    Shape,
    SheetItem,
    SheetLimits,
    WorkingSet,
)

_USUAL = {
    PartKind.PROCESSOR: "matrix",
    PartKind.MEMORY: "memory",
    PartKind.DRIVE: "read sample",
    PartKind.GRAPHICS: "raster",
}
LADDER_S = (1800.0, 3 * 3600.0, 8 * 3600.0)
_ASK_AT_MOST_S = 8 * 3600.0
_ASK_S, _COOL_S, _COOL_AT_MOST_S = 10.0, 120.0, 900.0


@dataclass(frozen=True, slots=True)
class Pick:
    """Parts picked on the machine map: kinds, some cores, some drives, some graphics cards; none means all of them."""

    kinds: tuple[PartKind, ...]
    cores: tuple[int, ...] = ()
    drives: tuple[str, ...] = ()
    cards: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Wish:
    """What is to be done with a part. Without `load` the usual one of its kind; `share` and `amount` are memory's."""

    length_s: float = 600.0
    load: str = ""
    working_set: WorkingSet | None = None
    shape: Shape = field(default_factory=Shape)
    hold_c: float | None = None
    share: float = 1.0
    amount: int | None = None


def loads_of(kind: PartKind) -> tuple[SheetLoad, ...]:
    """Return the loads for a kind of part, the usual one first."""
    mine = [load for load in WORK_LOADS.values() if load.row is kind]
    return tuple(sorted(mine, key=lambda load: load.name != _USUAL.get(kind)))


def block_of(kind: PartKind, wish: Wish, start_s: float = 0.0, pick: Pick | None = None) -> Block | None:
    """Return the block of a load on parts of one kind, None where there is no load for them.

    A wish for a load of another kind, or for data where that load cannot have them, gives the usual ones.
    """
    loads, pick = loads_of(kind), pick or Pick(())
    if not loads:
        return None
    load = next((each for each in loads if each.name == wish.load), loads[0])
    usual = usual_working_set(load)
    working_set = wish.working_set if wish.working_set in load.working_sets else usual
    memory = kind is PartKind.MEMORY
    return Block(
        row=kind,
        load=load.name,
        start_s=start_s,
        length_s=wish.length_s,
        working_set=working_set or usual,
        shape=wish.shape if load.shaped else Shape(),
        precision=Precision.DOUBLE if Precision.DOUBLE in load.precisions else load.precisions[0],
        cores=pick.cores if kind is PartKind.PROCESSOR else (),
        hold_c=wish.hold_c if load.shaped else None,
        share=wish.share if memory else 1.0,
        amount=wish.amount if memory or load.name == DriveUse.VERIFIED else None,
        patterns=SHORT if memory else (),
        drives=pick.drives if kind is PartKind.DRIVE else (),
        cards=pick.cards if kind is PartKind.GRAPHICS else (),
    )


def load_changed(block: Block, name: str) -> Block:
    """Return a block with another load, everything else kept as far as that load can have it."""
    load = WORK_LOADS[name]
    usual = usual_working_set(load)
    return replace(
        block,
        load=name,
        working_set=block.working_set if block.working_set in load.working_sets else usual,
        precision=block.precision if block.precision in load.precisions else load.precisions[0],
        shape=block.shape if load.shaped else Shape(),
        hold_c=block.hold_c if load.shaped else None,
    )


def all_together(pick: Pick, wish: Wish) -> tuple[SheetItem, ...]:
    """All parts at the same time: loads the power supply and the cooling most."""
    return tuple(block for kind in pick.kinds if (block := block_of(kind, wish, 0.0, pick)) is not None)


def one_after_another(pick: Pick, wish: Wish) -> tuple[SheetItem, ...]:
    """One part at a time, cooled down between: says which one it is."""
    blocks = (block_of(kind, wish, 0.0, pick) for kind in pick.kinds)
    return in_turn(block for block in blocks if block is not None)


def in_turn(blocks: Iterable[Block]) -> tuple[SheetItem, ...]:
    """Return blocks one after the other, with a gate before each but the first until the machine has cooled down."""
    items: list[SheetItem] = []
    at = 0.0
    for block in blocks:
        if items:
            items.append(Gate(GateKind.COOL_DOWN, at, _COOL_S, _COOL_AT_MOST_S))
            at += _COOL_S
        items.append(replace(block, start_s=at))
        at += block.length_s
    return tuple(items)


def halves(pick: Pick, wish: Wish, cores: tuple[int, ...]) -> tuple[SheetItem, ...]:
    """First one half, then the other: of the parts where there are several, else of the cores.

    `cores` are all cores of the machine. After a crash under several loads the half that crashes again has the fault.
    """
    if len(pick.kinds) > 1:
        middle = (len(pick.kinds) + 1) // 2
        first = all_together(replace(pick, kinds=pick.kinds[:middle]), wish)
        second = all_together(replace(pick, kinds=pick.kinds[middle:]), wish)
    else:
        picked = pick.cores or cores
        middle = (len(picked) + 1) // 2
        first = all_together(Pick(pick.kinds, picked[:middle]), wish)
        second = all_together(Pick(pick.kinds, picked[middle:]), wish) if picked[middle:] else ()
    at = wish.length_s
    gate = Gate(GateKind.COOL_DOWN, at, _COOL_S, _COOL_AT_MOST_S)
    return (*first, gate, *(replace(item, start_s=item.start_s + at + _COOL_S) for item in second))


def ladder(pick: Pick, wish: Wish) -> tuple[SheetItem, ...]:
    """Half an hour, three hours, a night, with a question before each longer part; stops at the first fault."""
    items: list[SheetItem] = []
    at = 0.0
    for seconds in LADDER_S:
        if items:
            items.append(Gate(GateKind.ASK, at, _ASK_S, _ASK_AT_MOST_S))
            at += _ASK_S
        items += [
            replace(block, start_s=at)
            for block in all_together(pick, replace(wish, length_s=seconds))
            if isinstance(block, Block)
        ]
        at += seconds
    return tuple(items)


@dataclass(frozen=True, slots=True)
class ReadyMade:
    """A shape of a run that is made with one click: its name, what it is for, and how it is made."""

    title: str
    about: str
    make: Callable[[Pick, Wish, tuple[int, ...]], tuple[SheetItem, ...]]
    first_fault_ends: bool = False


READY_MADE: tuple[ReadyMade, ...] = (
    ReadyMade(
        "All together",
        "every picked part at the same time: loads the power supply and the cooling most",
        lambda pick, wish, _cores: all_together(pick, wish),
    ),
    ReadyMade(
        "One after another",
        "one part at a time, cooled down between: shows which one it is",
        lambda pick, wish, _cores: one_after_another(pick, wish),
    ),
    ReadyMade(
        "Halve it",
        "first one half, then the other; the half that fails has the fault. For after a crash under several loads",
        halves,
    ),
    ReadyMade(
        "Ladder",
        "half an hour, three hours, a night; a question before each longer part, and the first fault ends it",
        lambda pick, wish, _cores: ladder(pick, wish),
        first_fault_ends=True,
    ),
)


def own_sheet(title: str, items: tuple[SheetItem, ...], first_fault_ends: bool = False) -> RunSheet:
    """Return a sheet of some items."""
    blocks = tuple(item for item in items if isinstance(item, Block))
    gates = tuple(item for item in items if isinstance(item, Gate))
    return RunSheet(title, blocks, gates, SheetLimits(stop_after_faults=1 if first_fault_ends else None))
