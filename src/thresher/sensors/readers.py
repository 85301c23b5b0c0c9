"""Reading sources without waiting for them: a source that does not answer in time is late, and the tick goes on.

One thread reads all sources of a tick in turn. When one of them blocks (sysfs of a sick drive, a vendor library), that
thread stays with it and another one takes over the rest; the late source is left alone until its read has returned.
So a machine without late sources costs one thread, and each source that blocks costs one more.
"""

import queue
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Generic, TypeVar

T = TypeVar("T")

LATE = "late: the source did not answer in time"
"""The reason that stands for a reading that is still on its way."""


DEADLINE_S = 0.15
"""How long a tick waits for a source; one that takes longer is late, and its channels are missing until it answers."""

_MOST_STUCK = 3
"""Sources that a tick waits for one after the other before it gives up on the rest."""


@dataclass(slots=True)
class _Round(Generic[T]):
    """One reading of many sources: what is still to be read, and what has come."""

    left: "queue.SimpleQueue[int]"
    read: Callable[[int], T]
    done: dict[int, T] = field(default_factory=dict)
    complete: threading.Event = field(default_factory=threading.Event)
    wanted: int = 0
    begun_on: int | None = None


class Readers(Generic[T]):
    """Reads numbered sources with a deadline. Not thread-safe: one thread asks."""

    def __init__(self, deadline_s: float) -> None:
        """`deadline_s` is how long a tick waits for its sources at most, in seconds."""
        self._deadline_s = deadline_s
        self._orders: queue.SimpleQueue[_Round[T] | None] = queue.SimpleQueue()
        self._late: set[int] = set()
        self._lock = threading.Lock()
        self._returned: dict[int, T] = {}
        self._idle = 0

    @property
    def late(self) -> frozenset[int]:
        """The sources whose read has not returned yet."""
        with self._lock:
            return frozenset(self._late)

    def read(self, numbers: Sequence[int], read: Callable[[int], T]) -> dict[int, T]:
        """Return what the sources gave; a source that is late or was late until now is missing.

        `read` runs on other threads, never twice at the same time for one source.
        """
        with self._lock:
            ready = [number for number in numbers if number not in self._late and number not in self._returned]
            came = {number: self._returned.pop(number) for number in numbers if number in self._returned}
        left: queue.SimpleQueue[int] = queue.SimpleQueue()
        for number in ready:
            left.put(number)
        now: _Round[T] = _Round(left, read, wanted=len(ready))
        if ready:
            self._hand_over(now)
            self._wait(now)
        with self._lock:
            return came | now.done

    def _wait(self, now: "_Round[T]") -> None:
        """Wait for a round; leave behind what does not answer, and after some of those everything not begun yet."""
        for _ in range(_MOST_STUCK):
            if now.complete.wait(self._deadline_s):
                return
            with self._lock:
                self._leave_behind(now)
                if len(now.done) >= now.wanted:
                    return
            self._hand_over(now)
        with self._lock:
            self._leave_behind(now)
            while not now.left.empty():
                now.left.get_nowait()  # nobody has begun it; the next tick tries again

    def _leave_behind(self, now: "_Round[T]") -> None:
        stuck = now.begun_on
        if stuck is not None and stuck not in now.done:
            self._late.add(stuck)
            now.wanted -= 1
            now.begun_on = None

    def _hand_over(self, now: "_Round[T]") -> None:
        """Give a round to a thread that has nothing to do, or to a new one."""
        with self._lock:
            if self._idle == 0:
                threading.Thread(target=self._work, name="reader", daemon=True).start()
            else:
                self._idle -= 1
        self._orders.put(now)

    def _work(self) -> None:
        while (now := self._orders.get()) is not None:
            while True:
                with self._lock:
                    try:
                        number = now.left.get_nowait()
                    except queue.Empty:
                        break
                    now.begun_on = number
                value = now.read(number)
                with self._lock:
                    if number in self._late:
                        # the round has gone on without it; the value stands for the next one
                        self._late.discard(number)
                        self._returned[number] = value
                        break
                    now.done[number] = value
                    if len(now.done) >= now.wanted:
                        now.complete.set()
            with self._lock:
                self._idle += 1

    def close(self) -> None:
        """Let every idle reader end; one that is stuck ends with the process."""
        with self._lock:
            idle, self._idle = self._idle, 0
        for _ in range(idle):
            self._orders.put(None)
