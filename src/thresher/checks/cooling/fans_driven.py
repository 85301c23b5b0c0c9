"""Fans answer to being driven: fast, slow, and back exactly to how they were."""

import re
from dataclasses import dataclass

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, beside, pause, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.driven_port import Driven
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_number, optional_text

_HWMON = "/sys/class/hwmon"
_FAST, _SLOW = 255, 90
_SETTLE_S = 8.0
_LEAST_CHANGE = 0.15
"""A fan whose speed changes by less than this share does not follow; the makers' judgement."""


@dataclass(frozen=True, slots=True)
class DrivenFan:
    """A fan with a speed and a duty: the chip's folder, its number there, and its name."""

    folder: str
    number: int
    name: str


def driven_fans(system: System) -> list[DrivenFan]:
    """Return the fans that the board lets be driven and that turn now (kernel document hwmon/sysfs-interface)."""
    found = []
    for chip in system.list(_HWMON):
        folder = f"{_HWMON}/{chip}"
        for name in system.list(folder):
            match = re.fullmatch(r"pwm(\d+)", name)
            if match is None or not optional_number(system, f"{folder}/fan{match[1]}_input"):
                continue
            label = optional_text(system, f"{folder}/fan{match[1]}_label") or f"fan {match[1]} of {chip}"
            found.append(DrivenFan(folder, int(match[1]), label))
    return found


def _run(bench: CheckBench) -> CheckSteps:
    fans = yield from beside(lambda: driven_fans(bench.system))
    if not fans:
        return (CHECK.unclear("the board lets no fan be driven"),)
    results = []
    for number, fan in enumerate(fans):
        yield from progress(f"driving {fan.name}", number / len(fans))
        results.append((yield from _drive(bench, fan)))
    return tuple(results)


def _drive(bench: CheckBench, fan: DrivenFan) -> Steps[CheckResult]:
    def mode() -> int | None:
        return optional_number(bench.system, f"{fan.folder}/pwm{fan.number}_enable")

    before = yield from beside(mode)
    try:
        held = yield from beside(lambda: bench.system.open_fan(fan.folder, fan.number), lambda late: late.close())
    except SourceUnavailable as error:
        return CHECK.unclear(f"{error}; {Need.RIGHTS.value} are needed", place=fan.name)
    try:
        fast = yield from _speed_at(bench, fan, held, _FAST)
        slow = yield from _speed_at(bench, fan, held, _SLOW)
        yield from beside(held.close)
        after = yield from beside(mode)
    except SourceUnavailable as error:
        return CHECK.unclear(str(error), place=fan.name)
    finally:
        held.let_go()
    if after != before:
        words = f"it follows mode {after} now and mode {before} before; start the machine again to put it right"
        return CHECK.unclear(words, place=fan.name)
    return _judge(fan, fast, slow)


def _speed_at(bench: CheckBench, fan: DrivenFan, held: Driven, duty: int) -> Steps[float | None]:
    yield from beside(lambda: held.drive(duty))
    yield from pause(_SETTLE_S)
    return (yield from beside(lambda: optional_number(bench.system, f"{fan.folder}/fan{fan.number}_input")))


def _judge(fan: DrivenFan, fast: float | None, slow: float | None) -> CheckResult:
    if fast is None or slow is None:
        return CHECK.unclear("its speed could not be read any more", place=fan.name)
    figures = (Figure("driven fast", fast, "rpm"), Figure("driven slowly", slow, "rpm"))
    if fast <= 0:
        return CHECK.failed("it does not turn at full duty", *figures, place=fan.name)
    if fast - slow < _LEAST_CHANGE * fast:
        return CHECK.failed("it does not follow its duty: wire, header or fan", *figures, place=fan.name)
    return CHECK.passed("it follows its duty, and was put back as it was", *figures, place=fan.name)


CHECK = Check(
    name="fans driven",
    row=PartKind.COOLING,
    about=(
        "Where the board allows it, each fan is driven fast and slowly for some seconds, and its speed must follow. How"
        " it was driven before is put back exactly, also if the program is killed meanwhile."
    ),
    finds="fans that do not follow: a worn bearing, a wire off, a header that is dead",
    misses="boards that let no fan be driven",
    usual_s=40.0,
    run=_run,
    parts=(PartKind.COOLING, PartKind.BOARD),
    needs=(Need.RIGHTS,),
    kind=FindingKind.FAN_DEAF,
    code="C-231",
    worth_min=60.0,
)
