"""Every pair of cores passes data to each other without loss."""

from thresher.checks.check import Check, CheckBench, CheckSteps
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 20.0


def _run(bench: CheckBench) -> CheckSteps:
    if len(bench.inventory.cpus) < 2:
        return (CHECK.unclear("one thread has nobody to pass data to"),)
    blocks = [Block(PartKind.PROCESSOR, "relay", 0.0, _SECONDS, working_set=WorkingSet.CORE)]
    return (yield from worked_check(blocks, CHECK, (PartKind.PROCESSOR,), "every message arrived whole"))


CHECK = Check(
    name="core pairs",
    row=PartKind.PROCESSOR,
    about=(
        "The cores pass numbered messages to each other through their caches, every pair in turn. When one core writes"
        " and another reads, the caches must agree. Where they do not, programs crash without a pattern although each"
        " core by itself is sound."
    ),
    finds="caches that disagree, and a path between two cores that loses data",
    misses="faults inside one core",
    usual_s=_SECONDS + 3.0,
    run=_run,
    parts=(PartKind.PROCESSOR,),
)
