"""The verified load of a drive: a scratch file is written, flushed, read back and compared, over and over.

Every block of the file carries its number, the generation that was written last, and a checksum; its words are random
and differ with both. So a wrong block shows what it is: bits that turned, an older generation (the write was lost), the
data of another place, or nothing of ours. Nothing here opens a file: it comes as `ScratchSource`.
"""

import ctypes
import errno
import math
import queue
import threading
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Protocol

import numpy as np
import numpy.typing as npt

from thresher.model.drive_commands import ScratchSource

Words = npt.NDArray[np.uint64]

MAGIC = 0x5448_5253_4352_4348
_HEADER = 8
"""Words of a block before its body: magic, seed, number, generation, checksum, and three that are 0."""
_ALL_ONES = 0xFFFF_FFFF_FFFF_FFFF
BLOCK = 256 << 10
_STALL_S, _FLUSH_STALL_S = 1.0, 10.0
"""From when on a request counts as held up; a flush has the drive's whole cache to write."""
_MOST_WRONG = 200
_SPARE_THREADS = 2
"""Threads beyond the depth: they fill and compare blocks while the others wait for the drive."""
_DEPTHS = (1, 4, 8)
_MIXED_SHARE = 4
"""Of the blocks, one in so many is written or read at random in the mixed part of a round."""
_BINS = 240
_SHORTEST_S, _DECADES = 1e-5, 7.0
_WINDOW_S = 10.0


_memcmp = ctypes.CDLL(None).memcmp
"""The C library's: it needs no memory of its own and lets other threads go on, which NumPy's comparison does not."""
_memcmp.argtypes = (ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t)
_memcmp.restype = ctypes.c_int


class Nature(StrEnum):
    """What a wrong block is."""

    FLIPPED = "bits turned over"
    LOST = "an older write: the newer one was lost"
    MISPLACED = "the data of another place"
    ZEROS = "zeros"
    FOREIGN = "nothing that was written here"


@dataclass(frozen=True, slots=True)
class WrongBlock:
    """A block that was not read back as written: its byte in the file, what it is, and how many bits differ."""

    offset: int
    nature: Nature
    bits: int
    words: str


@dataclass(frozen=True, slots=True)
class Failure:
    """A read, write or flush that failed: what, the byte in the file, and the error's number (errno)."""

    what: str
    offset: int
    error: int


@dataclass(frozen=True, slots=True)
class ScratchPlan:
    """How a scratch file is used: `blocks` of `block` bytes, the random words' seed, and the depths of its parts."""

    blocks: int
    block: int = BLOCK
    seed: int = 1
    depths: tuple[int, ...] = _DEPTHS

    @property
    def size(self) -> int:
        """Bytes of the file."""
        return self.blocks * self.block


