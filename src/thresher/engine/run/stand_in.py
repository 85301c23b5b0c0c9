"""What a simulated machine answers by itself: what its own microphone hears, what a person there would say."""

from thresher.media.messages import of_loop, of_voice
from thresher.media.recording import measure_loop, measure_voice
from thresher.media.tones import RATE, loop_sequence
from thresher.model.port import StandIn, System
from thresher.model.questions import DEVICES, MEASURED, NO_DEVICE, Answer, Question, SoundKind


def has_person(system: System) -> bool:
    """Whether a simulated person sits at the machine."""
    return isinstance(system, StandIn) and system.has_person


def stand_in_answer(system: System, question: Question) -> Answer | None:
    """Return what a simulated machine answers by itself, None where somebody here has to."""
    if not isinstance(system, StandIn):
        return None
    if question.sound is not None and question.sound.recorded:
        return _recorded(system, question, question.sound)
    return system.person_answers(question) if system.has_person else None


def _recorded(system: StandIn, question: Question, kind: SoundKind) -> Answer:
    inputs, outputs = system.sound_devices(inputs=True), system.sound_devices(inputs=False)
    loop = kind is SoundKind.LOOP
    if question.device >= len(inputs) or (loop and not outputs):
        return Answer(NO_DEVICE)
    recording = system.record(loop_sequence() if loop else None, RATE)
    measured = of_loop(measure_loop(recording)) if loop else of_voice(measure_voice(recording))
    return Answer(MEASURED.word, ((DEVICES, float(len(inputs))), *measured), inputs[question.device])
