"""A card worked by a process of its own, followed report by report; silent ones are ended."""

import contextlib
import subprocess
import threading
import time
from collections.abc import Callable

import msgspec

from thresher.graphics.order import CardOrder
from thresher.graphics.results import CardReport
from thresher.model.own_program import start_own

SILENT_S = 20.0
"""After so long without a report a card counts as hung: a beat takes a second at most, the first answers ten."""
_STOP_S = 2.0


class CardProcess:
    """Starts the worker when it is made; `take` gives the reports that have come, never waiting."""

    def __init__(self, order: CardOrder, clock: Callable[[], float] = time.monotonic) -> None:
        """Begin to work the card."""
        self._clock = clock
        self._heard = clock()
        self._came: list[CardReport] = []
        self._lock = threading.Lock()
        self._over = False
        self._news = threading.Event()
        self._process = start_own("thresher.graphics.worker", order=msgspec.json.encode(order))
        self._reader = threading.Thread(target=self._listen, name="card reports", daemon=True)
        self._reader.start()

    @property
    def pid(self) -> int:
        """The worker's process."""
        return self._process.pid

    def _listen(self) -> None:
        stdout = self._process.stdout
        assert stdout is not None
        ended = False
        for line in stdout:
            try:
                report = msgspec.json.decode(line, type=CardReport)
            except msgspec.DecodeError:
                continue  # a line that was cut off by its end
            ended = ended or report.ended
            with self._lock:
                self._came.append(report)
                self._heard = self._clock()
            self._news.set()
        last = None if ended else self._how_it_ended()
        with self._lock:
            self._over = True
            if last is not None:
                self._came.append(last)

    def _how_it_ended(self) -> CardReport:
        """Return the last report of a worker that sent none."""
        try:
            code = self._process.wait(_STOP_S)
        except subprocess.TimeoutExpired:
            return CardReport(trouble="its worker sends nothing any more", ended=True, broke_off=True)
        how = f"signal {-code}" if code < 0 else f"code {code}"
        words = f"its worker ended by itself ({how})"
        return CardReport(trouble=words, ended=True, broke_off=True, signal=max(0, -code))

    def take(self) -> list[CardReport]:
        """Return the reports that have come since the last call."""
        with self._lock:
            came, self._came = self._came, []
            return came

    def wait(self, seconds: float) -> None:
        """Wait for the next report, at most so long."""
        self._news.wait(seconds)
        self._news.clear()

    @property
    def silent_s(self) -> float:
        """Seconds since the last report."""
        return self._clock() - self._heard

    @property
    def over(self) -> bool:
        """Whether the worker has ended."""
        return self._over

    def allow(self, share: float) -> None:
        """Let it work this share of its time from now on, 0 to 1."""
        with contextlib.suppress(OSError, ValueError):  # it has ended: its last report says why
            if self._process.stdin is not None:
                self._process.stdin.write(f"{share:.3f}\n".encode())
                self._process.stdin.flush()

    def stop(self) -> None:
        """Ask it to stop; its last report comes when its beat is through."""
        with contextlib.suppress(OSError):
            if self._process.stdin is not None:
                self._process.stdin.close()

    def close(self, seconds: float = _STOP_S) -> bool:
        """Stop it, by force after so many seconds; return whether force was needed.

        A worker that hangs in the kernel is left to end when the kernel lets it.
        """
        self.stop()
        forced = False
        try:
            self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            forced = True
            self._process.kill()
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._process.wait(0.5)
        self._reader.join(0.5)
        if self._process.stdout is not None and not self._reader.is_alive():
            self._process.stdout.close()
        return forced
