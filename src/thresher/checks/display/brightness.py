"""Backlights: dark and bright again, seen by a person, and put back exactly as they were."""

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, beside, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.driven_port import Driven
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.port import optional_number
from thresher.model.questions import Choice, Question

_CLASS = "/sys/class/backlight"
_DARK, _BRIGHT = 0.1, 1.0
_WAIT_S = 60.0
_CHOICES = (Choice("Y", "yes", "Yes"), Choice("N", "no", "No"), Choice("F", "flickers", "It flickers"))


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to look at the light"),)
    names = yield from beside(lambda: bench.system.list(_CLASS))
    if not names:
        return (CHECK.unclear("no backlight can be controlled here"),)
    results = []
    for number, name in enumerate(names):
        yield from progress(f"backlight {name}", number / len(names))
        results.append((yield from _one(bench, name)))
    return tuple(results)


def _one(bench: CheckBench, name: str) -> Steps[CheckResult]:
    def number(file: str) -> int | None:
        return optional_number(bench.system, f"{_CLASS}/{name}/{file}")

    most = yield from beside(lambda: number("max_brightness"))
    before = yield from beside(lambda: number("brightness"))
    if not most or before is None:
        return CHECK.unclear("it does not report how bright it can be", place=name)
    try:
        held = yield from beside(lambda: bench.system.open_backlight(name), lambda late: late.close())
    except SourceUnavailable as error:
        return CHECK.unclear(f"{error}; {Need.RIGHTS.value} are needed", place=name)
    try:
        dark = yield from _at(held, max(1, round(_DARK * most)), "Is the picture dark now?")
        bright = yield from _at(held, round(_BRIGHT * most), "Is it as bright as it gets now?")
        yield from beside(held.close)
        after = yield from beside(lambda: number("brightness"))
    except SourceUnavailable as error:
        return CHECK.unclear(str(error), place=name)
    finally:
        held.let_go()
    if after != before:
        words = f"it is at {after} now and was at {before} before: set it again with the brightness keys"
        return CHECK.unclear(words, place=name)
    return _judge(name, dark, bright)


def _at(held: Driven, value: int, text: str) -> Steps[str]:
    yield from beside(lambda: held.drive(value))
    answer = yield from ask(
        Question("Brightness", text, _CHOICES, "Look at the machine's own panel.", at_most_s=_WAIT_S)
    )
    return answer.word if answer is not None else ""


def _judge(name: str, dark: str, bright: str) -> CheckResult:
    figures = (
        Figure("turned down", words="dark" if dark == "yes" else dark or "not answered"),
        Figure("turned up", words="bright" if bright == "yes" else bright or "not answered"),
    )
    if "flickers" in (dark, bright):
        return CHECK.failed("it flickers", *figures, place=name)
    if "no" in (dark, bright):
        return CHECK.failed("the backlight does not respond", *figures, place=name)
    if not dark or not bright:
        return CHECK.unclear("the questions were not all answered", *figures, place=name)
    return CHECK.passed("the backlight responds, and was put back as it was", *figures, place=name)


CHECK = Check(
    name="brightness",
    row=PartKind.DISPLAY,
    about=(
        "The backlight is turned down and up, and you say whether the picture follows. It is put back exactly as it"
        " was, also if the program is killed meanwhile."
    ),
    finds="backlights that do not respond or flicker",
    misses="light that fades over hours",
    usual_s=20.0,
    run=_run,
    parts=(PartKind.DISPLAY, PartKind.BOARD),
    needs=(Need.PERSON,),
    kind=FindingKind.PICTURE_WRONG,
    code="G-462",
    worth_min=20.0,
    built_in=BuiltInKind.BACKLIGHT,
)
