"""Questions of checks asked in the terminal: on a thread of their own, so that the run goes on meanwhile."""

import os
import queue
import select
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from thresher.cli.output import say
from thresher.engine.engine import Engine
from thresher.model.errors import EnvironmentFault
from thresher.model.questions import LEFT, Answer, Question
from thresher.protocol.events import EngineEvent, QuestionEvent

_LOOK_S = 0.2


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
    if question.picture is not None or question.sound is not None or question.watch is not None:
        say("  This needs the window; it is left out here.")
        return LEFT
    if question.hint:
        say(f"  {question.hint}")
    for choice in question.choices:
        say(f"  {choice.key}  {choice.text}")
    while (word := lines.next()) is not None:
        for choice in question.choices:
            if word in (choice.key.lower(), choice.word):
                return Answer(choice.word)
        say(f"  Type one of {', '.join(choice.key for choice in question.choices)}.")
    return LEFT
