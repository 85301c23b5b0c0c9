"""Left, right and a sweep on each output; a person says what comes out."""

from dataclasses import dataclass

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, having, progress
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.questions import DEVICES, NO_DEVICE, Answer, Choice, Question, SoundKind

_SKIP = Choice("S", "skip", "Cannot tell")
_NOTHING = Choice("N", "nothing", "Nothing")
_ROUGH = Choice("D", "distorted", "It crackles or rattles")
_BOTH = Choice("B", "both sides", "On both sides")
_WAIT_S = 180.0
_MOST_OUTPUTS = 16


@dataclass(frozen=True, slots=True)
class _Tone:
    """One sound: its name in the result, what is asked, and the answer of a sound output that is in order."""

    name: str
    kind: SoundKind
    text: str
    good: Choice
    wrong: tuple[Choice, ...]


_LEFT, _RIGHT = Choice("L", "left", "On the left"), Choice("R", "right", "On the right")
_TONES = (
    _Tone("left tone", SoundKind.LEFT, "Where do you hear the tone?", _LEFT, (_RIGHT, _BOTH, _NOTHING, _ROUGH)),
    _Tone("right tone", SoundKind.RIGHT, "Where do you hear the tone now?", _RIGHT, (_LEFT, _BOTH, _NOTHING, _ROUGH)),
    _Tone(
        "sweep",
        SoundKind.SWEEP,
        "Does the tone rise evenly from low to high?",
        Choice("Y", "even", "Yes"),
        (Choice("G", "gaps", "It has gaps"), _NOTHING, _ROUGH),
    ),
)


def _run(bench: CheckBench) -> CheckSteps:
    if not bench.attended:
        return (CHECK.nobody("to listen"),)
    results: list[CheckResult] = []
    for number in range(_MOST_OUTPUTS):
        first, result = yield from _listen(number)
        if first is not None and first.word == NO_DEVICE:
            missing = first.details or "this machine has no sound output"
            return tuple(results) or (CHECK.unclear(missing),)
        results.append(result)
        if first is None or number + 1 >= dict(first.measured).get(DEVICES, 1):
            break
    return tuple(results)


def _listen(number: int) -> Steps[tuple[Answer | None, CheckResult]]:
    """Play all tones on one output; return the first answer and the result."""
    seen: list[tuple[_Tone, str]] = []
    first: Answer | None = None
    for step, tone in enumerate(_TONES):
        yield from progress(f"output {number + 1}, {tone.name}", step / len(_TONES))
        hint = "Turn the volume up first. For headphones, put them on the right way round."
        question = Question(
            f"Sound output {number + 1}",
            tone.text,
            (tone.good, *tone.wrong, _SKIP),
            hint,
            sound=tone.kind,
            device=number,
            at_most_s=_WAIT_S,
        )
        answer = yield from ask(question)
        first = answer if step == 0 else first
        if answer is None or answer.word == NO_DEVICE:
            break
        seen.append((tone, answer.word))
    name = first.details if first is not None and first.details else f"output {number + 1}"
    return first, _judge(seen, name)


def _judge(seen: list[tuple[_Tone, str]], place: str) -> CheckResult:
    figures = tuple(
        Figure(tone.name, words="as it should be" if word == tone.good.word else word) for tone, word in seen
    )
    # one speaker for both sides is how many notebooks and monitors are built
    odd = (_SKIP.word, _BOTH.word)
    wrong = [f"{tone.name}: {word}" for tone, word in seen if word != tone.good.word and word not in odd]
    if wrong:
        return CHECK.failed(f"heard: {', '.join(wrong)}", *figures, place=place)
    if len(seen) < len(_TONES) or any(word == _SKIP.word for _, word in seen):
        return CHECK.unclear("the questions were not all answered", *figures, place=place)
    if any(word == _BOTH.word for _, word in seen):
        return CHECK.unclear("both sides play one tone: it has one speaker, or mono is set", *figures, place=place)
    return CHECK.passed("left, right and the sweep sound as they should", *figures, place=place)


CHECK = Check(
    name="speakers",
    row=PartKind.SOUND,
    about=(
        "A tone on the left, one on the right, then a sweep from low to high, on each sound output, and you say what"
        " you hear. A speaker that rattles does so at some pitch of the sweep; a broken wire or socket loses one side."
    ),
    finds="dead or swapped sides, rattling speakers, outputs that play nothing",
    misses="faint hiss and hum: the sound loop measures those",
    usual_s=45.0,
    run=_run,
    parts=(PartKind.SOUND, PartKind.BOARD),
    needs=(Need.PERSON,),
    kind=FindingKind.SOUND_WRONG,
    code="U-110",
    worth_min=30.0,
    there=having(PartKind.SOUND),
)
