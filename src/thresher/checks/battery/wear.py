"""How much a battery still holds, its cycles, voltage and temperature."""

from thresher.checks.battery.supply_files import BatteryState, batteries
from thresher.checks.check import Check, CheckBench, CheckSteps, beside, having, progress
from thresher.inventory.devices import WORN_SHARE
from thresher.model.checks import CheckResult, Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind

_HOT_C = 60.0
"""IEC 62133-2 has 60 °C as the usual upper limit for discharging lithium-ion cells; charging ends well below."""


_LEAST_WH = 1.0
"""The battery of a handheld has more; some drivers report nonsense."""


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("reading what the batteries report", 0.0)
    found = yield from beside(lambda: batteries(bench.system))
    if not found:
        return (CHECK.unclear("no battery answers"),)
    return tuple(_judge(each) for each in found)


def _judge(battery: BatteryState) -> CheckResult:
    place = battery.name
    figures = [
        Figure("cycles", battery.cycles) if battery.cycles is not None else None,
        Figure("voltage", round(battery.voltage_v, 2), "V") if battery.voltage_v is not None else None,
        Figure("temperature", battery.temperature_c, "°C", None, _HOT_C, "IEC 62133-2")
        if battery.temperature_c is not None
        else None,
    ]
    known = [each for each in figures if each is not None]
    if not battery.full_wh or not battery.design_wh:
        return CHECK.unclear("the battery does not report what it was made for", *known, place=place)
    if battery.design_wh < _LEAST_WH:
        words = f"it reports a design capacity of {battery.design_wh:.3f} Wh, too little for any computer battery"
        return CHECK.unclear(words, *known, place=place)
    share = Figure(
        "full charge left", round(100 * battery.full_wh / battery.design_wh), "%", 100 * WORN_SHARE, None, "judgement"
    )
    held = f"holds {battery.full_wh:.1f} of {battery.design_wh:.1f} Wh"
    if not share.within:
        return CHECK.failed(f"it {held}: worn out", share, *known, place=place)
    hot = next((each for each in known if not each.within), None)
    if hot is not None:
        return CHECK.failed(f"it is at {hot.value:.0f} °C", share, *known, place=place, code="A-120")
    return CHECK.passed(f"it {held}", share, *known, place=place)


CHECK = Check(
    name="battery wear",
    row=PartKind.BATTERY,
    about=(
        "A battery holds less with every year. What it holds when full is compared with what it was made for; the"
        " number of times that it was charged, its voltage and its temperature are shown beside it."
    ),
    finds="a battery that is worn out",
    misses="a battery that claims more than it gives: the battery rate check finds that",
    usual_s=3.0,
    run=_run,
    parts=(PartKind.BATTERY,),
    kind=FindingKind.BATTERY_WORN,
    code="A-110",
    worth_min=60.0,
    there=having(PartKind.BATTERY),
)
