"""USB ports, one after the other, with a stick that a person moves from port to port."""

from dataclasses import dataclass

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, beside, pause, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_number, optional_text
from thresher.model.questions import Choice, Question

_USB = "/sys/bus/usb/devices"
_LOOK_S = 2.0
_MOST_PORTS = 24
_HUB = 9
"""Device class of hubs (USB 2.0, 11.23.1)."""
_MASS_STORAGE = "08"
_FAST_MBIT = 5000.0


@dataclass(frozen=True, slots=True)
class _Plugged:
    """A stick in a port: the kernel's name of the port, Mbit/s reached, and what the stick could do."""

    port: str
    speed: float
    could: float


def _sticks(system: System) -> list[_Plugged]:
    found = []
    for name in system.list(_USB):
        here = f"{_USB}/{name}"
        if ":" in name or optional_number(system, f"{here}/bDeviceClass") == _HUB:
            continue
        kinds = [
            optional_text(system, f"{_USB}/{each}/bInterfaceClass")
            for each in system.list(_USB)
            if each.startswith(f"{name}:")
        ]
        if _MASS_STORAGE not in kinds:
            continue
        speed = optional_text(system, f"{here}/speed")
        version = optional_text(system, f"{here}/version")
        could = _FAST_MBIT if _above_2(version) else 480.0
        try:
            found.append(_Plugged(name, float(speed), could))
        except ValueError:
            continue
    return found


def _above_2(version: str) -> bool:
    """Whether a stick could do more than 480 Mbit/s: it reports 3.x, or 2.1 in a slow port (USB 3.2, 9.6.1)."""
    try:
        return float(version) >= 2.1
    except ValueError:
        return False


_NEXT = Question(
    "USB ports",
    "Plug the stick into the next port",
    (
        Choice("N", "next", "It is in"),
        Choice("D", "done", "All ports are done"),
        Choice("X", "dead", "It does nothing"),
    ),
    "Use a stick of the newest kind, so that the full speed of the port shows.",
    at_most_s=300.0,
)


_IN_ALREADY = Question(
    "USB ports",
    "A stick is in already. Pull it out, unless the machine runs from it",
    (Choice("G", "go on", "Go on"),),
    "One that stays in is left out of the check.",
    at_most_s=300.0,
)


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to move a stick from port to port"),)
    results: list[CheckResult] = []
    if (yield from beside(lambda: _sticks(bench.system))) and (yield from ask(_IN_ALREADY)) is None:
        return (CHECK.unclear("the question was left unanswered"),)
    fixed = {each.port for each in (yield from beside(lambda: _sticks(bench.system)))}
    before = ""
    for number in range(_MOST_PORTS):
        yield from progress(f"port {number + 1}", min(0.9, number / 8))
        answer = yield from ask(_NEXT)
        if answer is None or answer.word == "done":
            break
        if answer.word == "dead":
            results.append(CHECK.failed("a stick in this port is not seen", place=f"port {number + 1}"))
            continue
        stick = yield from _new_stick(bench, fixed)
        results.append(_judge(stick, number + 1, before))
        before = stick.port if stick is not None else ""
    return tuple(results) or (CHECK.unclear("no stick was plugged in"),)


def _new_stick(bench: CheckBench, fixed: set[str]) -> Steps[_Plugged | None]:
    """Return the stick that is in now and was not at the beginning: the machine may run from one of its own."""
    yield from pause(_LOOK_S)
    found = yield from beside(lambda: _sticks(bench.system))
    return next((each for each in found if each.port not in fixed), None)


def _judge(stick: _Plugged | None, number: int, before: str) -> CheckResult:
    place = f"port {number}"
    if stick is None:
        return CHECK.failed("the stick is not seen in this port", place=place)
    if stick.port == before:
        return CHECK.unclear(f"the stick is still in the port before it ({stick.port})", place=place)
    figure = Figure(f"speed at {stick.port}", stick.speed, "Mbit/s", stick.could, None, "the stick's own USB version")
    if not figure.within:
        why = f"the stick could do {stick.could:.0f} Mbit/s and gets {stick.speed:.0f}: a slow port, or bad contacts"
        return CHECK.unclear(why, figure, place=place)
    return CHECK.passed("the stick is seen at its full speed", figure, place=place)


CHECK = Check(
    name="USB ports",
    row=PartKind.BOARD,
    about=(
        "A stick is plugged into one port after the other. Each must see it at the speed that the stick is made for. A"
        " dead port is often just bent; one that is slow has a bad contact."
    ),
    finds="dead and slow ports",
    misses="ports that give too little current for a disk",
    usual_s=120.0,
    run=_run,
    parts=(PartKind.BOARD,),
    needs=(Need.PERSON, Need.STICK),
    kind=FindingKind.PORT_DEAD,
    code="S-614",
    worth_min=30.0,
)
