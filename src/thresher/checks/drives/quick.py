"""Drives: their own short self-test, and a read of some hundred places."""

from thresher.checks.check import Check, CheckBench, CheckSteps, having
from thresher.checks.loaded import worked_check
from thresher.drives.reading import Drive, drives_of, usual_rate
from thresher.model.parts import Inventory, PartKind
from thresher.model.sheet import Block, WorkingSet


def _whole_s(inventory: Inventory) -> float | None:
    """Return about how long the slowest drive takes: all are read at the same time."""
    return max((_seconds(drive) for drive in drives_of(inventory.parts)), default=None)


def _seconds(drive: Drive) -> float:
    size = drive.part.fact("size").removesuffix(" GB")
    return float(size) * 1e9 / usual_rate(drive) if size.isdigit() else WHOLE.usual_s


def _block(load: str, seconds: float) -> Block:
    return Block(PartKind.DRIVE, load, 0.0, seconds, working_set=WorkingSet.MAIN_MEMORY)


def _self_test(_bench: CheckBench) -> CheckSteps:
    blocks = [_block("short self-test", 130.0)]
    return (yield from worked_check(blocks, SELF_TEST, (PartKind.DRIVE,), "every drive passed its own test"))


def _places(_bench: CheckBench) -> CheckSteps:
    blocks = [_block("read sample", 180.0)]
    return (yield from worked_check(blocks, PLACES, (PartKind.DRIVE,), "every place tried could be read in time"))


def _everything(bench: CheckBench) -> CheckSteps:
    blocks = [_block("read all", WHOLE.seconds_on(bench.inventory))]
    return (yield from worked_check(blocks, WHOLE, (PartKind.DRIVE,), "every sector of every drive could be read"))


SELF_TEST = Check(
    name="drive self-test",
    row=PartKind.DRIVE,
    about=(
        "Every drive has a short test of its own, for its electronics and a part of its medium. It takes two minutes,"
        " writes nothing, and what it finds is certain."
    ),
    finds="what a drive itself knows to be broken",
    misses="most of the medium, the cable and the port",
    usual_s=130.0,
    run=_self_test,
    parts=(PartKind.DRIVE,),
    there=having(PartKind.DRIVE),
)
PLACES = Check(
    name="drive places",
    row=PartKind.DRIVE,
    about=(
        "Some hundred places over each whole drive are read, and those that the drive lists as doubtful. Nothing is"
        " written. A place that is slow or cannot be read is where data is lost."
    ),
    finds="drives with many bad or slow places, and a bad link",
    misses="single bad sectors between the places",
    usual_s=150.0,
    run=_places,
    parts=(PartKind.DRIVE,),
    there=having(PartKind.DRIVE),
)
WHOLE = Check(
    name="drive, all of it",
    row=PartKind.DRIVE,
    about=(
        "Every sector of every drive is read once. Nothing is written, and each bad sector is found. A large drive"
        " takes hours."
    ),
    finds="every sector that cannot be read",
    misses="faults that show while writing only",
    usual_s=3 * 3600.0,
    time=_whole_s,
    run=_everything,
    parts=(PartKind.DRIVE,),
    long=True,
    there=having(PartKind.DRIVE),
)
