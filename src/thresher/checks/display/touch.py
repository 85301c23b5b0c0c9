"""A touch screen: a finger passes over every field of it."""

from thresher.checks.check import Check, CheckBench, CheckSteps, one_answer
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.questions import FIELDS, FIELDS_LEFT, FINGERS, Choice, Question, Watched

_QUESTION = Question(
    "Touch screen",
    "Wipe over every field with one finger, then put two fingers down",
    (
        Choice("D", "done", "All fields that can be reached are filled"),
        Choice("J", "jumps", "Fields fill where no finger is"),
        Choice("N", "skip", "Cannot tell"),
    ),
    "Answer by a key. Each field fills as the finger passes.",
    watch=Watched.TOUCH,
    at_most_s=300.0,
)


def _run(bench: CheckBench) -> CheckSteps:
    answer = yield from one_answer(CHECK, bench, _QUESTION, "to touch the screen")
    if isinstance(answer, CheckResult):
        return (answer,)
    measured = dict(answer.measured)
    fields, left = measured.get(FIELDS, 0.0), measured.get(FIELDS_LEFT, 0.0)
    missed = Figure("fields that did not respond", left, f"of {fields:.0f}", None, 0.0, "none on a sound screen")
    figures = (missed, Figure("fingers at once", measured.get(FINGERS, 0.0)))
    if answer.word == "jumps":
        return (CHECK.failed("it registers touches that nobody made", *figures),)
    if answer.word == "skip" or left == fields:
        return (CHECK.unclear("no touch came", *figures),)
    if not missed.within:
        return (CHECK.failed(f"{left:.0f} of {fields:.0f} fields did not respond", *figures),)
    return (CHECK.passed("every field registered the finger", *figures),)


CHECK = Check(
    name="touch",
    row=PartKind.DISPLAY,
    about=(
        "Fields cover the screen, and each fills as a finger passes over it. Strips that stay empty are dead lines of"
        " the touch layer; fields that fill by themselves come from a cracked or swollen panel."
    ),
    finds="dead strips, touches that nobody made",
    misses="pens: try those in a drawing program",
    usual_s=40.0,
    run=_run,
    parts=(PartKind.DISPLAY,),
    needs=(Need.PERSON,),
    kind=FindingKind.KEYS_WRONG,
    code="S-642",
    worth_min=20.0,
    built_in=BuiltInKind.TOUCH,
)
