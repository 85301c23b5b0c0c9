"""Drives: their own short self-test, and a read of some hundred places."""

from thresher.checks.check import Check, CheckBench, CheckSteps
from thresher.checks.loaded import in_turn, judged, worked_check
from thresher.model.parts import Inventory, PartKind
from thresher.model.sheet import Block, WorkingSet


def has_drive(inventory: Inventory) -> bool:
    """Whether there is a drive."""
    return bool(inventory.parts_of(PartKind.DRIVE))


def _block(load: str, seconds: float) -> Block:
    return Block(PartKind.DRIVE, load, 0.0, seconds, working_set=WorkingSet.MAIN_MEMORY)


def _self_test(_bench: CheckBench) -> CheckSteps:
    blocks = [_block("short self-test", 130.0)]
    return (yield from worked_check(blocks, SELF_TEST, (PartKind.DRIVE,), "every drive passed its own test"))


def _places(_bench: CheckBench) -> CheckSteps:
    seen = yield from in_turn([_block("read sample", 180.0)])
    return tuple(judged(PLACES, seen, (PartKind.DRIVE,), "every place that was tried could be read in time"))


def _everything(_bench: CheckBench) -> CheckSteps:
    blocks = [_block("read all", 3 * 3600.0)]
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
    there=has_drive,
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
    there=has_drive,
)
WHOLE = Check(
    name="drive, all of it",
    row=PartKind.DRIVE,
    about="Every sector of every drive is read once. It takes hours, writes nothing, and finds each bad sector.",
    finds="every sector that cannot be read",
    misses="faults that show while writing only",
    usual_s=3 * 3600.0,
    run=_everything,
    parts=(PartKind.DRIVE,),
    long=True,
    there=has_drive,
)
