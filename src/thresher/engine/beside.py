"""What may block, done beside the engine one after the other; what came of it is taken by the engine's next tick."""

import logging
import queue
import threading
import time
from collections.abc import Callable
from functools import partial

from thresher.model.findings import Severity

_LOG = logging.getLogger(__name__)

Outcome = Callable[[], None]
"""What the engine does with what came of a piece of work."""


class Beside:
    """Pieces of work of one service, done in their order: on this computer by a thread, else at once."""

    def __init__(self, name: str, note: Callable[[str, str, Severity], None], at_once: bool) -> None:
        """Nothing is to be done yet. `note` tells what failed; `at_once` is for a simulated machine, where nothing
        blocks.
        """
        self._name, self._note, self._at_once = name, note, at_once
        self._work: queue.SimpleQueue[tuple[str, Callable[[], Outcome]]] = queue.SimpleQueue()
        self._came: queue.SimpleQueue[Outcome] = queue.SimpleQueue()
        self._asked = self._taken = 0
        self._thread: threading.Thread | None = None

    @property
    def idle(self) -> bool:
        """Whether everything has been done, and what came of it been taken."""
        return self._asked == self._taken

    def do(self, what: str, work: Callable[[], Outcome]) -> None:
        """Do a piece of work; `what` names it for a person, should it fail."""
        self._asked += 1
        self._work.put((what, work))
        if self._at_once:
            self._do_next()
            self.follow()
        elif self._thread is None:
            self._thread = threading.Thread(target=self._do_all, name=self._name, daemon=True)
            self._thread.start()

    def _do_all(self) -> None:
        while True:
            self._do_next()

    def _do_next(self) -> None:
        what, work = self._work.get()
        try:
            outcome = work()
        except Exception as error:  # noqa: BLE001 (the thread's boundary: it is logged and on the tape)
            _LOG.exception("%s: %s", self._name, what)
            outcome = partial(self._note, f"Failed: {what}", str(error), Severity.WARNING)
        self._came.put(outcome)

    def follow(self) -> None:
        """Take what has come; called by the engine."""
        while not self._came.empty():
            outcome = self._came.get()
            self._taken += 1
            outcome()

    def settle(self, wait_s: float) -> None:
        """Wait for what is being done, at most so many seconds, and take it: the engine ends."""
        until = time.monotonic() + wait_s
        while not self.idle:
            left = until - time.monotonic()
            try:
                outcome = self._came.get(timeout=max(0.0, left))
            except queue.Empty:
                _LOG.warning("%s: not done after %.0f s", self._name, wait_s)
                return
            self._taken += 1
            outcome()