class Patterns:
    """The contents of all blocks of one file."""

    def __init__(self, plan: ScratchPlan) -> None:
        """Make the random words that all blocks begin from."""
        self._plan = plan
        rng = np.random.default_rng(plan.seed)
        self._base = rng.integers(0, 1 << 64, plan.block // 8, dtype=np.uint64)
        self._body_at = _address(self._base) + _HEADER * 8
        self._sum, self._sums = _sum_tables(self._base[_HEADER:])

    def fill(self, into: Words, number: int, generation: int) -> None:
        """Write what a block of a generation holds."""
        key = _key(number, generation)
        np.bitwise_xor(self._base, np.uint64(key), out=into)
        into[:_HEADER] = self._header(number, generation, key)

    def holds(self, found: Words, number: int, generation: int, work: Words) -> bool:
        """Whether a block is what was written; `work` is a block that may be written over.

        One pass takes the key off again, one compares with the words that all blocks have in common.
        """
        key = _key(number, generation)
        if tuple(found[:_HEADER].tolist()) != self._header(number, generation, key):
            return False
        np.bitwise_xor(found, np.uint64(key), out=work)
        bytes_of_it = work.nbytes - _HEADER * 8
        differ: int = _memcmp(_address(work) + _HEADER * 8, self._body_at, bytes_of_it)
        return differ == 0

    def _header(self, number: int, generation: int, key: int) -> tuple[int, ...]:
        total = self._sum
        for table in self._sums:
            total += table[key & 0xFF]
            key >>= 8
        return (MAGIC, self._plan.seed, number, generation, total & _ALL_ONES, 0, 0, 0)

    def judge(self, found: Words, expected: Words, number: int, generation: int) -> WrongBlock:
        """Return what a block is that differs from what it should hold."""
        offset = number * self._plan.block
        bits = int(np.unpackbits((found ^ expected).view(np.uint8)).sum())
        whole = int(found[0]) == MAGIC and int(found[4]) == int(found[_HEADER:].sum(dtype=np.uint64))
        if whole and int(found[1]) == self._plan.seed:
            other, older = int(found[2]), int(found[3])
            if other == number and older < generation:
                words = f"generation {older} where {generation} was written"
                return WrongBlock(offset, Nature.LOST, bits, words)
            if other != number:
                return WrongBlock(offset, Nature.MISPLACED, bits, f"holds what belongs to byte {other * found.nbytes}")
        if not found.any():
            return WrongBlock(offset, Nature.ZEROS, bits, "the whole block is zero")
        places = np.flatnonzero(found != expected)
        if bits <= 64 * 4:
            first = int(places[0])
            turned = int(found[first]) ^ int(expected[first])
            named = ", ".join(str(bit) for bit in range(64) if turned >> bit & 1)
            return WrongBlock(offset, Nature.FLIPPED, bits, f"word {first}: bit {named} turned over")
        return WrongBlock(offset, Nature.FOREIGN, bits, f"{len(places)} of {len(found)} words differ")


def _address(words: Words) -> int:
    """Return where an array begins; `words.ctypes` would take longer than the comparison of a block."""
    begins: int = words.__array_interface__["data"][0]
    return begins


def _sum_tables(body: Words) -> tuple[int, tuple[tuple[int, ...], ...]]:
    """Return the sum of a block's words, and by how much each byte of a key that is laid over them changes it.

    A bit of the key turns that bit over in all words: it is set in those in which it was not. So nobody has to add up
    the words of a block for its checksum.
    """
    words = len(body)
    ones = [int(np.count_nonzero(body >> np.uint64(bit) & np.uint64(1))) for bit in range(64)]
    change = [(words - 2 * count) << bit for bit, count in enumerate(ones)]
    tables = tuple(
        tuple(sum(change[8 * byte + bit] for bit in range(8) if value >> bit & 1) for value in range(256))
        for byte in range(8)
    )
    return int(body.sum(dtype=np.uint64)), tables


def _key(number: int, generation: int) -> int:
    """Return 64 well-mixed bits of a block's number and generation."""
    value = (number * 0x9E37_79B9_7F4A_7C15 + generation * 0xD1B5_4A32_D192_ED03) & _ALL_ONES
    value = (value ^ value >> 30) * 0xBF58_476D_1CE4_E5B9 & _ALL_ONES
    value = (value ^ value >> 27) * 0x94D0_49BB_1331_11EB & _ALL_ONES
    return value ^ value >> 31


@dataclass(slots=True)
class Latencies:
    """How long operations of one kind took, in bins of a logarithm from 10 microseconds to 100 seconds."""

    bins: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros(_BINS, dtype=np.int64))
    longest_s: float = 0.0
    stalls: int = 0
    stall_s: float = _STALL_S

    def note(self, seconds: float) -> None:
        """Count one."""
        place = int(math.log10(max(seconds, _SHORTEST_S) / _SHORTEST_S) / _DECADES * _BINS)
        self.bins[min(_BINS - 1, place)] += 1
        self.longest_s = max(self.longest_s, seconds)
        self.stalls += seconds >= self.stall_s

    def percentile(self, share: float) -> float:
        """Return the seconds within which so large a share of them was done, to the width of a bin (7 %)."""
        total = int(self.bins.sum())
        if not total:
            return 0.0
        place = int(np.searchsorted(np.cumsum(self.bins), share * total))
        return min(self.longest_s, float(_SHORTEST_S * 10.0 ** ((place + 1) * _DECADES / _BINS)))


@dataclass(frozen=True, slots=True)
class Timing:
    """Latencies of one kind of operation in ms: the middle, 99 of 100, the longest, and how many were held up.

    Held up is what took `stall_s` seconds and longer.
    """

    what: str
    count: int
    middle_ms: float
    most_ms: float
    longest_ms: float
    stalls: int
    stall_s: float = _STALL_S


@dataclass(frozen=True, slots=True)
class ScratchProgress:
    """How far a verified load is. Bytes written and read back; rates in bytes a second over windows of 10 s."""

    written: int
    compared: int
    rounds: int
    seconds: float
    wrong: tuple[WrongBlock, ...] = ()
    wrong_count: int = 0
    failures: tuple[Failure, ...] = ()
    timings: tuple[Timing, ...] = ()
    rate_now: float = 0.0
    rate_best: float = 0.0
    over: str = ""


