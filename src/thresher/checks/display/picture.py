"""Full-screen fields, steps and lines that a person judges: dead pixels, uneven light, banding, wrong size."""

import re
from dataclasses import dataclass, replace

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import Inventory, PartKind
from thresher.model.questions import (
    PICTURE_HIGH,
    PICTURE_WIDE,
    SHOWN_ELSEWHERE,
    Answer,
    Choice,
    Picture,
    PictureKind,
    Question,
)

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


@dataclass(frozen=True, slots=True)
class _Display:
    """A display: its connector, its name, and the size in pixels that it is made for, as its own data has them."""

    connector: str = ""
    name: str = "Display"
    native: tuple[int, int] | None = None


def _displays(inventory: Inventory) -> list[_Display]:
    """Return the displays in turn; where none reports itself, the one that shows the window."""
    found = []
    for part in inventory.parts_of(PartKind.DISPLAY):
        size = re.match(r"(\d+)x(\d+) ", part.fact("preferred mode"))
        found.append(_Display(part.place, part.name, (int(size[1]), int(size[2])) if size else None))
    return found or [_Display()]


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to look at the picture"),)
    results = []
    displays = _displays(bench.inventory)
    for number, display in enumerate(displays):
        result = yield from _look_at(display, number / len(displays), 1.0 / len(displays))
        results.append(result)
    return tuple(results)


def _look_at(display: _Display, begun: float, share: float) -> Steps[CheckResult]:
    """Show every picture on one display."""
    seen: list[tuple[str, str]] = []
    last: Answer | None = None
    where = f"{display.name}, {display.connector}" if display.connector else display.name
    for number, look in enumerate(_LOOKS):
        yield from progress(f"{where}: {look.name}", begun + share * number / len(_LOOKS))
        choices = (Choice("G", _GOOD, "Yes"), *look.wrong, Choice("N", _SKIP, "Cannot tell"))
        shown = replace(look.picture, output=display.connector)
        question = Question(where, look.text, choices, "Look at the whole screen.", shown, at_most_s=_WAIT_S)
        answer = yield from ask(question)
        if answer is None:
            return _judge(display, seen, last, left=True)
        if dict(answer.measured).get(SHOWN_ELSEWHERE):
            words = f"the window could not be shown at {display.connector}; the screen here is {answer.details}"
            return CHECK.unclear(words, place=display.connector)
        seen.append((look.name, answer.word))
        last = answer
    return _judge(display, seen, last, left=False)


def _judge(display: _Display, seen: list[tuple[str, str]], last: Answer | None, left: bool) -> CheckResult:
    place = display.connector
    figures = [Figure(name, words="as it should be" if word == _GOOD else word) for name, word in seen]
    wrong = [f"{word} on {name}" for name, word in seen if word not in (_GOOD, _SKIP)]
    measured = dict(last.measured) if last is not None else {}
    size = (round(measured.get(PICTURE_WIDE, 0)), round(measured.get(PICTURE_HIGH, 0)))
    if all(size):
        made = f", the panel is made for {display.native[0]} x {display.native[1]}" if display.native else ""
        figures.append(Figure("size of the picture", words=f"{size[0]} x {size[1]}{made}"))
    if wrong:
        return CHECK.failed(f"seen: {', '.join(wrong)}", *figures, place=place)
    if left or not any(word == _GOOD for _, word in seen):
        return CHECK.unclear("the questions were not all answered", *figures, place=place)
    if all(size) and display.native is not None and size != display.native:
        return CHECK.unclear(
            f"every picture looks right, at {size[0]} x {size[1]}: set it to {display.native[0]} x {display.native[1]}",
            *figures,
            place=place,
        )
    return CHECK.passed("every picture looks as it should", *figures, place=place)


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
