"""Cameras: a picture that moves, neither black nor frozen, judged by a person."""

from thresher.checks.check import Check, CheckBench, CheckSteps, ask, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.questions import (
    BRIGHTNESS,
    CHANGED,
    DEVICES,
    FRAMES,
    NO_DEVICE,
    SPREAD,
    Answer,
    Choice,
    Question,
    Watched,
)

_MOST_CAMERAS = 8
_LEAST_FRAMES = 10.0
_LEAST_SPREAD = 2.0
_SOURCE = "judgement: any room gives a spread over 10"


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to look at the picture"),)
    results: list[CheckResult] = []
    for number in range(_MOST_CAMERAS):
        yield from progress(f"camera {number + 1}", min(0.9, number / 3))
        answer = yield from ask(_question(number))
        if answer is None:
            return (*results, CHECK.unclear("the question was left unanswered", place=f"camera {number + 1}"))
        if answer.word == NO_DEVICE:
            return tuple(results) or (CHECK.unclear(answer.details or "this machine has no camera"),)
        results.append(_judge(answer, answer.details or f"camera {number + 1}"))
        if number + 1 >= dict(answer.measured).get(DEVICES, 1):
            break
    return tuple(results)


def _question(number: int) -> Question:
    return Question(
        f"Camera {number + 1}",
        "Wave at the camera. Is the picture right?",
        (
            Choice("G", "good", "Yes"),
            Choice("B", "black", "It is black"),
            Choice("F", "frozen", "It is frozen"),
            Choice("S", "stripes", "Stripes, spots or wrong colours"),
            Choice("N", "skip", "Cannot tell"),
        ),
        "Open the shutter first, where the machine has one.",
        watch=Watched.CAMERA,
        device=number,
        at_most_s=180.0,
    )


def _judge(answer: Answer, place: str) -> CheckResult:
    measured = dict(answer.measured)
    frames, changed = measured.get(FRAMES, 0.0), measured.get(CHANGED, 0.0)
    spread = Figure("spread of the picture", measured.get(SPREAD, 0.0), "of 255", _LEAST_SPREAD, None, _SOURCE)
    figures = (
        Figure("frames", frames),
        Figure("frames unlike the one before", changed),
        Figure("brightness", measured.get(BRIGHTNESS, 0.0), "of 255"),
        spread,
    )
    if answer.word == "black":
        return CHECK.failed("the picture is black: shutter, key or camera", *figures, place=place)
    if answer.word in ("frozen", "stripes"):
        return CHECK.failed(f"seen: {answer.word}", *figures, place=place)
    if answer.word == "skip" or frames < _LEAST_FRAMES:
        return CHECK.unclear("too few frames came to say anything", *figures, place=place)
    if not changed:
        return CHECK.failed("every frame is the same: the picture is frozen", *figures, place=place)
    if not spread.within:
        return CHECK.unclear("the picture is of one colour: is the shutter open?", *figures, place=place)
    return CHECK.passed("the picture is right and moves", *figures, place=place)


CHECK = Check(
    name="camera",
    row=PartKind.BOARD,
    about=(
        "The picture of each camera is shown, and you say whether it is right. A black one is mostly a shutter or a"
        " key; stripes are a cable in the hinge."
    ),
    finds="cameras that send nothing, freeze, or send stripes",
    misses="how sharp the picture is",
    usual_s=15.0,
    run=_run,
    parts=(PartKind.BOARD,),
    needs=(Need.PERSON,),
    kind=FindingKind.CAMERA_BAD,
    code="S-643",
    worth_min=10.0,
    built_in=BuiltInKind.CAMERA,
)
