"""Touchpad or mouse: the pointer reaches every field, each button comes once, the wheel turns both ways."""

from thresher.checks.check import Check, CheckBench, CheckSteps, one_answer
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import (
    CHATTERED,
    DOWNWARDS,
    FIELDS,
    FIELDS_LEFT,
    PRESSED,
    STUCK,
    UPWARDS,
    Choice,
    Question,
    Watched,
)

_QUESTION = Question(
    "Touchpad or mouse",
    "Pass over every field, press each button a few times, turn the wheel up and down",
    (
        Choice("D", "done", "Done"),
        Choice("J", "jumps", "The pointer jumps or sticks"),
        Choice("M", "missing", "A button or the wheel does nothing"),
        Choice("N", "skip", "Cannot tell"),
    ),
    "Answer by a key. On a touchpad, two fingers turn the wheel.",
    watch=Watched.POINTER,
    at_most_s=300.0,
)


def _run(bench: CheckBench) -> CheckSteps:
    answer = yield from one_answer(CHECK, bench, _QUESTION, "to move the pointer")
    if isinstance(answer, CheckResult):
        return (answer,)
    measured = dict(answer.measured)
    fields, left = measured.get(FIELDS, 0.0), measured.get(FIELDS_LEFT, 0.0)
    up, down = measured.get(UPWARDS, 0.0), measured.get(DOWNWARDS, 0.0)
    chattered = Figure("buttons that came twice at one press", measured.get(CHATTERED, 0.0), "", None, 0.0)
    stuck = Figure("buttons that did not come up again", measured.get(STUCK, 0.0), "", None, 0.0)
    figures = (
        Figure("fields not reached", left, f"of {fields:.0f}"),
        Figure("buttons", measured.get(PRESSED, 0.0), "", None, None, "", answer.details),
        Figure("wheel up", up, "notches"),
        Figure("wheel down", down, "notches"),
        chattered,
        stuck,
    )
    if answer.word == "jumps":
        return (CHECK.failed("the pointer jumps or sticks", *figures),)
    if answer.word == "missing":
        return (CHECK.failed("a button or the wheel does nothing", *figures),)
    if not chattered.within or not stuck.within:
        return (CHECK.failed(f"a button chatters or sticks: {answer.details}", *figures),)
    if answer.word == "skip" or not measured.get(PRESSED) or left > fields / 2:
        return (CHECK.unclear("too little was tried to say anything", *figures),)
    if bool(up) != bool(down):
        return (CHECK.failed(f"the wheel turns {'up' if up else 'down'} only", *figures),)
    if not up:
        return (CHECK.passed("pointer and buttons work; no wheel was turned", *figures),)
    return (CHECK.passed("pointer, buttons and wheel work", *figures),)


CHECK = Check(
    name="pointer",
    row=PartKind.BOARD,
    about=(
        "Move over every field, press each button, turn the wheel both ways. A button that comes twice at one press is"
        " worn; a pointer that jumps has dirt under its eye, or a pad that the battery presses from below."
    ),
    finds="buttons that chatter or stick, a wheel that turns one way, a pointer that jumps",
    misses="a button that fails once in a hundred presses",
    usual_s=30.0,
    run=_run,
    parts=(PartKind.BOARD,),
    needs=(Need.PERSON,),
    kind=FindingKind.KEYS_WRONG,
    code="S-641",
    worth_min=10.0,
)
