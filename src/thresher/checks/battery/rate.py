"""Whether a battery's reported charge follows the measured power over some minutes."""

from thresher.checks.battery.supply_files import BatteryState, adapters, batteries
from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, beside, having, pause, progress
from thresher.model.checks import CheckResult, Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind

_SECONDS = 120.0
_EVERY_S = 5.0
_LEAST_WH = 0.15
"""Less than this moved says nothing: most batteries count in steps of 10 mWh and more."""
_OFF_SHARE = 35.0
"""Per cent by which counted charge and measured power may differ; a fuel gauge is good for a few."""
_FULL = 0.95
_NEAR = 0.05


def _run(bench: CheckBench) -> CheckSteps:
    first = yield from beside(lambda: batteries(bench.system))
    if not first:
        return (CHECK.unclear("no battery answers"),)
    begun = bench.now()
    followed: dict[str, list[tuple[float, BatteryState]]] = {each.name: [(begun, each)] for each in first}
    while (gone := bench.now() - begun) < _SECONDS:
        yield from progress("following charge and power", gone / _SECONDS)
        yield from pause(_EVERY_S)
        yield from _take(bench, followed)
    plugged = yield from beside(lambda: any(each.online for each in adapters(bench.system)))
    return tuple(_judge(readings, plugged) for readings in followed.values())


def _take(bench: CheckBench, followed: dict[str, list[tuple[float, BatteryState]]]) -> Steps[None]:
    at = bench.now()
    for each in (yield from beside(lambda: batteries(bench.system))):
        followed.setdefault(each.name, []).append((at, each))


def _judge(readings: list[tuple[float, BatteryState]], plugged: bool) -> CheckResult:
    (begun, first), (ended, last) = readings[0], readings[-1]
    place, status = last.name, last.status
    watts = [state.power_w for _, state in readings if state.power_w is not None]
    power = Figure("power", round(sum(watts) / len(watts), 1), "W") if watts else Figure("power")
    if status != first.status:
        words = f"it went from {first.status.lower()} to {status.lower()} meanwhile; run it again"
        return CHECK.unclear(words, power, place=place)
    if status == "Charging" and last.stops_at is not None and (last.charge or 0.0) > last.stops_at + _NEAR:
        words = f"charging should stop at {100 * last.stops_at:.0f} % and goes on"
        return CHECK.failed(words, Figure("charge", round(100 * (last.charge or 0.0)), "%"), place=place)
    if status in ("Full", "Not charging") or (plugged and not watts):
        return _resting(last, plugged, power)
    if first.now_wh is None or last.now_wh is None or not watts:
        return CHECK.unclear("the battery reports no charge or no power", power, place=place)
    moved = last.now_wh - first.now_wh
    expected = power.value * (ended - begun) / 3600.0 if power.value is not None else 0.0
    if expected < _LEAST_WH:
        return CHECK.unclear(f"only {expected * 1000:.0f} mWh moved; let it run longer, under load", power, place=place)
    wrong_way = moved < 0 if status == "Charging" else moved > 0
    if wrong_way:
        return CHECK.failed(f"it reports {status.lower()}, and its charge moves the other way", power, place=place)
    off = Figure(
        "charge change against measured power",
        round(100 * (abs(moved) / expected - 1)),
        "%",
        -_OFF_SHARE,
        _OFF_SHARE,
        "judgement",
    )
    if not off.within:
        counted = f"its charge moved by {abs(moved):.2f} Wh while {expected:.2f} Wh flowed"
        return CHECK.failed(f"{counted}: it cannot be relied on", power, off, place=place)
    figures = [power, off]
    if status == "Discharging" and last.now_wh and power.value:
        figures.append(Figure("lasts at this load for", round(last.now_wh / power.value * 60), "min"))
    return CHECK.passed(f"{status.lower()} as it should", *figures, place=place)


def _resting(last: BatteryState, plugged: bool, power: Figure) -> CheckResult:
    """Judge a battery that neither charges nor discharges: right when full or held, wrong when it could be charged."""
    place, charge = last.name, last.charge
    if charge is None:
        return CHECK.unclear("the battery does not report its charge", power, place=place)
    holds = last.stops_at if last.stops_at is not None else _FULL
    share = Figure("charge", round(100 * charge), "%")
    if plugged and charge < holds - _NEAR and last.status != "Full":
        words = f"it is at {100 * charge:.0f} % and does not charge although the adapter is plugged in"
        return CHECK.failed(words, share, place=place)
    missing = "the battery rests; pull the adapter to see how it discharges"
    return CHECK.unclear(missing, share, place=place)


CHECK = Check(
    name="battery rate",
    row=PartKind.BATTERY,
    about=(
        "For two minutes the power that flows into or out of the battery is added up and compared with how its charge"
        " changes. A battery whose charge jumps, stays where it is or moves the wrong way will switch the machine"
        " off without a warning."
    ),
    finds="a battery that reports a wrong charge, and one that does not charge",
    misses="cells that fail only when nearly empty",
    usual_s=_SECONDS + 5.0,
    run=_run,
    parts=(PartKind.BATTERY, PartKind.BOARD),
    kind=FindingKind.BATTERY_WRONG,
    code="A-130",
    worth_min=60.0,
    there=having(PartKind.BATTERY),
)
