"""What the process that plays and records writes: one JSON object a line, and the answer that follows from them."""

from collections.abc import Sequence

import msgspec

from thresher.media.recording import HeardLoop, HeardVoice
from thresher.model.questions import DEVICES, MEASURED, NO_DEVICE, Answer, Question

WORKER = "thresher.ui.sound_worker"
"""The program: it alone loads Qt's sound, so a driver that hangs or crashes takes nothing with it."""


class Message(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line: the device and how many of them there are, the level now in dBFS, what was measured, or why nothing."""

    device: str = ""
    devices: int = 0
    level_db: float | None = None
    measured: tuple[tuple[str, float], ...] = ()
    reason: str = ""


def worker_arguments(question: Question) -> tuple[str, ...]:
    """Return the module and the arguments that play or record the sound of a question."""
    assert question.sound is not None
    return WORKER, question.sound.value, str(question.device)


def parse_message(line: bytes) -> Message | None:
    """Return the message of a line, None where it is none: libraries of the sound system write there too."""
    try:
        return msgspec.json.decode(line, type=Message)
    except (msgspec.DecodeError, UnicodeDecodeError):
        return None


def of_loop(heard: HeardLoop) -> tuple[tuple[str, float], ...]:
    """Return what a loop measures, by the names that its check reads."""
    found = [("noise", heard.noise_db), ("clipped", heard.clipped)]
    for tone in heard.tones:
        found += [
            (f"{tone.name} level", tone.level_db),
            (f"{tone.name} frequency", tone.hz),
            (f"{tone.name} distortion", tone.distortion_percent),
            (f"{tone.name} worst distortion", tone.worst_percent),
        ]
    return tuple(found)


def of_voice(heard: HeardVoice) -> tuple[tuple[str, float], ...]:
    """Return what a recording of a voice measures, by the names that its check reads."""
    return (("loudest", heard.loud_db), ("quietest", heard.quiet_db), ("clipped", heard.clipped))


def answer_of(messages: Sequence[Message], word: str = MEASURED.word) -> Answer:
    """Return the answer to a question from what the process has written; a reason means that there is no device."""
    reason = next((each.reason for each in messages if each.reason), "")
    if reason:
        return Answer(NO_DEVICE, (), reason)
    device = next((each for each in messages if each.device), Message())
    measured = tuple(pair for each in messages for pair in each.measured)
    return Answer(word, ((DEVICES, float(device.devices)), *measured), device.device)
