"""The person at a simulated machine: sees, hears and moves what a real one would, and answers questions so."""

from collections.abc import Callable

from thresher.model.questions import (
    BRIGHTNESS,
    CHANGED,
    CHATTERED,
    DEVICES,
    DOWNWARDS,
    FIELDS,
    FIELDS_LEFT,
    FINGERS,
    FRAMES,
    NO_DEVICE,
    PICTURE_HIGH,
    PICTURE_WIDE,
    PRESSED,
    SPREAD,
    STUCK,
    UPWARDS,
    Answer,
    Picture,
    PictureKind,
    Question,
    SoundKind,
    Watched,
)
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.fittings import Fittings

_KEYS = 84.0
_FIELDS = 144.0
_DARK_BELOW = 100


class SimulatedPerson:
    """Answers for one machine."""

    def __init__(self, fittings: Fittings) -> None:
        """Sit at a machine."""
        self._fittings = fittings

    def answer(self, question: Question) -> Answer | None:
        """Return the answer to a question, None for one that nobody could answer here."""
        if question.picture is not None:
            return self._look(question, question.picture)
        if question.sound is not None:
            return self._listen(question, question.sound)
        if question.watch is not None:
            return self._try(question.watch, question)
        act = self._acts.get(question.about)
        return Answer(act(self, question)) if act is not None else None

    def _look(self, question: Question, picture: Picture) -> Answer:
        displays = {each.connector: each for each in self._fittings.scenario.displays}
        shown = displays.get(picture.output)
        size = ((PICTURE_WIDE, float(shown.width)), (PICTURE_HIGH, float(shown.height))) if shown is not None else ()
        first = next(iter(displays), "")
        faulty = picture.output in ("", first)
        dead = faulty and self._fittings.has(FaultKind.DEAD_PIXEL)
        if dead and picture.kind is PictureKind.FIELD and any(picture.colour):  # a dead pixel is black
            return Answer("spot", size, picture.output)
        return Answer(question.choices[0].word, size, picture.output)

    def _listen(self, question: Question, sound: SoundKind) -> Answer:
        outputs = self._fittings.sound_devices(inputs=False)
        if question.device >= len(outputs):
            return Answer(NO_DEVICE)
        measured, name = ((DEVICES, float(len(outputs))),), outputs[question.device]
        word = question.choices[0].word
        if question.device == 0:
            lost = {1: SoundKind.LEFT, 2: SoundKind.RIGHT}.get(int(self._fittings.strength(FaultKind.DEAD_SPEAKER)))
            if sound is lost:
                word = "nothing"
            elif sound is SoundKind.SWEEP and self._fittings.has(FaultKind.SPEAKER_RATTLES):
                word = "distorted"
        return Answer(word, measured, name)

    def _try(self, watch: Watched, question: Question) -> Answer:
        word = question.choices[0].word
        if watch is Watched.KEYS:
            chatters = self._fittings.has(FaultKind.KEY_CHATTERS)
            return Answer(word, ((PRESSED, _KEYS), (CHATTERED, float(chatters)), (STUCK, 0.0)), "N" if chatters else "")
        if watch is Watched.CAMERA:
            # this machine's camera shows the same harbour all day, in fifteen frames
            seen = ((DEVICES, 1.0), (FRAMES, 90.0), (CHANGED, 89.0), (BRIGHTNESS, 118.0), (SPREAD, 46.0))
            return Answer(word, seen, "Lookout 720")
        dead = self._fittings.strength(FaultKind.TOUCH_DEAD) if watch is Watched.TOUCH else 0.0
        fields = ((FIELDS, _FIELDS), (FIELDS_LEFT, dead * 9.0), (FINGERS, 2.0))
        buttons = ((PRESSED, 2.0), (CHATTERED, 0.0), (STUCK, 0.0), (UPWARDS, 6.0), (DOWNWARDS, 7.0))
        return Answer(word, (*fields, *buttons), "" if watch is Watched.TOUCH else "left button, right button")

    # ---- what is done by hand

    def _usb(self, question: Question) -> str:
        words = [choice.word for choice in question.choices]
        if "next" in words:
            return "next" if self._fittings.move_stick() else "done"
        return words[0]

    def _card(self, question: Question) -> str:
        word = question.choices[0].word
        self._fittings.put_card(word == "in")
        return word

    def _disc(self, question: Question) -> str:
        self._fittings.disc_in = True
        return question.choices[0].word

    def _light(self, question: Question) -> str:
        dark = self._fittings.brightness < _DARK_BELOW and not self._fittings.has(FaultKind.BACKLIGHT_STUCK)
        wants_dark = "dark" in question.text
        return "yes" if dark == wants_dark else "no"

    def _cable(self, question: Question) -> str:
        return "air" if any(choice.word == "air" for choice in question.choices) else question.choices[0].word

    _acts: dict[str, Callable[["SimulatedPerson", Question], str]] = {  # noqa: RUF012 (a table, never changed)
        "USB ports": _usb,
        "Card reader": _card,
        "Optical drive": _disc,
        "Brightness": _light,
        "Sound loop": _cable,
        "Microphone": lambda _self, _question: "yes",
    }
