"""A recording from each input: a voice must stand out of the silence, without clipping."""

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, having, progress
from thresher.model.checks import CheckOutcome, CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import DEVICES, NO_DEVICE, Answer, Choice, Question, SoundKind

LOUD, QUIET, CLIPPED = "loudest", "quietest", "clipped"
"""Names of what a recording measures: dBFS of the loudest and the quietest fifth of a second, and a share."""

_LEAST_LOUD_DB = -50.0
_LEAST_OVER_DB = 12.0
_MOST_CLIPPED = 0.01
_SOURCE = "judgement: a voice at half a metre gives -40 to -15 dBFS"
_MOST_INPUTS = 16
_WAIT_S = 120.0
_SPOKE = Question(
    "Microphone",
    "Nothing was recorded. Did you speak?",
    (
        Choice("Y", "yes", "Yes, aloud"),
        Choice("N", "no", "No, try again"),
        Choice("X", "leave", "Leave this input out"),
    ),
    "Look first whether the machine has a switch or a key that mutes the microphone.",
    at_most_s=_WAIT_S,
)
_MOST_TRIES = 3


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to speak"),)
    results: list[CheckResult] = []
    for number in range(_MOST_INPUTS):
        yield from progress(f"input {number + 1}", min(0.9, number / 4))
        result, inputs = yield from _record(number)
        if inputs == 0 and results:
            break
        results.append(result)
        if number + 1 >= inputs:
            break
    return tuple(results)


def _record(number: int) -> Steps[tuple[CheckResult, float]]:
    """Record from one input until somebody has spoken; return the result, and how many inputs there are."""
    place = f"input {number + 1}"
    result, inputs = CHECK.unclear("nobody spoke", place=place), 0.0
    for _ in range(_MOST_TRIES):
        answer = yield from ask(_question(number))
        if answer is None:
            return CHECK.unclear("the question was left unanswered", place=place), 0.0
        if answer.word == NO_DEVICE:
            return CHECK.unclear(answer.details or "this machine has no sound input"), 0.0
        inputs = dict(answer.measured).get(DEVICES, 1.0)
        result = _judge(answer, answer.details or place)
        if result.outcome is not CheckOutcome.FAIL:
            return result, inputs
        spoke = yield from ask(_SPOKE)
        if spoke is not None and spoke.word == "yes":
            return result, inputs
        result = CHECK.unclear("nobody spoke", *result.figures, place=result.place)
        if spoke is None or spoke.word == "leave":
            break
    return result, inputs


def _question(number: int) -> Question:
    return Question(
        f"Sound input {number + 1}",
        "Count aloud from one to five, then be quiet",
        (),
        "It records for five seconds; the bar follows your voice.",
        sound=SoundKind.VOICE,
        device=number,
        at_most_s=_WAIT_S,
    )


def _judge(answer: Answer, place: str) -> CheckResult:
    measured = dict(answer.measured)
    loud, quiet, clipped = (measured.get(name, 0.0) for name in (LOUD, QUIET, CLIPPED))
    figures = (
        Figure("loudest", loud, "dBFS", _LEAST_LOUD_DB, None, _SOURCE),
        Figure("voice over silence", loud - quiet, "dB", _LEAST_OVER_DB, None, _SOURCE),
        Figure("clipped", 100.0 * clipped, "%", None, 100.0 * _MOST_CLIPPED, _SOURCE),
    )
    if not figures[0].within or not figures[1].within:
        return CHECK.failed("no voice comes through", *figures, place=place)
    if not figures[2].within:
        return CHECK.unclear("it clips: turn its level down and try again", *figures, place=place)
    return CHECK.passed("the voice comes through clearly", *figures, place=place)


CHECK = Check(
    name="microphone",
    row=PartKind.SOUND,
    about=(
        "You speak, and each sound input records it for five seconds. The voice must stand out of the silence. A deaf"
        " microphone is mostly muted by a key, then blocked by dirt, then broken."
    ),
    finds="deaf microphones and inputs",
    misses="how natural the voice sounds",
    usual_s=20.0,
    run=_run,
    parts=(PartKind.SOUND, PartKind.BOARD),
    needs=(Need.PERSON,),
    kind=FindingKind.SOUND_WRONG,
    code="U-120",
    worth_min=30.0,
    there=having(PartKind.SOUND),
)
