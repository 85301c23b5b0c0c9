"""Whether the adapter is recognised and strong enough for the machine at full load."""

from thresher.checks.battery.supply_files import adapters, batteries
from thresher.checks.check import Check, CheckBench, CheckSteps, beside, under_load
from thresher.model.checks import Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 45.0
_FLOWS_W = 1.0


def _run(bench: CheckBench) -> CheckSteps:
    found = yield from beside(lambda: adapters(bench.system))
    plugged = [each for each in found if each.online]
    if not plugged:
        return (CHECK.unclear("no adapter is plugged in" if found else "the machine does not report its adapter"),)
    rated = max((each.power_w for each in plugged if each.power_w is not None), default=None)
    seen = yield from under_load(
        Block(PartKind.PROCESSOR, "matrix", 0.0, _SECONDS, working_set=WorkingSet.SHARED_CACHE)
    )
    states = yield from beside(lambda: batteries(bench.system))
    figures = [Figure("the adapter may give", round(rated), "W")] if rated is not None else []
    drained = [each for each in states if each.status == "Discharging" and (each.power_w or 0.0) > _FLOWS_W]
    if seen.left_out:
        return (CHECK.unclear(seen.left_out, *figures),)
    if drained:
        watts = sum(each.power_w or 0.0 for each in drained)
        figures.append(Figure("drawn from the battery under load", round(watts, 1), "W", None, _FLOWS_W, "judgement"))
        return (CHECK.failed("under full load the battery drains although the adapter is plugged in", *figures),)
    if not states:
        return (CHECK.unclear("without a battery a weak adapter shows by the machine switching off", *figures),)
    return (CHECK.passed("it is recognised, and powers the machine at full load", *figures),)


CHECK = Check(
    name="adapter",
    row=PartKind.BATTERY,
    about=(
        "A machine that needs 65 watts and gets an adapter of 45 runs, and empties its battery meanwhile. The processor"
        " is put under full load with the adapter plugged in: the battery must not be drawn from."
    ),
    finds="an adapter that is not recognised or too weak",
    misses="an adapter that fails when hot, after an hour",
    usual_s=_SECONDS + 4.0,
    run=_run,
    parts=(PartKind.BATTERY, PartKind.POWER),
    needs=(Need.ADAPTER,),
    kind=FindingKind.ADAPTER_WEAK,
    code="A-140",
    worth_min=60.0,
    there=lambda inventory: bool(inventory.parts_of(PartKind.BATTERY)),
)
