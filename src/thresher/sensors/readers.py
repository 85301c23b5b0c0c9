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
    """One reading of many sources in their order: what is to be read, where the reader is, and what has come.

    A reader touches it without a lock, since a tick has hundreds of sources: `late` is set before `done` is looked at,
    and read after `done` was written, so that a source is never both late and done.
    """

    numbers: Sequence[int]
    read: Callable[[int], T]
    at: int = 0
    done: dict[int, T] = field(default_factory=dict)
    complete: threading.Event = field(default_factory=threading.Event)
    late: int | None = None


class Readers(Generic[T]):
    """Reads numbered sources with a deadline. Not thread-safe: one thread asks."""

    def __init__(self, deadline_s: float) -> None:
        """`deadline_s` is how long a tick waits for a source at most, in seconds."""
        self._deadline_s = deadline_s
        self._orders: queue.SimpleQueue[_Round[T] | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._late: set[int] = set()
        self._returned: dict[int, T] = {}
        self._idle = 0

    @property
    def late(self) -> frozenset[int]:
        """The sources whose read has not returned yet."""
        with self._lock:
            return frozenset(self._late)

    def read(self, numbers: Sequence[int], read: Callable[[int], T]) -> dict[int, T]:
        """Return what the sources gave; a source that is late is missing.

        `read` runs on other threads, never twice at the same time for one source. What a late source gave in the end is
        returned by the next call.
        """
        with self._lock:
            came, self._returned = self._returned, {}
            left = [number for number in numbers if number not in self._late and number not in came]
        found: dict[int, T] = {}
        for _ in range(_MOST_STUCK):
            if not left:
                break
            now = _Round(left, read)
            self._hand_over(now)
            left = self._wait(now)
            found |= now.done
        return came | found

    def _wait(self, now: "_Round[T]") -> list[int]:
        """Wait for a round; return the sources behind one that does not answer, which nobody has begun."""
        while not now.complete.wait(self._deadline_s):
            number = now.numbers[now.at]
            now.late = number
            with self._lock:
                if number not in now.done:
                    self._late.add(number)
                    return list(now.numbers[now.at + 1 :])
                now.late = None  # it has answered just now: slow, but not stuck
        return []

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
            self._carry_out(now)
            with self._lock:
                self._idle += 1
            now.complete.set()

    def _carry_out(self, now: "_Round[T]") -> None:
        for at, number in enumerate(now.numbers):
            now.at = at
            value = now.read(number)
            now.done[number] = value
            if now.late == number:
                with self._lock:
                    if number in self._late:
                        # the round has gone on without it; the value stands for the next call
                        self._late.discard(number)
                        self._returned[number] = value
                        return

    def close(self) -> None:
        """Let every idle reader end; one that is stuck ends with the process."""
        with self._lock:
            idle, self._idle = self._idle, 0
        for _ in range(idle):
            self._orders.put(None)
