"""Each core by itself goes above its base clock, core by core."""

import statistics

from thresher.checks.check import Check, CheckBench, CheckSteps, beside
from thresher.checks.loaded import in_turn
from thresher.checks.processor.clock_files import base_mhz, fastest_mhz
from thresher.checks.processor.clocks import clocks_by_core, reports_clocks
from thresher.model.checks import Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 4.0
_MOST_CORES = 16
_OF_OTHERS = 0.85
"""A core that reaches less than this share of the others; the makers' judgement."""


def _run(bench: CheckBench) -> CheckSteps:
    if not reports_clocks(bench.channels):
        return (CHECK.unclear("this machine does not report the clocks of its cores"),)
    first_cpus = {cpu.core: cpu.cpu for cpu in reversed(bench.inventory.cpus)}
    cores = sorted(first_cpus)[:_MOST_CORES]
    blocks = [
        Block(
            PartKind.PROCESSOR,
            "branchy",
            0.0,
            _SECONDS,
            cores=(core,),
            one_per_core=True,
            working_set=WorkingSet.SHARED_CACHE,
        )
        for core in cores
    ]
    seen = yield from in_turn(blocks)
    highest: dict[int, float] = {}
    for core, each in zip(cores, seen, strict=True):
        clocks = clocks_by_core(bench.channels, each.readings).get(core)
        if clocks:
            highest[core] = max(clocks)
    if not highest:
        return (CHECK.unclear("this machine does not report the clocks of its cores"),)
    fastest = yield from beside(lambda: {core: fastest_mhz(bench.system, first_cpus[core]) for core in highest})
    bases = yield from beside(lambda: {core: base_mhz(bench.system, first_cpus[core]) for core in highest})
    slow = None
    for core, mhz in highest.items():
        others = [other for each, other in highest.items() if fastest[each] == fastest[core]]
        base = bases[core]
        if mhz < _OF_OTHERS * statistics.median(others) or (base is not None and mhz < 0.97 * base):
            slow = core if slow is None or mhz < highest[slow] else slow
    figures = tuple(Figure(f"core {core}", round(mhz), "MHz") for core, mhz in sorted(highest.items()))
    if slow is not None:
        others_mhz = statistics.median(highest.values())
        why = f"core {slow} alone reaches {highest[slow]:.0f} MHz, the others {others_mhz:.0f}"
        return (CHECK.failed(why, *figures),)
    return (CHECK.passed("each core alone reaches the clock of the others", *figures),)


CHECK = Check(
    name="boost",
    row=PartKind.PROCESSOR,
    about=(
        "One core alone may run faster than all together. Each runs alone in turn and should reach about the"
        " clock of the others of its kind. One that does not is limited by the firmware, because of a fault or a"
        " setting."
    ),
    finds="a core that does not reach the clock of the others",
    misses="errors at that clock: the cores check finds those",
    usual_s=8 * (_SECONDS + 1.0),
    run=_run,
    parts=(PartKind.PROCESSOR,),
    kind=FindingKind.CLOCK_LOW,
    code="P-120",
)
