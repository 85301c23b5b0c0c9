"""Questions of checks asked in the terminal: on a thread of their own, so that the run goes on meanwhile."""

import os
import queue
import select
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

from thresher.cli.output import say
from thresher.cli.sound_playing import SoundPlaying
from thresher.engine.engine import Engine
from thresher.model.errors import EnvironmentFault
from thresher.model.questions import LEFT, NO_DEVICE, Answer, Question, SoundKind
from thresher.protocol.events import EngineEvent, QuestionEvent

_LOOK_S = 0.2
_AGAIN = "p"


class _Lines:
    """Lines that a person types, read without holding the terminal when there is nothing more to ask."""

    def __init__(self, stop: threading.Event) -> None:
        self._stop, self._typed, self._ended = stop, b"", False

    def next(self) -> str | None:
        """Return the next line, None when there is none any more, or when it is time to stop."""
        source = sys.stdin.fileno()
        while b"\n" not in self._typed and not self._ended:
            if self._stop.is_set():
                return None
            if select.select([source], [], [], _LOOK_S)[0]:
                read = os.read(source, 4096)
                self._typed, self._ended = self._typed + read, not read
        if not self._typed:
            return None
        line, _, self._typed = self._typed.partition(b"\n")
        return line.decode(errors="replace").strip().lower()


@contextmanager
def asked_in_terminal(engine: Engine) -> Iterator[None]:
    """Ask here what only a person can tell, as long as this lasts."""
    questions: queue.SimpleQueue[QuestionEvent | None] = queue.SimpleQueue()
    stop = threading.Event()

    def hear(event: EngineEvent) -> None:
        if isinstance(event, QuestionEvent) and event.question is not None:
            questions.put(event)

    def ask() -> None:
        lines = _Lines(stop)
        while (event := questions.get()) is not None:
            assert event.question is not None
            answer, number = _answer(event.question, lines), event.number
            with suppress(EnvironmentFault):  # it was closed meanwhile, because it took too long
                engine.submit(lambda number=number, answer=answer: engine.questions.answer(number, answer))  # type: ignore[misc]

    engine.questions.attended = True
    engine.subscribe(hear)
    thread = threading.Thread(target=ask, name="questions in the terminal", daemon=True)
    thread.start()
    try:
        yield
    finally:
        engine.questions.attended = False
        stop.set()
        questions.put(None)
        thread.join(2.0)


def _answer(question: Question, lines: _Lines) -> Answer:
    """Ask until one of the words or keys that are offered comes back; what cannot be shown here is left."""
    say(f"\n{question.about}: {question.text}")
    if question.picture is not None or question.watch is not None:
        say("  This needs the window; it is left out here.")
        return LEFT
    if question.hint:
        say(f"  {question.hint}")
    if question.sound is not None:
        return _answer_of_sound(question, question.sound, lines)
    word = _chosen(question, lines)
    return Answer(word) if word else LEFT


def _chosen(question: Question, lines: _Lines, again: Callable[[], None] | None = None) -> str:
    """Return the word of the choice that is typed, empty when nothing more comes."""
    for choice in question.choices:
        say(f"  {choice.key}  {choice.text}")
    if again is not None:
        say(f"  {_AGAIN.upper()}  Play it again")
    while (typed := lines.next()) is not None:
        for choice in question.choices:
            if typed in (choice.key.lower(), choice.word):
                return choice.word
        if again is not None and typed == _AGAIN:
            again()
            continue
        say(f"  Type one of {', '.join(choice.key for choice in question.choices)}.")
    return ""


def _answer_of_sound(question: Question, kind: SoundKind, lines: _Lines) -> Answer:
    """Play or record by the process that has the sound; a recording answers by itself."""
    playing = SoundPlaying(question)
    try:
        if kind.recorded:
            say("  Recording…")
            return playing.to_the_end()
        answer = playing.begun()
        if answer.word == NO_DEVICE:
            return answer
        say(f"  Playing on {answer.details}")
        word = _chosen(question, lines, playing.again)
        return playing.answer(word) if word else LEFT
    finally:
        playing.close()
