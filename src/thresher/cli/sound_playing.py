"""A sound of a question in the terminal: the process that plays or records it, and what comes of that."""

import subprocess

from thresher.media.messages import Message, answer_of, parse_message, worker_arguments
from thresher.model.own_program import start_own
from thresher.model.questions import MEASURED, Answer, Question

_GONE = Message(reason="the process that plays and records has ended before its time")
_ENDS_S = 0.5


class SoundPlaying:
    """Starts at once."""

    def __init__(self, question: Question) -> None:
        """Play or record the sound of a question."""
        self._question = question
        self._messages: list[Message] = []
        self._process = self._started()

    def _started(self) -> "subprocess.Popen[bytes]":
        return start_own(*worker_arguments(self._question))

    def _read(self, until_device: bool) -> None:
        """Read what it writes, to its end or until it has said which device it has. It may take seconds."""
        assert self._process.stdout is not None
        for line in self._process.stdout:
            message = parse_message(line)
            if message is None or message.level_db is not None:
                continue
            self._messages.append(message)
            if until_device and message.device:
                return
        if not any(each.device or each.reason for each in self._messages):
            self._messages.append(_GONE)

    def begun(self) -> Answer:
        """Return which device plays, or why none does."""
        self._read(until_device=True)
        return self.answer(MEASURED.word)

    def to_the_end(self) -> Answer:
        """Return what was recorded."""
        self._read(until_device=False)
        return self.answer(MEASURED.word)

    def answer(self, word: str) -> Answer:
        """Return an answer with the device."""
        return answer_of(self._messages, word)

    def again(self) -> None:
        """Play it again from the start."""
        self.close()
        self._process = self._started()

    def close(self) -> None:
        """Stop the sound."""
        process = self._process
        if process.stdin is not None:
            process.stdin.close()
        try:
            process.wait(_ENDS_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        if process.stdout is not None:
            process.stdout.close()
