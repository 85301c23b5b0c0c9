"""Counters in shared memory that workers write and the engine reads, without a message for every beat."""

import mmap

import numpy as np
import numpy.typing as npt

_BEATS, _MISMATCHES, _HEARTBEAT, _TICKET, _RECHECK, _ROUND_OFF, _CPU_NS = range(7)
_FLAG, _EPOCH, _ALLOWED = range(3)


class StatusTable:
    """Counters in shared memory: what holds for all, and a row a worker that only this worker writes.

    The exceptions are ticket and beat of a recheck, which the engine writes and the worker reads.
    """

    def __init__(self, memory: mmap.mmap, workers: int) -> None:
        """Lay the table over shared memory."""
        flat: npt.NDArray[np.int64] = np.frombuffer(memory, dtype=np.int64, count=8 + workers * 8)
        self._head = flat[:8]
        self._rows = flat[8:].reshape(workers, 8)  # a cache line a worker, so that they do not slow each other
        self._shares = self._head.view(np.float64)
        self._floats = self._rows.view(np.float64)

    @staticmethod
    def size(workers: int) -> int:
        """Return the bytes needed."""
        return 64 + workers * 64

    @property
    def stopping(self) -> bool:
        """Whether all workers are to end."""
        return bool(self._head[_FLAG])

    def stop(self) -> None:
        """Tell all workers to end after the beat they are in."""
        self._head[_FLAG] = 1

    def begin(self, epoch_ns: int) -> None:
        """Set the monotonic time that shapes count from, and allow everything."""
        self._head[_EPOCH] = epoch_ns
        self._shares[_ALLOWED] = 1.0

    @property
    def epoch_ns(self) -> int:
        """The monotonic time that shapes count from."""
        return int(self._head[_EPOCH])

    @property
    def allowed(self) -> float:
        """The share of full work that holding a temperature leaves, 0 to 1."""
        return float(self._shares[_ALLOWED])

    def allow(self, share: float) -> None:
        """Set that share."""
        self._shares[_ALLOWED] = share

    def beat(self, slot: int, now_ns: int) -> None:
        """Count a beat, which is one only when its result was compared."""
        row = self._rows[slot]
        row[_BEATS] += 1
        row[_HEARTBEAT] = now_ns

    def alive(self, slot: int, now_ns: int) -> None:
        """Show that a worker that rests or waits has not stalled."""
        self._rows[slot, _HEARTBEAT] = now_ns

    def mismatch(self, slot: int) -> None:
        """Count a mismatch."""
        self._rows[slot, _MISMATCHES] += 1

    def note_round_off(self, slot: int, distance: float) -> None:
        """Keep the largest round-off."""
        self._floats[slot, _ROUND_OFF] = max(float(self._floats[slot, _ROUND_OFF]), distance)

    def round_off(self, slot: int) -> float:
        """Return the largest round-off of a worker."""
        return float(self._floats[slot, _ROUND_OFF])

    def note_cpu_time(self, slot: int, nanoseconds: int) -> None:
        """Keep the time that a worker has had its core."""
        self._rows[slot, _CPU_NS] = nanoseconds

    def cpu_time_ns(self, slot: int) -> int:
        """Return the time that a worker has had its core."""
        return int(self._rows[slot, _CPU_NS])

    def beats(self, slot: int) -> int:
        """Return the beats of a worker."""
        return int(self._rows[slot, _BEATS])

    def mismatches(self, slot: int) -> int:
        """Return the mismatches of a worker."""
        return int(self._rows[slot, _MISMATCHES])

    def heartbeat_ns(self, slot: int) -> int:
        """Return the monotonic time of a worker's last beat, 0 before the first."""
        return int(self._rows[slot, _HEARTBEAT])

    def ask_recheck(self, slot: int, ticket: int, beat: int) -> None:
        """Ask a worker that runs freely to do a beat of another worker between two of its own."""
        self._rows[slot, _RECHECK] = beat
        self._rows[slot, _TICKET] = ticket  # last, since the worker looks at it first

    def recheck(self, slot: int) -> tuple[int, int]:
        """Return the ticket of the newest request, 0 for none, and its beat."""
        return int(self._rows[slot, _TICKET]), int(self._rows[slot, _RECHECK])
