"""Questions to a person: one at a time, announced by an event, answered by a command; nothing waits for them."""

from collections.abc import Callable
from dataclasses import dataclass, field

from thresher.model.errors import EnvironmentFault
from thresher.model.questions import LEFT, Answer, Question, open_words
from thresher.protocol.events import EngineEvent, QuestionEvent


@dataclass(slots=True)
class QuestionDesk:
    """The question that is open, if any. `attended` says whether somebody is there to answer."""

    publish: Callable[[EngineEvent], None]
    attended: bool = False
    number: int = 0
    question: Question | None = None
    _answer: Answer | None = field(default=None, init=False)

    @property
    def open(self) -> QuestionEvent | None:
        """The question that is open, None when there is none."""
        return QuestionEvent(self.number, self.question) if self.question is not None else None

    def ask(self, question: Question) -> int:
        """Open a question, and return its number."""
        self.number += 1
        self.question, self._answer = question, None
        self.publish(QuestionEvent(self.number, question))
        return self.number

    def answer(self, number: int, answer: Answer) -> None:
        """Answer the open question, or leave it (`LEFT`).

        Raises EnvironmentFault when it is another by now, or for a word not offered.
        """
        question = self.question
        if question is None or number != self.number:
            raise EnvironmentFault("answering", "this question is not open any more", "Answer the one that is shown.")
        words = open_words(question)
        if answer.word not in words and answer != LEFT:
            raise EnvironmentFault("answering", f"{answer.word!r} is no answer to it", f"Answer {', '.join(words)}.")
        self._answer = answer

    def take(self, number: int) -> Answer | None:
        """Return the answer to a question once it is there, and close the question."""
        if number != self.number or self._answer is None:
            return None
        answer = self._answer
        self.withdraw()
        return answer

    def withdraw(self) -> None:
        """Close the question without an answer."""
        if self.question is not None:
            self.question, self._answer = None, None
            self.publish(QuestionEvent(self.number, None))
