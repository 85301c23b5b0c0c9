"""Questions to a person during a run: one at a time, answered by a key."""

from dataclasses import dataclass
from enum import StrEnum


@dataclass(frozen=True, slots=True)
class Choice:
    """One answer that is offered: the key for it, the word that stands for it, and what a person reads."""

    key: str
    word: str
    text: str


class PictureKind(StrEnum):
    """What is shown full-screen while a question about the display is asked."""

    FIELD = "field"
    GREYS = "grey steps"
    GRADIENT = "gradient"
    LINES = "lines"
    GRID = "grid"


@dataclass(frozen=True, slots=True)
class Picture:
    """A picture for a question: its kind, its colour as red, green and blue of 0 to 255, and the display's name."""

    kind: PictureKind
    colour: tuple[int, int, int] = (255, 255, 255)
    output: str = ""


class SoundKind(StrEnum):
    """What is played or recorded while a question about sound is asked."""

    LEFT = "left"
    RIGHT = "right"
    SWEEP = "sweep"
    LOOP = "loop"


@dataclass(frozen=True, slots=True)
class Question:
    """One question: what is asked, what to do for it, the choices, and how long an answer is waited for in seconds.

    `about` names the check. A `picture` takes the whole screen that is tested, a `sound` is played meanwhile. `keys`
    asks for keys to be pressed: the answer is made of what came.
    """

    about: str
    text: str
    choices: tuple[Choice, ...]
    hint: str = ""
    picture: Picture | None = None
    sound: SoundKind | None = None
    keys: bool = False
    at_most_s: float = 120.0


@dataclass(frozen=True, slots=True)
class Answer:
    """What a person answered: the word of the choice, and what was measured meanwhile, by name."""

    word: str
    measured: tuple[tuple[str, float], ...] = ()
    details: str = ""


PRESSED, CHATTERED, STUCK = "pressed", "chattered", "stuck"
"""Names of what is measured while keys are pressed."""

LEFT = Answer("")
"""In place of an answer: whoever was asked does not want to answer."""
