"""Rails at idle and under load, against their tolerance."""

import numpy as np

from thresher.checks.check import Check, CheckBench, CheckSteps, Reading, under_load, watched
from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.checks import Figure
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet
from thresher.supply.rails import rail_reports

_IDLE_S, _LOAD_S = 12.0, 30.0


def _run(bench: CheckBench) -> CheckSteps:
    rails = [channel for channel in bench.channels if _is_rail(channel)]
    if not rails:
        return (CHECK.unclear("this machine does not report its rails: use a meter"),)
    idle = yield from watched(bench, _IDLE_S, "reading the rails at idle", 0.0, 0.25)
    load = Block(PartKind.PROCESSOR, "matrix", 0.0, _LOAD_S, working_set=WorkingSet.SHARED_CACHE)
    seen = yield from under_load(load)
    readings = (*idle, *seen.readings)
    if not readings:
        return (CHECK.unclear("no reading came in time"),)
    figures = tuple(_figures(bench.channels, readings))
    at = np.array([each.at for each in readings])
    values = np.array([[np.nan if value is None else value for value in each.values] for each in readings])
    reports = rail_reports(bench.channels, at, values, (readings[0].at, idle[-1].at if idle else readings[0].at))
    words = "; ".join(report.sentence for report in reports)
    outside = [figure for figure in figures if not figure.within]
    if outside:
        return (CHECK.failed(f"out of tolerance: {', '.join(figure.text for figure in outside)}", *figures),)
    if seen.left_out:
        return (CHECK.unclear(f"at idle they are right; {seen.left_out}", *figures),)
    return (CHECK.passed("every rail stays within its tolerance" + (f": {words}" if words else ""), *figures),)


def _is_rail(channel: Channel) -> bool:
    return (
        channel.quantity is Quantity.VOLTAGE
        and channel.kind is PartKind.POWER
        and not channel.distrust
        and channel.limit(LimitSide.ABOVE) is not None
        and channel.limit(LimitSide.BELOW) is not None
    )


def _figures(channels: tuple[Channel, ...], readings: tuple[Reading, ...]) -> list[Figure]:
    found = []
    for number, channel in enumerate(channels):
        low, high = channel.limit(LimitSide.ABOVE), channel.limit(LimitSide.BELOW)
        values = [value for each in readings if (value := each.values[number]) is not None]
        if not _is_rail(channel) or low is None or high is None or not values:
            continue
        for name, value in (("lowest", min(values)), ("highest", max(values))):
            found.append(Figure(f"{channel.name} {name}", round(value, 3), "V", low.value, high.value, low.source))
    return found


CHECK = Check(
    name="rails",
    row=PartKind.POWER,
    about=(
        "The supply must hold its voltages within 5 per cent, at rest and under load. What is read here is the board's"
        " own view of them: a reading out of tolerance is a reason to measure at the plug with a meter."
    ),
    finds="a rail that sags or stands too high",
    misses="ripple, dips shorter than a second, and rails that the board does not report",
    usual_s=_IDLE_S + _LOAD_S + 4.0,
    run=_run,
    parts=(PartKind.POWER, PartKind.BOARD),
    code="S-410",
)
