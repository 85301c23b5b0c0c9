"""Work that may take its time, such as reading a file on a dying drive, done beside the window's thread."""

import logging
import threading
import traceback
from collections.abc import Callable
from typing import TypeVar

from PyQt6.QtCore import QObject, pyqtSignal

from thresher.model.errors import BugError, ThresherError

T = TypeVar("T")
_log = logging.getLogger(__name__)


class _Courier(QObject):
    """Brings what came of a piece of work to the window's thread, and goes."""

    came = pyqtSignal(object)

    def __init__(self, parent: QObject, deliver: Callable[[object], None]) -> None:
        super().__init__(parent)
        self._deliver = deliver
        self.came.connect(self._bring)

    def _bring(self, outcome: object) -> None:
        self.deleteLater()
        self._deliver(outcome)


def in_background(
    parent: QObject, work: Callable[[], T], done: Callable[[T], None], failed: Callable[[ThresherError], None]
) -> None:
    """Do `work` on a thread of its own, then call `done` or `failed` on the window's thread.

    `parent` takes the result along when it goes. A thread that never returns ends with the process.
    """

    def deliver(outcome: object) -> None:
        if isinstance(outcome, ThresherError):
            failed(outcome)
        else:
            done(outcome)  # type: ignore[arg-type]  # the signal carries what `work` returned

    courier = _Courier(parent, deliver)

    def run() -> None:
        outcome: T | ThresherError
        try:
            outcome = work()
        except ThresherError as error:
            outcome = error
        except Exception as error:  # noqa: BLE001 (the thread's boundary: a bug is logged and shown)
            _log.exception("bug in background work")
            outcome = BugError.of(error, traceback.format_exception(error))
        try:
            courier.came.emit(outcome)
        except RuntimeError:
            _log.info("the window was closed before its background work was done")

    threading.Thread(target=run, name="background", daemon=True).start()
