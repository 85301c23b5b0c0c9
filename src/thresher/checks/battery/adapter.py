"""Whether the adapter is recognised and strong enough for the machine at full load."""

import statistics

from thresher.checks.battery.supply_files import BatteryState, adapters, batteries
from thresher.checks.check import Check, CheckBench, CheckSteps, beside, having, sampled_under_load
from thresher.model.checks import Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 45.0
_FLOWS_W = 1.0
_LEAST_SAMPLES = 3
"""Fewer looks at the battery than this say nothing; a battery that fills in for a spike of a second is sound."""


def _drawn_w(states: list[BatteryState]) -> float:
    return sum(each.power_w or 0.0 for each in states if each.status == "Discharging")


def _run(bench: CheckBench) -> CheckSteps:
    found = yield from beside(lambda: adapters(bench.system))
    plugged = [each for each in found if each.online]
    if not plugged:
        return (CHECK.unclear("no adapter is plugged in" if found else "the machine does not report its adapter"),)
    rated = max((each.power_w for each in plugged if each.power_w is not None), default=None)
    figures = [Figure("the adapter may give", round(rated), "W")] if rated is not None else []
    if not (yield from beside(lambda: batteries(bench.system))):
        return (CHECK.unclear("without a battery a weak adapter shows by the machine switching off", *figures),)
    load = Block(PartKind.PROCESSOR, "matrix", 0.0, _SECONDS, working_set=WorkingSet.SHARED_CACHE)
    seen, samples = yield from sampled_under_load(load, lambda: batteries(bench.system))
    drawn = [_drawn_w(states) for states in samples]
    drains = [watts for watts in drawn if watts > _FLOWS_W]
    if len(drains) >= min(_LEAST_SAMPLES, max(1, len(drawn))):
        watts = statistics.median(drains)
        figures.append(Figure("drawn from the battery under load", round(watts, 1), "W", None, _FLOWS_W, "judgement"))
        return (CHECK.failed("under full load the battery drains although the adapter is plugged in", *figures),)
    if seen.left_out or len(samples) < _LEAST_SAMPLES:
        return (CHECK.unclear(seen.left_out or "the battery could not be read under load", *figures),)
    return (CHECK.passed("it is recognised, and powers the machine at full load", *figures),)


CHECK = Check(
    name="adapter",
    row=PartKind.BATTERY,
    about=(
        "A machine that needs 65 watts and gets an adapter of 45 runs, and empties its battery meanwhile. The processor"
        " is put under full load with the adapter plugged in: the battery must not be drawn from."
    ),
    finds="an adapter that is not recognised or too weak",
    misses="an adapter that fails only once it is hot, after an hour",
    usual_s=_SECONDS + 4.0,
    run=_run,
    parts=(PartKind.BATTERY, PartKind.POWER),
    needs=(Need.ADAPTER,),
    kind=FindingKind.ADAPTER_WEAK,
    code="A-140",
    worth_min=60.0,
    there=having(PartKind.BATTERY),
)
