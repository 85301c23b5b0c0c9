"""Which pane a question gets."""

from collections.abc import Callable

from thresher.model.questions import Question, Watched
from thresher.ui.look import Look
from thresher.ui.questions.camera_pane import CameraPane
from thresher.ui.questions.fields_pane import FieldsPane
from thresher.ui.questions.keys_pane import KeysPane
from thresher.ui.questions.pane import Pane
from thresher.ui.questions.sound_pane import SoundPane

_WATCHING: dict[Watched, Callable[[Look, Question], Pane]] = {
    Watched.KEYS: KeysPane,
    Watched.POINTER: FieldsPane,
    Watched.TOUCH: FieldsPane,
    Watched.CAMERA: CameraPane,
}


def pane_for(question: Question, look: Look) -> Pane | None:
    """Return the pane of a question, None where words and a picture are all."""
    if question.sound is not None:
        return SoundPane(look, question)
    return _WATCHING[question.watch](look, question) if question.watch is not None else None