@dataclass(frozen=True, slots=True)
class _Part:
    """A part of a round: what is done to which blocks, so many at a time, flushed at the end."""

    writes: npt.NDArray[np.bool_]
    blocks: npt.NDArray[np.int64]
    depth: int
    flush: bool


class Scratch:
    """One verified load. `run` does it on threads until `stop`; `advance` does it for a simulated machine's clock."""

    def __init__(self, plan: ScratchPlan, file: ScratchSource, scale: float = 1.0) -> None:
        """Begin with nothing written. A small file may stand for a large one: each byte counts as `scale` of them."""
        self.plan = plan
        self._scale = scale
        self._file = file
        self._patterns = Patterns(plan)
        self._generation = np.zeros(plan.blocks, dtype=np.int64)
        self._rng = np.random.default_rng(plan.seed + 1)
        self._lock = threading.Lock()
        self._stopped = threading.Event()
        self._local = threading.local()
        self._latencies = {
            "write": Latencies(),
            "read": Latencies(),
            "flush": Latencies(stall_s=_FLUSH_STALL_S),
        }
        self._written = self._compared = self._rounds = 0
        self._wrong: list[WrongBlock] = []
        self._wrong_count = 0
        self._failures: list[Failure] = []
        self._over = ""
        self._began = file.clock()
        self._window_at, self._window_bytes = self._began, 0
        self._rate_now = self._rate_best = 0.0
        self._steps: Iterator[None] | None = None
        self._turns = _turns(1)

    # ---- what is done

    def _parts(self) -> Iterator[_Part]:
        """Yield the parts of all rounds: write all, read all, then writes and reads mixed at several depths."""
        everything = np.arange(self.plan.blocks)
        deep = self.plan.depths[-1]
        while not self._stopped.is_set():
            yield _Part(np.ones(self.plan.blocks, dtype=np.bool_), everything, deep, flush=True)
            yield _Part(np.zeros(self.plan.blocks, dtype=np.bool_), everything, deep, flush=False)
            for depth in self.plan.depths:
                some = self._rng.permutation(self.plan.blocks)[: max(1, self.plan.blocks // _MIXED_SHARE)]
                yield _Part(self._rng.random(len(some)) < 0.5, some, depth, flush=True)
            self._rounds += 1

    def run(self) -> None:
        """Work until stopped, or until nothing more can be done."""
        for part in self._parts():
            work = iter(zip(part.writes.tolist(), part.blocks.tolist(), strict=True))
            self._turns = _turns(part.depth)
            threads = [
                threading.Thread(target=self._work, args=(work,), daemon=True)
                for _ in range(part.depth + _SPARE_THREADS)
            ]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            if part.flush and not self._stopped.is_set():
                self._flush()

    def _work(self, work: Iterator[tuple[bool, int]]) -> None:
        while not self._stopped.is_set():
            with self._lock:
                taken = next(work, None)
            if taken is None:
                return
            self._do(*taken)

    def advance(self, until: float) -> None:
        """Work on this thread until the file's clock reaches `until`."""
        if self._steps is None:
            self._steps = self._one_by_one()
        while self._file.clock() < until and next(self._steps, self) is not self:
            continue

    def _one_by_one(self) -> Iterator[None]:
        for part in self._parts():
            for writes, number in zip(part.writes.tolist(), part.blocks.tolist(), strict=True):
                self._do(writes, number)
                yield
            if part.flush and not self._stopped.is_set():
                self._flush()
                yield

    def stop(self) -> None:
        """Begin no further operation."""
        self._stopped.set()

    # ---- one operation

    def _buffers(self) -> tuple[Words, Words]:
        """Return this thread's block to write or compare with, and its block to read into, aligned to pages."""
        if not hasattr(self._local, "buffers"):
            self._local.buffers = (_aligned(self.plan.block), _aligned(self.plan.block))
        buffers: tuple[Words, Words] = self._local.buffers
        return buffers

    def _do(self, writes: bool, number: int) -> None:
        expected, found = self._buffers()
        offset = number * self.plan.block
        generation = int(self._generation[number])
        if writes:
            self._patterns.fill(expected, number, generation + 1)
            if self._timed("write", offset, lambda: self._file.write_at(offset, expected)):
                self._generation[number] = generation + 1
                self._file.rest(expected.nbytes)
                self._count(expected.nbytes, 0)
            return
        if not generation:
            return
        found[:_HEADER] = 0
        if not self._timed("read", offset, lambda: self._read(offset, found)):
            return
        self._file.rest(found.nbytes)
        self._count(0, found.nbytes)
        if not self._patterns.holds(found, number, generation, expected):
            self._patterns.fill(expected, number, generation)
            self._note_wrong(self._patterns.judge(found, expected, number, generation))

    def _read(self, offset: int, found: Words) -> None:
        if self._file.read_at(offset, found) != found.nbytes:
            raise OSError(errno.EIO, "short read")

    def _flush(self) -> None:
        self._timed("flush", 0, self._file.flush)

    def _timed(self, what: str, offset: int, do: "Operation") -> bool:
        self._turns.get()
        try:
            begun = self._file.clock()
            do()
            seconds = self._file.clock() - begun
        except OSError as error:
            self._failed(Failure(what, offset, error.errno or 0))
            return False
        finally:
            self._turns.put(None)
        with self._lock:
            self._latencies[what].note(seconds)
        return True

    def _failed(self, failure: Failure) -> None:
        with self._lock:
            if len(self._failures) < _MOST_WRONG:
                self._failures.append(failure)
            if failure.error in _ENDS:
                self._over = _ENDS[failure.error]
                self._stopped.set()
            elif len(self._failures) >= _MOST_WRONG:
                self._over = f"{_MOST_WRONG} operations have failed"
                self._stopped.set()

    def _note_wrong(self, wrong: WrongBlock) -> None:
        with self._lock:
            self._wrong_count += 1
            if len(self._wrong) < _MOST_WRONG:
                self._wrong.append(wrong)

    def _count(self, written: int, compared: int) -> None:
        with self._lock:
            self._written += written
            self._compared += compared
            self._window_bytes += written + compared
            now = self._file.clock()
            if now - self._window_at >= _WINDOW_S:
                self._rate_now = self._window_bytes / (now - self._window_at)
                self._rate_best = max(self._rate_best, self._rate_now)
                self._window_at, self._window_bytes = now, 0

    def progress(self) -> ScratchProgress:
        """Return how far it is."""
        with self._lock:
            seconds = self._file.clock() - self._began
            rate = self._rate_now or (self._written + self._compared) / max(seconds, 1e-3)
            return ScratchProgress(
                int(self._written * self._scale),
                int(self._compared * self._scale),
                self._rounds,
                seconds,
                tuple(self._wrong),
                self._wrong_count,
                tuple(self._failures),
                tuple(_timing(what, each) for what, each in self._latencies.items() if each.bins.any()),
                rate * self._scale,
                max(self._rate_best, rate) * self._scale,
                self._over,
            )


class Operation(Protocol):
    """Something that is timed. Raises OSError."""

    def __call__(self) -> None:
        """Do it."""
        ...


_ENDS = {
    errno.ENOSPC: "the file system is full",
    errno.EDQUOT: "the quota is used up",
    errno.EROFS: "the file system has gone to read-only",
    errno.ENODEV: "the drive has gone",
    errno.ENXIO: "the drive has gone",
    errno.ESHUTDOWN: "the file system has shut itself down",
}
"""Errors after which nothing more can be done, in words."""


def _turns(depth: int) -> "queue.SimpleQueue[None]":
    """Return a queue from which a thread takes a turn for each request: a semaphore that costs next to nothing."""
    found: queue.SimpleQueue[None] = queue.SimpleQueue()
    for _ in range(depth):
        found.put(None)
    return found


def _aligned(size: int) -> Words:
    """Return zeros that begin on a page, as the kernel wants it of unbuffered requests."""
    raw = np.zeros(size + 4096, np.uint8)
    start = -raw.ctypes.data % 4096
    found: Words = raw[start : start + size].view(np.uint64)
    return found


def _timing(what: str, found: Latencies) -> Timing:
    return Timing(
        what,
        int(found.bins.sum()),
        round(found.percentile(0.5) * 1000, 3),
        round(found.percentile(0.99) * 1000, 3),
        round(found.longest_s * 1000, 3),
        found.stalls,
        found.stall_s,
    )


_PLURAL = {"write": "writes", "read": "reads", "flush": "flushes"}


def timing_words(timings: Iterable[Timing]) -> str:
    """Return latencies in one line."""
    return "; ".join(
        f"{_PLURAL[each.what]} {each.middle_ms:.3g} ms, 99 % within {each.most_ms:.3g} ms" for each in timings
    )
