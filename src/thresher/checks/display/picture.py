"""Full-screen fields, steps and lines that a person judges: dead pixels, uneven light, banding, wrong size."""

from dataclasses import dataclass

from thresher.checks.check import Check, CheckBench, CheckSteps, ask, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import Choice, Picture, PictureKind, Question

_GOOD, _SKIP = "good", "skip"
_WAIT_S = 180.0


@dataclass(frozen=True, slots=True)
class _Look:
    """One picture: its name in the result, what is asked of it, and what may be wrong with it."""

    name: str
    picture: Picture
    text: str
    wrong: tuple[Choice, ...]


_SPOT = Choice("S", "spot", "A spot or a dead pixel")
_UNEVEN = Choice("U", "uneven light", "Uneven or tinted")
_LOOKS = (
    _Look("white", Picture(PictureKind.FIELD, (255, 255, 255)), "Is it all white, evenly lit?", (_SPOT, _UNEVEN)),
    _Look(
        "black", Picture(PictureKind.FIELD, (0, 0, 0)), "Is it all black, nothing shining through?", (_SPOT, _UNEVEN)
    ),
    _Look("red", Picture(PictureKind.FIELD, (255, 0, 0)), "Is it all red?", (_SPOT, _UNEVEN)),
    _Look("green", Picture(PictureKind.FIELD, (0, 255, 0)), "Is it all green?", (_SPOT, _UNEVEN)),
    _Look("blue", Picture(PictureKind.FIELD, (0, 0, 255)), "Is it all blue?", (_SPOT, _UNEVEN)),
    _Look(
        "grey steps",
        Picture(PictureKind.GREYS),
        "Can you tell all 17 steps apart?",
        (Choice("F", "fewer steps", "Fewer than 17"),),
    ),
    _Look(
        "gradient",
        Picture(PictureKind.GRADIENT),
        "Does it go from black to white without bands?",
        (Choice("B", "banding", "There are bands"),),
    ),
    _Look(
        "lines",
        Picture(PictureKind.LINES),
        "Is it one even grey, without patches?",
        (Choice("P", "patches", "Patches, or it flickers"),),
    ),
    _Look(
        "grid",
        Picture(PictureKind.GRID),
        "Are the circles round, and is the frame whole on all four sides?",
        (Choice("C", "cut off", "Something is cut off"), Choice("O", "out of shape", "Circles are no circles")),
    ),
)


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to look at the picture"),)
    seen: list[tuple[str, str]] = []
    for number, look in enumerate(_LOOKS):
        yield from progress(look.name, number / len(_LOOKS))
        choices = (Choice("G", _GOOD, "Yes"), *look.wrong, Choice("N", _SKIP, "Cannot tell"))
        question = Question("Display", look.text, choices, "Look at the whole screen.", look.picture, at_most_s=_WAIT_S)
        answer = yield from ask(question)
        if answer is None:
            return (_judge(seen, left=True),)
        seen.append((look.name, answer.word))
    return (_judge(seen, left=False),)


def _judge(seen: list[tuple[str, str]], left: bool) -> CheckResult:
    figures = tuple(Figure(name, words="as it should be" if word == _GOOD else word) for name, word in seen)
    wrong = [f"{word} on {name}" for name, word in seen if word not in (_GOOD, _SKIP)]
    if wrong:
        return CHECK.failed(f"seen: {', '.join(wrong)}", *figures)
    if left or not any(word == _GOOD for _, word in seen):
        return CHECK.unclear("the questions were not all answered", *figures)
    return CHECK.passed("every picture looks as it should", *figures)


CHECK = Check(
    name="picture",
    row=PartKind.DISPLAY,
    about=(
        "Colours, greys, lines and a grid fill the screen one after the other, and you say what you see. Dead pixels"
        " show on plain colours, a tired backlight on white, a cable that loses bits as bands in the gradient."
    ),
    finds="dead pixels, uneven light, banding, a picture that is cut off or out of shape",
    misses="faults that come and go: watch the raster scene for those",
    usual_s=90.0,
    run=_run,
    parts=(PartKind.DISPLAY, PartKind.GRAPHICS),
    needs=(Need.PERSON,),
    kind=FindingKind.PICTURE_WRONG,
    code="G-460",
    worth_min=30.0,
)
