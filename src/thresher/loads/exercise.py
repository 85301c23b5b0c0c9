"""What every load has in common: known answers made once, one beat at a time, compared word by word."""

import ctypes
import math
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt

Words = npt.NDArray[np.uint64]
Array = npt.NDArray[Any]

_memcmp = ctypes.CDLL(None).memcmp
_memcmp.argtypes = (ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t)
_memcmp.restype = ctypes.c_int


class Exercise(Protocol):
    """A load as its worker does it. `beat` numbers choose the operands; the same number does the same work."""

    def make(self) -> None:
        """Fill the shared operands and known answers; one worker does this for all."""
        ...

    def confirm(self) -> list[int]:
        """Work the known answers out again by other means and return the sets that do not agree."""
        ...

    def compute(self, beat: int) -> bool:
        """Do one beat and return whether it came out as known."""
        ...

    def found(self) -> Words:
        """Return the newest result as 64-bit words that may be changed."""
        ...

    def expected(self, beat: int) -> Words:
        """Return the known answer of a beat as 64-bit words."""
        ...

    @property
    def round_off(self) -> float:
        """Largest distance to a whole number in the newest beat, 0 for loads that have none."""
        ...

    @property
    def round_off_margin(self) -> float:
        """Round-off from which on a right result is reported as close to wrong."""
        ...

    def describe(self, word: int) -> str:
        """Say in words what a word of the newest result is, empty where there is nothing to say."""
        ...


class Plain:
    """A load without round-off, whose words are all alike."""

    round_off = 0.0
    round_off_margin = math.inf

    def describe(self, word: int) -> str:
        """One word is like another."""
        del word
        return ""


def carve(memory: memoryview, dtype: npt.DTypeLike, *shapes: tuple[int, ...]) -> list[Array]:
    """Lay arrays of one type one after the other over memory, each beginning on a cache line."""
    itemsize, at, arrays = np.dtype(dtype).itemsize, 0, []
    for shape in shapes:
        count = int(np.prod(shape))
        arrays.append(np.frombuffer(memory, dtype=dtype, count=count, offset=at).reshape(shape))
        at += padded(count * itemsize)
    return arrays


def padded(size: int) -> int:
    """Return a size in bytes rounded up to whole cache lines."""
    return (size + 63) // 64 * 64


def aligned(shape: tuple[int, ...], dtype: npt.DTypeLike) -> Array:
    """Return a new array of zeros that begins on a cache line, as wide vectors want it."""
    count = int(np.prod(shape)) * np.dtype(dtype).itemsize
    raw = np.zeros(count + 64, np.uint8)
    start = -raw.ctypes.data % 64
    found: Array = raw[start : start + count].view(dtype).reshape(shape)
    return found


def as_words(array: Array) -> Words:
    """Return a contiguous array of a whole number of 64-bit words as such, sharing memory."""
    return array.reshape(-1).view(np.uint64)


def same_bits(found: Array, expected: Array) -> bool:
    """Compare two contiguous arrays of one size bit for bit."""
    return not _memcmp(found.ctypes.data, expected.ctypes.data, found.nbytes)


@dataclass(frozen=True, slots=True)
class WrongWord:
    """One word that differs: its place in the result and both bit patterns as 16 hex digits."""

    index: int
    expected: str
    found: str

    @property
    def bits(self) -> tuple[int, ...]:
        """The bits that differ, 0 the lowest."""
        changed = int(self.expected, 16) ^ int(self.found, 16)
        return tuple(bit for bit in range(64) if changed >> bit & 1)


def wrong_words(found: Words, expected: Words, most: int = 4) -> tuple[int, tuple[WrongWord, ...]]:
    """Return how many words differ, and the first few of them."""
    places = np.flatnonzero(found != expected)
    shown = tuple(WrongWord(int(at), f"{int(expected[at]):016x}", f"{int(found[at]):016x}") for at in places[:most])
    return len(places), shown
