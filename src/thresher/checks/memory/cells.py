"""Every free cell once, in minutes, and with every pattern, in hours."""

import re
from collections.abc import Callable

from thresher.checks.check import Check, CheckBench, CheckSteps, under_load
from thresher.checks.loaded import judged
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import System, optional_text
from thresher.model.sheet import Block, WorkingSet

_BYTES_A_SECOND_AND_THREAD = 0.9e9
_MOST_THREADS = 8
"""More threads than this do not make memory faster; measured on one bench, and only for the time that is shown."""
_SHORT = ("march", "address", "random")
_LONG_PASSES = 60.0
"""All patterns go over every cell about so many times."""


def pass_seconds(system: System, inventory: Inventory, times: float) -> float:
    """Return about how long it takes to go over all free memory so many times, in seconds."""
    free = re.search(r"^MemAvailable:\s+(\d+) kB", optional_text(system, "/proc/meminfo"), re.MULTILINE)
    threads = min(_MOST_THREADS, max(1, len(inventory.cpus)))
    size = int(free[1]) * 1024.0 if free else 8.0 * (1 << 30)
    return max(20.0, times * size / (_BYTES_A_SECOND_AND_THREAD * threads))


def _make(patterns: tuple[str, ...], times: float) -> Callable[[CheckBench], CheckSteps]:
    def run(bench: CheckBench) -> CheckSteps:
        seconds = pass_seconds(bench.system, bench.inventory, times)
        block = Block(
            PartKind.MEMORY, "memory", 0.0, seconds, patterns=patterns, working_set=WorkingSet.MAIN_MEMORY, wait_s=30.0
        )
        seen = yield from under_load(block)
        check = SHORT if patterns == _SHORT else LONG
        return tuple(judged(check, [seen], (PartKind.MEMORY,), "every word that was free kept what was written"))

    return run


SHORT = Check(
    name="memory, short pass",
    row=PartKind.MEMORY,
    about=(
        "Every free cell of the memory is written and read with a few patterns that find most faults. One wrong bit"
        " among billions is a fault. What the system and other programs use cannot be tested while it runs."
    ),
    finds="cells and address lines that fail at once",
    misses="cells that forget slowly or disturb far neighbours, and the memory that is in use",
    usual_s=150.0,
    run=_make(_SHORT, 14.0),
    parts=(PartKind.MEMORY,),
)
LONG = Check(
    name="memory, long pass",
    row=PartKind.MEMORY,
    about=(
        "Every free cell is written and read with every pattern there is, with pauses in which weak cells forget. It"
        " takes hours and finds what the short pass misses."
    ),
    finds="weak cells, neighbours that disturb each other, address lines",
    misses="the memory that is in use; start from a stick to test nearly all of it",
    usual_s=2 * 3600.0,
    run=_make((), _LONG_PASSES),
    parts=(PartKind.MEMORY,),
    long=True,
)
