"""Every key lights up as it is pressed; keys that stick or chatter are found by their times."""

from thresher.checks.check import Check, CheckBench, CheckSteps, one_answer
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import CHATTERED, PRESSED, STUCK, Choice, Question, Watched

_FEW_KEYS = 20
_QUESTION = Question(
    "Keyboard and pointer",
    "Press every key once, then every mouse button",
    (
        Choice("", "good", "Every key came"),
        Choice("", "missing", "A key did not come"),
        Choice("", "skip", "Cannot tell"),
    ),
    "Each key lights up here when it comes. Answer with the mouse.",
    watch=Watched.KEYS,
    at_most_s=600.0,
)


def _run(bench: CheckBench) -> CheckSteps:
    answer = yield from one_answer(CHECK, bench, _QUESTION, "to press the keys")
    if isinstance(answer, CheckResult):
        return (answer,)
    measured = dict(answer.measured)
    figures = (
        Figure("keys and buttons that came", measured.get(PRESSED, 0.0)),
        Figure("keys that came twice at one press", measured.get(CHATTERED, 0.0), "", None, 0, "none on a sound key"),
        Figure("keys that did not come up again", measured.get(STUCK, 0.0), "", None, 0, "none on a sound key"),
        Figure("which", words=answer.details or "none"),
    )
    if answer.word == "missing":
        return (CHECK.failed("a key did not come", *figures),)
    wrong = [figure for figure in figures if not figure.within]
    if wrong:
        return (CHECK.failed(f"{wrong[0].name}: {answer.details}", *figures),)
    if answer.word != "good" or measured.get(PRESSED, 0.0) < _FEW_KEYS:
        return (CHECK.unclear("too few keys were pressed to say anything", *figures),)
    return (CHECK.passed("every key that was pressed came once and went up again", *figures),)


CHECK = Check(
    name="keys",
    row=PartKind.BOARD,
    about=(
        "Press every key and button: each lights up as it comes. A key that comes twice at one press chatters, one that"
        " does not go up again sticks; dust, liquid or a worn contact are behind both."
    ),
    finds="keys that do not come, chatter or stick",
    misses="a key that fails once in a hundred presses",
    usual_s=60.0,
    run=_run,
    parts=(PartKind.BOARD,),
    needs=(Need.PERSON,),
    kind=FindingKind.KEYS_WRONG,
    code="S-640",
    worth_min=10.0,
)
