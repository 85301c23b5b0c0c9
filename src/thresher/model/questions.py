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
    VOICE = "voice"
    LOOP = "loop"

    @property
    def recorded(self) -> bool:
        """Whether it is a recording, which is measured and answers the question by itself."""
        return self in (SoundKind.VOICE, SoundKind.LOOP)


class Watched(StrEnum):
    """What is watched while a question is open: its answer is made of that."""

    KEYS = "keys"
    POINTER = "pointer"
    TOUCH = "touch"
    CAMERA = "camera"


@dataclass(frozen=True, slots=True)
class Question:
    """One question: what is asked, what to do for it, the choices, and how long an answer is waited for in seconds.

    `about` names the check. A `picture` takes the whole screen that is tested. A `sound` is played meanwhile, or
    recorded: then the measurement is the answer. `watch` says what a person is asked to press, move or look at.
    `device` is the number of the output, input or camera, from 0.
    """

    about: str
    text: str
    choices: tuple[Choice, ...]
    hint: str = ""
    picture: Picture | None = None
    sound: SoundKind | None = None
    watch: Watched | None = None
    device: int = 0
    at_most_s: float = 120.0


@dataclass(frozen=True, slots=True)
class Answer:
    """What a person answered: the word of the choice, and what was measured meanwhile, by name."""

    word: str
    measured: tuple[tuple[str, float], ...] = ()
    details: str = ""


PRESSED, CHATTERED, STUCK = "pressed", "chattered", "stuck"
"""Names of what is measured while keys or buttons are pressed."""

FIELDS, FIELDS_LEFT, UPWARDS, DOWNWARDS, FINGERS = "fields", "fields left", "wheel up", "wheel down", "fingers"
"""Names of what is measured while a pointer or fingers pass over the fields of the screen."""

PICTURE_WIDE, PICTURE_HIGH, SHOWN_ELSEWHERE = "picture wide", "picture high", "shown elsewhere"
"""Names of what is measured with a picture: its size in pixels, and 1 when the wanted screen was not to be found."""

FRAMES, CHANGED, BRIGHTNESS, SPREAD = "frames", "changed frames", "brightness", "spread"
"""Names of what is measured of a camera: frames in all, those unlike the one before, mean and spread of 0 to 255."""

DEVICES = "devices"
"""How many devices of the kind there are: sound outputs, inputs or cameras."""

MEASURED = Answer("measured")
"""The answer to a question that is answered by a measurement."""
NO_DEVICE = "no device"
"""The word of an answer when there is no such device; its details say why where that is known."""

LEFT = Answer("")
"""In place of an answer: whoever was asked does not want to answer."""


def open_words(question: Question) -> tuple[str, ...]:
    """Return the words that answer a question."""
    offered = tuple(choice.word for choice in question.choices)
    measures = question.sound is not None or question.watch is Watched.CAMERA
    return (*offered, MEASURED.word, NO_DEVICE) if measures else offered
