"""Reading a whole drive, or a part of it, and keeping how long the slowest read of every stretch took.

Nothing here opens anything: reads go through `ReadAt`, so that a drive, a file and a test answer alike. A read that
fails is divided until the bad sector is found. The map is one stroke a stretch, whatever the size of the drive.
"""

import errno
import queue
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

ReadAt = Callable[[int, int], int]
"""Reads so many bytes from an offset and returns how many came. Raises OSError."""

STROKES = 2000
MIB = 1 << 20
_SLOW_MS, _VERY_SLOW_MS = 150.0, 1000.0
_MOST_BAD = 2000
_QUICK_PLACES = 600
_BOOKED_AT_ONCE = 32
_DIVIDED_S = 120.0
"""So long a block that failed is divided to find its bad sectors; then what still fails is noted as a whole."""
_DOUBTFUL_BLOCKS = 48
"""Blocks that fail one after the other until it is asked whether the drive still reads at all: one that was pulled out
may answer every read with EIO, and a large damaged region does the same."""


class ScanForm(StrEnum):
    """How much is read."""

    QUICK = "quick"
    THOROUGH = "thorough"
    RANGE = "range"


@dataclass(frozen=True, slots=True)
class ScanPlan:
    """What is read: a span in bytes, in blocks, so many at a time. `sector` is what bad places are narrowed down to.

    A quick scan reads single blocks spread over the span, and `again`: offsets that were bad before.
    """

    size: int
    begin: int = 0
    end: int = 0
    block: int = MIB
    depth: int = 4
    sector: int = 512
    form: ScanForm = ScanForm.THOROUGH
    again: tuple[int, ...] = ()

    def offsets(self) -> Iterator[int]:
        """Yield where blocks begin, in the order in which they are read."""
        end = self.end or self.size
        if self.form is not ScanForm.QUICK:
            yield from range(self.begin, end, self.block)
            return
        blocks = max(1, -(-(end - self.begin) // self.block))
        step = max(1, blocks // _QUICK_PLACES)
        seen = set()
        for place in (*((offset // self.block) for offset in self.again), *range(0, blocks, step), blocks - 1):
            if 0 <= place < blocks and place not in seen:
                seen.add(place)
                yield self.begin + place * self.block

    def blocks(self) -> int:
        """Return how many blocks are read."""
        end = self.end or self.size
        if self.form is ScanForm.QUICK:
            return sum(1 for _ in self.offsets())
        return max(0, -(-(end - self.begin) // self.block))


@dataclass(frozen=True, slots=True)
class BadPlace:
    """Sectors that cannot be read, as bytes on the drive, and the error's number (errno)."""

    offset: int
    length: int
    error: int


@dataclass(slots=True)
class ScanMap:
    """The drive as strokes: the slowest read of each stretch in ms (NaN: not read), its bytes, its errors.

    `errors` counts blocks with sectors that cannot be read, `retries` those that failed and could be read in parts.
    """

    size: int
    slowest_ms: npt.NDArray[np.float32] = field(default_factory=lambda: np.full(STROKES, np.nan, dtype=np.float32))
    read_bytes: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(STROKES, dtype=np.int64))
    busy_s: npt.NDArray[np.float32] = field(default_factory=lambda: np.zeros(STROKES, dtype=np.float32))
    errors: npt.NDArray[np.int32] = field(default_factory=lambda: np.zeros(STROKES, dtype=np.int32))
    retries: npt.NDArray[np.int32] = field(default_factory=lambda: np.zeros(STROKES, dtype=np.int32))

    def stroke_of(self, offset: int) -> int:
        """Return the stroke that a place belongs to."""
        return min(STROKES - 1, offset * STROKES // max(1, self.size))

    def note(
        self, offset: int, length: int, seconds: float, failed: bool, busy_s: float | None = None, retried: bool = False
    ) -> None:
        """Keep one read; `busy_s` is how long the drive was busy with it where that is not what the read took."""
        stroke = self.stroke_of(offset)
        self.slowest_ms[stroke] = np.fmax(self.slowest_ms[stroke], np.float32(seconds * 1000))
        self.read_bytes[stroke] += length
        self.busy_s[stroke] += np.float32(seconds if busy_s is None else busy_s)
        self.errors[stroke] += failed
        self.retries[stroke] += retried

    def rates(self, depth: int) -> npt.NDArray[np.float32]:
        """Return the read rate of each stretch in MB/s, NaN where nothing was read; `depth` reads went on at once."""
        busy = np.where(self.read_bytes > 0, np.maximum(self.busy_s, 1e-6) / max(1, depth), np.nan)
        return np.asarray(self.read_bytes / busy / 1e6, dtype=np.float32)

    @property
    def memory_bytes(self) -> int:
        """Return what the map itself takes."""
        return sum(each.nbytes for each in (self.slowest_ms, self.read_bytes, self.busy_s, self.errors, self.retries))


@dataclass(frozen=True, slots=True)
class ScanProgress:
    """Where a scan is: blocks read of all, bytes, seconds so far, seconds left (None: too early), and bad places.

    `slow` counts blocks that took 150 ms and more, `retried` those that failed at first and were read in parts then.
    """

    done: int
    total: int
    read_bytes: int
    seconds: float
    left_s: float | None
    bad: tuple[BadPlace, ...]
    slow: int
    retried: int = 0
    gone: bool = False

    @property
    def share(self) -> float:
        """How much of it is done, from 0 to 1."""
        return self.done / self.total if self.total else 1.0


@dataclass(frozen=True, slots=True)
class ScanState:
    """Where a scan can be continued: its plan and the first block that was not read yet."""

    plan: ScanPlan
    next_block: int
    bad: tuple[BadPlace, ...] = ()


class _Read(NamedTuple):
    """One block that was read: its number, where it lies, how long it took and kept the drive busy.

    `failed` says that it could not be read at once, `lost` that sectors of it cannot be read at all.
    """

    number: int
    offset: int
    length: int
    seconds: float
    failed: bool
    lost: bool
    busy_s: float


class Scan:
    """One scan on its way: `depth` blocks are read at a time. `stop` ends it after the blocks under way."""

    def __init__(
        self,
        plan: ScanPlan,
        read_at: ReadAt,
        state: ScanState | None = None,
        clock: Callable[[], float] = time.perf_counter,
        after_block: Callable[[int, int], None] = lambda _offset, _length: None,
    ) -> None:
        """Prepare; nothing is read before `start`. With `state` it goes on where another one stopped.

        `clock` gives seconds; a simulated drive has its own, and lets the rest of a long block's time pass in
        `after_block`.
        """
        self.plan = plan
        self._read_at = read_at
        self._clock = clock
        self._after_block = after_block
        self._map = ScanMap(plan.size)
        self._unbooked: deque[_Read] = deque()
        self._total = plan.blocks()
        self._skip = state.next_block if state is not None else 0
        self._bad: list[BadPlace] = list(state.bad) if state is not None else []
        self._done, self._bytes, self._slow, self._retried = self._skip, 0, 0, 0
        self._gone = False
        self._failed_in_row = 0
        self._read_last: int | None = None
        self._lock = threading.Lock()
        self._next = self._numbered()
        self._open: set[int] = set()
        self._stopped = threading.Event()
        self._threads: list[threading.Thread] = []
        self._began = clock()
        self._errors: queue.SimpleQueue[BaseException] = queue.SimpleQueue()

    def _numbered(self) -> Iterator[tuple[int, int]]:
        for number, offset in enumerate(self.plan.offsets()):
            if number >= self._skip:
                yield number, offset

    def start(self) -> None:
        """Begin to read."""
        self._began = self._clock()
        self._threads = [
            threading.Thread(target=self._work, name=f"scan {number}", daemon=True)
            for number in range(max(1, self.plan.depth))
        ]
        for thread in self._threads:
            thread.start()

    def advance(self, until: float) -> bool:
        """Read on this thread until the clock shows `until`; return whether all has been read or nothing more can be.

        For drives whose time passes by what is read: simulated ones.
        """
        while not self._stopped.is_set() and self._clock() < until:
            taken = next(self._next, None)
            if taken is None:
                return True
            self._read_block(*taken)
        return self._stopped.is_set()

    def stop(self) -> None:
        """Read no further blocks."""
        self._stopped.set()

    def join(self, timeout_s: float | None = None) -> bool:
        """Wait for the threads; return whether all have ended. Raises what a thread has failed with."""
        deadline = None if timeout_s is None else time.monotonic() + timeout_s
        for thread in self._threads:
            thread.join(None if deadline is None else max(0.0, deadline - time.monotonic()))
        if not self._errors.empty():
            raise self._errors.get()
        return not any(thread.is_alive() for thread in self._threads)

    def _work(self) -> None:
        try:
            while not self._stopped.is_set():
                with self._lock:
                    taken = next(self._next, None)
                    if taken is None:
                        return
                    self._open.add(taken[0])
                self._read_block(*taken)
        except BaseException as error:  # noqa: BLE001 (handed to whoever joins)
            self._errors.put(error)

    def _read_block(self, number: int, offset: int) -> None:
        length = min(self.plan.block, (self.plan.end or self.plan.size) - offset)
        failed = lost = False
        begun = self._clock()
        try:
            self._read_at(offset, length)
        except OSError as error:
            failed = True
            lost = self._failed(offset, length, error.errno or 0)
        seconds = self._clock() - begun
        self._after_block(offset, length)
        if failed:
            self._failed_in_row += 1
        else:
            self._failed_in_row, self._read_last = 0, offset
        self._unbooked.append(_Read(number, offset, length, seconds, failed, lost, self._clock() - begun))
        if failed or len(self._unbooked) >= _BOOKED_AT_ONCE:
            with self._lock:
                self._book()

    def _failed(self, offset: int, length: int, error: int) -> bool:
        """Find what of a block cannot be read, unless the drive is gone; return whether there is any."""
        if error in _GONE or (self._failed_in_row >= _DOUBTFUL_BLOCKS and not self._reads_elsewhere()):
            self._gone = True
            self._stopped.set()
            return True
        if self._narrow(offset, length, error, self._clock() + _DIVIDED_S):
            return True
        with self._lock:
            self._retried += 1
        return False

    def _reads_elsewhere(self) -> bool:
        """Whether the drive still reads: where it did so last, at its beginning, in its middle or at its end."""
        block, size = self.plan.block, self.plan.size
        spread = (0, size // 2 // block * block, max(0, (size - 1) // block * block))
        for offset in (*((self._read_last,) if self._read_last is not None else ()), *spread):
            try:
                self._read_at(offset, min(block, size - offset))
            except OSError:
                continue
            self._failed_in_row = 0
            return True
        return False

    def _book(self) -> None:
        """Enter what was read since the last time; the caller holds the lock.

        The reading threads leave that to every so many blocks: what they do between two reads keeps the drive waiting.
        """
        while self._unbooked:
            read = self._unbooked.popleft()
            self._open.discard(read.number)
            self._done += 1
            self._bytes += read.length
            self._slow += not read.failed and read.seconds * 1000 >= _SLOW_MS
            retried = read.failed and not read.lost
            self._map.note(read.offset, read.length, read.seconds, read.lost, read.busy_s, retried)

    @property
    def map(self) -> ScanMap:
        """The map by now."""
        with self._lock:
            self._book()
        return self._map

    def _narrow(self, offset: int, length: int, error: int, until: float) -> bool:
        """Divide a block that failed until the sectors are found that cannot be read; return whether there are any.

        What fails after `until` is not divided any more: a drive takes seconds over each sector that it cannot read.
        """
        if self._stopped.is_set():
            return True
        half = length // 2 // self.plan.sector * self.plan.sector
        if length <= self.plan.sector or not half or self._clock() > until:
            self._note_bad(BadPlace(offset, length, error))
            return True
        bad = False
        for begin, size in ((offset, half), (offset + half, length - half)):
            try:
                self._read_at(begin, size)
            except OSError as found:
                bad = self._narrow(begin, size, found.errno or error, until) or bad
        return bad

    def _note_bad(self, place: BadPlace) -> None:
        with self._lock:
            last = self._bad[-1] if self._bad else None
            if last is not None and last.error == place.error and last.offset + last.length == place.offset:
                self._bad[-1] = replace(last, length=last.length + place.length)
            elif len(self._bad) < _MOST_BAD:
                self._bad.append(place)

    def progress(self) -> ScanProgress:
        """Return where it is."""
        with self._lock:
            self._book()
            seconds = self._clock() - self._began
            read = self._done - self._skip
            left = (self._total - self._done) * seconds / read if read > 2 * self.plan.depth else None
            return ScanProgress(
                self._done,
                self._total,
                self._bytes,
                seconds,
                left,
                tuple(self._bad),
                self._slow,
                self._retried,
                self._gone,
            )

    def state(self) -> ScanState:
        """Return where it can be continued: at the first block that nobody has finished."""
        with self._lock:
            self._book()
            return ScanState(self.plan, min(self._open, default=self._done), tuple(self._bad))


_GONE = (errno.ENXIO, errno.ENODEV)
"""ENXIO and ENODEV: the drive is not there any more."""


def strokes_text(map_: ScanMap, width: int) -> str:
    """Return the map in one line of text: a stroke as tall as the slowest read of its stretch, a cross for an error.

    Heights are those of a logarithm from 1 ms to 2 s, so that a place that is slow once stands out.
    """
    line = []
    for part in np.array_split(np.arange(STROKES), max(1, min(width, STROKES))):
        if map_.errors[part].any():
            line.append("×")
            continue
        slowest = map_.slowest_ms[part]
        if np.isnan(slowest).all():
            line.append("·")
            continue
        worst = float(np.nanmax(slowest))
        height = int(np.clip(np.log10(max(worst, 1.0)) / np.log10(2000.0) * 8, 0, 7))
        line.append("▁▂▃▄▅▆▇█"[height])
    return "".join(line)
