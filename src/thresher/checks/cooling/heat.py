"""Temperatures at idle against the room: a cooler that is off shows before any load."""

from thresher.checks.check import Check, CheckBench, CheckSteps, watched
from thresher.model.channels import Quantity
from thresher.model.checks import Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind

_SECONDS = 20.0
_ROOM_C = 25.0
_MOST_OVER_ROOM_K = 40.0
"""A processor at rest that is this much warmer than the room has no working cooler; the makers' judgement."""
_LEAST_REST = 0.35


def _run(bench: CheckBench) -> CheckSteps:
    readings = yield from watched(bench, _SECONDS, "the machine rests", 0.0, 1.0)
    hottest, busy, room = [], [], []
    for number, channel in enumerate(bench.channels):
        values = [value for each in readings if (value := each.values[number]) is not None]
        if not values or channel.distrust:
            continue
        if channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR:
            hottest.append(min(values))
        if channel.quantity is Quantity.TEMPERATURE and "ambient" in channel.name.lower():
            room.append(min(values))
        if channel.quantity is Quantity.USE and channel.kind is PartKind.PROCESSOR:
            busy.append(sum(values) / len(values))
    if not hottest:
        return (CHECK.unclear("this machine does not report how warm its processor is"),)
    ambient = min(room, default=_ROOM_C)
    source = "judgement, over the room's temperature" + ("" if room else ", taken as 25 °C")
    figure = Figure("processor at idle", round(max(hottest), 1), "°C", None, ambient + _MOST_OVER_ROOM_K, source)
    if busy and max(busy) > 100 * _LEAST_REST:
        return (CHECK.unclear("other programs keep the processor busy: close them and run it again", figure),)
    if not figure.within:
        over = max(hottest) - ambient
        why = f"at idle it is {over:.0f} K warmer than the room: is the cooler seated, and its fan plugged in?"
        return (CHECK.failed(why, figure),)
    return (CHECK.passed("at idle it stays cool", figure),)


CHECK = Check(
    name="idle heat",
    row=PartKind.COOLING,
    about=(
        "An idle processor should be only a little warmer than the room. One that is hot at idle has a cooler without"
        " contact, a stopped pump, or a fan that is not plugged in."
    ),
    finds="a cooler that does next to nothing",
    misses="a cooler that is only clogged: that shows under load",
    usual_s=_SECONDS + 1.0,
    run=_run,
    parts=(PartKind.COOLING,),
    kind=FindingKind.HEAT_LIMIT,
    code="C-201",
)
