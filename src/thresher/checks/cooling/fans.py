"""Every fan that should turn turns, the pump too."""

from thresher.checks.check import Check, CheckBench, CheckSteps, watched
from thresher.model.channels import Quantity
from thresher.model.checks import Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind

_SECONDS = 6.0
_MUST = ("cpu", "pump", "aio", "processor")
"""Words in a name of fans that never stand still; the others may, where the board stops them at low heat."""


def _run(bench: CheckBench) -> CheckSteps:
    readings = yield from watched(bench, _SECONDS, "reading the fans", 0.0, 1.0)
    speeds: dict[str, float] = {}
    for number, channel in enumerate(bench.channels):
        if channel.quantity is Quantity.FAN and not channel.distrust:
            values = [value for each in readings if (value := each.values[number]) is not None]
            if values:
                speeds[channel.name] = max(values)
    if not speeds:
        return (CHECK.unclear("this machine does not report its fans: look whether they turn"),)
    figures = tuple(Figure(name, round(speed), "rpm") for name, speed in speeds.items())
    still = [name for name, speed in speeds.items() if speed <= 0]
    stopped = [name for name in still if any(word in name.lower() for word in _MUST)]
    if stopped:
        return tuple(CHECK.failed(f"{name} does not turn", *figures, place=name) for name in stopped)
    if len(still) == len(speeds):
        return (CHECK.unclear("no fan turns; most of these may rest while it is cool", *figures),)
    resting = f"; at rest, or nothing connected: {', '.join(still)}" if still else ""
    turning = len(speeds) - len(still)
    return (CHECK.passed(f"{turning} fan{'s turn' if turning > 1 else ' turns'}{resting}", *figures),)


CHECK = Check(
    name="fans turn",
    row=PartKind.COOLING,
    about=(
        "The fan of the processor and the pump of a water cooler must always turn. Others may rest while it is cool,"
        " and many headers have no fan at all; what turns is listed with its speed."
    ),
    finds="a stopped fan or pump",
    misses="a fan that turns and moves no air, and fans that the board does not report",
    usual_s=_SECONDS + 1.0,
    run=_run,
    parts=(PartKind.COOLING,),
    kind=FindingKind.FAN_STOPPED,
    code="C-230",
    worth_min=30.0,
)
