"""Out and in again: tones played on an output and recorded at once, measured by level, frequency and distortion."""

from thresher.checks.check import Check, CheckBench, CheckSteps, ask, having, progress
from thresher.media.tones import LOOP_TONES
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import NO_DEVICE, Answer, Choice, Question, SoundKind

LEVEL, HZ, DISTORTION, WORST, NOISE = "level", "frequency", "distortion", "worst distortion", "noise"
"""What is measured of each tone, behind its name ("left level" in dBFS), and the noise before them."""

_LEAST_OVER_DB = 15.0
_MOST_OFF = 0.005
_MOST_DISTORTION = {"cable": 3.0, "air": 30.0}
_SOURCE = "judgement: a board's own sound has under 0.1 % by cable, small speakers some percent in the air"
_UNEVEN_DB = 12.0
_LEAK_DB = 50.0
_WAIT_S = 120.0

_HOW = Question(
    "Sound loop",
    "How does the sound get from the output to the input?",
    (
        Choice("C", "cable", "By a cable"),
        Choice("A", "air", "Through the air: speaker to microphone"),
        Choice("X", "none", "Not at all here"),
    ),
    "A cable with two 3.5 mm plugs measures the sockets as well. Set volume and input level to half.",
    at_most_s=_WAIT_S,
)
_PLAY = Question(
    "Sound loop", "Tones are played and recorded", (), "Be quiet until the tones end.", sound=SoundKind.LOOP
)


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to connect output and input"),)
    yield from progress("connecting", 0.0)
    how = yield from ask(_HOW)
    if how is None or how.word == "none":
        return (CHECK.unclear("output and input were not connected"),)
    yield from progress("tones", 0.3)
    answer = yield from ask(_PLAY)
    if answer is None:
        return (CHECK.unclear("the recording was left unanswered"),)
    if answer.word == NO_DEVICE:
        return (CHECK.unclear(answer.details or "a sound output and a sound input are needed"),)
    return (_judge(answer, by_air=how.word == "air"),)


def _judge(answer: Answer, by_air: bool) -> CheckResult:
    measured, place = dict(answer.measured), answer.details
    loudest = max(measured.get(f"{tone.name} {LEVEL}", 0.0) for tone in LOOP_TONES)
    # where nothing hums at all, what one tone leaks is no other tone
    noise = max(measured.get(NOISE, 0.0), loudest - _LEAK_DB)
    most = _MOST_DISTORTION["air" if by_air else "cable"]
    figures: list[Figure] = [Figure("noise", noise, "dBFS")]
    lost, bad, torn = [], [], []
    levels = {}
    for tone in LOOP_TONES:
        level, hz, distortion = (measured.get(f"{tone.name} {what}", 0.0) for what in (LEVEL, HZ, DISTORTION))
        over = Figure(f"{tone.name} tone over noise", level - noise, "dB", _LEAST_OVER_DB, None, _SOURCE)
        figures.append(over)
        if not over.within:
            lost.append(tone.name)
            continue
        levels[tone.name] = level
        off = 100.0 * abs(hz - tone.hz) / tone.hz
        rest = [
            Figure(f"{tone.name} tone off its frequency", off, "%", None, 100.0 * _MOST_OFF, "the clock of the codec"),
            Figure(f"{tone.name} tone distortion and noise", distortion, "%", None, most, _SOURCE),
        ]
        figures += rest
        bad += [each.text for each in rest if not each.within]
        worst = measured.get(f"{tone.name} {WORST}", distortion)
        if distortion <= most < worst:
            figures.append(Figure(f"{tone.name} tone at its worst", worst, "%", None, most, _SOURCE))
            torn.append(tone.name)
    if len(lost) == len(LOOP_TONES):
        # a plug in the wrong socket gives the same picture as a dead output
        return CHECK.unclear("no tone comes through: check plugs, volume and mute", *figures, place=place)
    if lost:
        return CHECK.failed(f"missing in the recording: {', '.join(lost)} tone", *figures, place=place)
    uneven = abs(levels["left"] - levels["right"])
    if uneven > _UNEVEN_DB and not by_air:
        bad.append(f"left and right differ by {uneven:.0f} dB")
    if bad:
        return CHECK.failed(", ".join(bad), *figures, place=place)
    if torn:
        # a busy computer and a loose plug both cause dropouts: the recording looks the same
        return CHECK.unclear(
            f"dropouts in the {' and '.join(torn)} tone: run it again with nothing else running;"
            " if they stay, check plug and socket",
            *figures,
            place=place,
        )
    return CHECK.passed("every tone comes back at its level and frequency", *figures, place=place)


CHECK = Check(
    name="sound loop",
    row=PartKind.SOUND,
    about=(
        "Tones go out of the sound output and are recorded at the input at once, by a cable or through the air. Each"
        " side must come back at its frequency, well over the noise and without distortion. So a bad socket or"
        " amplifier shows without anybody's ear."
    ),
    finds="a lost side, noise, hum, distortion, a clock that runs wrong",
    misses="which of output, cable and input it is: swap one at a time",
    usual_s=15.0,
    run=_run,
    parts=(PartKind.SOUND, PartKind.BOARD),
    needs=(Need.PERSON, Need.LOOP),
    kind=FindingKind.SOUND_WRONG,
    code="U-130",
    worth_min=30.0,
    there=having(PartKind.SOUND),
)
