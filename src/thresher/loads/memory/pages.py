"""Memory taken for testing: locked, in huge pages where available, with physical addresses where the kernel gives them.

Kernel documents: admin-guide/mm/pagemap (page frames, given to root only), admin-guide/mm/transhuge, man pages
madvise(2), mlock(2).
"""

import ctypes
import mmap
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from thresher.loads.exercise import Array, Words
from thresher.machine.page_frames import page_frames

PAGE = mmap.PAGESIZE
_MADV_POPULATE_WRITE = 23
_MADV_HUGEPAGE = 14
_PRESENT, _FRAME_BITS = 1 << 63, (1 << 55) - 1
_FILL_STEP = 64 << 20

_libc = ctypes.CDLL(None, use_errno=True)
_libc.madvise.argtypes = (ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int)
_libc.mlock.argtypes = (ctypes.c_void_p, ctypes.c_size_t)


@dataclass(frozen=True, slots=True)
class Taken:
    """What was got: bytes, whether locked in place, whether huge pages were asked for, whether frames are reported."""

    size: int
    locked: bool
    huge: bool
    has_frames: bool


class Region:
    """A stretch of anonymous memory, present to its last page."""

    def __init__(self, size: int, alive: Callable[[], None] = lambda: None, frames: int | None = None) -> None:
        """Take `size` bytes, rounded down to whole pages, calling `alive` on the way. Raises OSError.

        `frames` is the socket by which page frames are got where the kernel gives them to root only.
        """
        size = max(PAGE, size // PAGE * PAGE)
        self._map = mmap.mmap(-1, size, flags=mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS)
        self.words: Words = np.frombuffer(self._map, dtype=np.uint64)
        self.address = int(self.words.ctypes.data)
        huge = _libc.madvise(self.address, size, _MADV_HUGEPAGE) == 0
        for at in range(0, size, _FILL_STEP):
            part = min(_FILL_STEP, size - at)
            alive()
            if _libc.madvise(self.address + at, part, _MADV_POPULATE_WRITE) != 0:
                self.words[at // 8 : (at + part) // 8 : PAGE // 8] = 0  # a kernel before 5.14: touch every page
        table = None if frames is None else page_frames(frames)  # asked for first: with it comes the right to lock
        locked = _libc.mlock(self.address, size) == 0
        try:
            self._frames = _frames(self.address, size, table)
        finally:
            if table is not None:
                os.close(table)
        self.taken = Taken(size, locked, huge, self._frames is not None)

    @property
    def frames(self) -> Array | None:
        """Physical page frame numbers, one a page; None where the kernel does not report them."""
        return self._frames

    def physical(self, word: int) -> int | None:
        """Return the physical address of a word, None where it is not known."""
        if self._frames is None:
            return None
        frame = int(self._frames[word * 8 // PAGE])
        return frame * PAGE + word * 8 % PAGE if frame else None

    def release(self) -> None:
        """Give the memory back."""
        self.words = np.zeros(0, np.uint64)
        self._map.close()


def _frames(address: int, size: int, table: int | None) -> Array | None:
    try:
        if table is not None:
            raw = os.pread(table, size // PAGE * 8, address // PAGE * 8)
        else:
            with Path("/proc/self/pagemap").open("rb", buffering=0) as pagemap:
                raw = os.pread(pagemap.fileno(), size // PAGE * 8, address // PAGE * 8)
    except OSError:
        return None  # the caller says that addresses are not known
    entries = np.frombuffer(raw, np.uint64)
    frames = np.where(entries & np.uint64(_PRESENT), entries & np.uint64(_FRAME_BITS), np.uint64(0))
    return frames if len(frames) == size // PAGE and frames.any() else None


def shuffle_pages() -> bool:
    """Ask the kernel to move pages together, so that others are handed out next; whether it was allowed.

    Kernel document admin-guide/sysctl/vm, compact_memory.
    """
    try:
        Path("/proc/sys/vm/compact_memory").write_text("1")
    except OSError:
        return False
    return True
