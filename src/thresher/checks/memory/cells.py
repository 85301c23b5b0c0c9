"""Every free cell: with a few patterns, and with every pattern there is."""

import re

from thresher.checks.check import Check, CheckBench, CheckSteps, Coverage, load_until
from thresher.checks.loaded import judged
from thresher.model import memory_patterns as patterns
from thresher.model.checks import CheckOutcome, Figure
from thresher.model.memory_patterns import StepKind, steps_of
from thresher.model.parts import Inventory, PartKind
from thresher.model.sheet import Block, WorkingSet

_GIB_A_SECOND = 4.0
"""What the cores together go over in one step of a pattern, for the time that is shown: two went over 6.5 GiB a second
on the makers' bench; memory that is slower, or loads that are not compiled, take longer."""
_AT_MOST = 6.0
"""A pass may take this much longer than expected before it is broken off."""
_WAIT_S = 30.0
_GIB = re.compile(r"(\d+(?:\.\d+)?) GiB")


def _gib(inventory: Inventory) -> float:
    sizes = [_GIB.search(part.fact("size")) for part in inventory.parts_of(PartKind.MEMORY)]
    return sum(float(size[1]) for size in sizes if size) or 8.0


def _seconds(inventory: Inventory, names: tuple[str, ...]) -> float:
    kinds = [step.kind for name in names for step in steps_of(name)]
    waits = kinds.count(StepKind.WAIT)
    return 10.0 + waits * _WAIT_S + (len(kinds) - waits) * _gib(inventory) / _GIB_A_SECOND


def _through(coverage: Coverage) -> bool:
    return coverage.passes >= 1


def _pass(bench: CheckBench, check: Check, names: tuple[str, ...]) -> CheckSteps:
    """Go once over all free memory with some patterns; without a whole pass nothing is said of the memory."""
    block = Block(
        PartKind.MEMORY,
        "memory",
        0.0,
        _AT_MOST * check.seconds_on(bench.inventory),
        patterns=names,
        working_set=WorkingSet.MAIN_MEMORY,
        wait_s=_WAIT_S,
    )
    seen = yield from load_until(block, _through)
    coverage, figures = seen.coverage, list[Figure]()
    if coverage is not None:
        figures.append(Figure("tested", round(coverage.taken / (1 << 30), 1), "GiB"))
        figures.append(Figure("in the machine", round(coverage.total / (1 << 30), 1), "GiB"))
    (result,) = judged(check, [seen], (PartKind.MEMORY,), "")
    if result.outcome is not CheckOutcome.PASS:
        return (result,)
    if coverage is None or not _through(coverage):
        return (check.unclear("not every free cell was reached in the time that it may take", *figures),)
    return (check.passed("every word that was free kept what was written", *figures, *result.figures),)


SHORT: Check = Check(
    name="memory, short pass",
    row=PartKind.MEMORY,
    about=(
        "Every free cell of the memory is written and read with a few patterns that find most faults. One wrong bit"
        " among billions is a fault. What the system and other programs use cannot be tested while it runs."
    ),
    finds="cells and address lines that fail at once",
    misses="cells that forget slowly or disturb far neighbours, and the memory that is in use",
    usual_s=150.0,
    time=lambda inventory: _seconds(inventory, patterns.SHORT),
    run=lambda bench: _pass(bench, SHORT, patterns.SHORT),
    parts=(PartKind.MEMORY,),
)
LONG: Check = Check(
    name="memory, long pass",
    row=PartKind.MEMORY,
    about=(
        "Every free cell is written and read with every pattern there is, with pauses in which weak cells forget. It"
        " takes minutes or hours, by the size of the memory, and finds what the short pass misses."
    ),
    finds="weak cells, neighbours that disturb each other, address lines",
    misses="the memory that is in use; start from a stick to test nearly all of it",
    usual_s=2 * 3600.0,
    time=lambda inventory: _seconds(inventory, patterns.LONG),
    run=lambda bench: _pass(bench, LONG, patterns.LONG),
    parts=(PartKind.MEMORY,),
    long=True,
)
