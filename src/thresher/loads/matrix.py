"""Dense matrix multiplication with known answers, compared bit for bit.

The operands hold whole numbers of at most 20 bits. A product of two has at most 40 bits, and a sum of up
to 4096 of them stays below 2**53, so every partial sum is exact in double precision whatever the order of
additions. The answer is therefore the same on every kind of core and can be confirmed by integer
arithmetic, which uses other units of the processor.
"""

import ctypes
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from thresher.model.sheet import WorkingSet

Matrix = npt.NDArray[np.float64]

_OPERAND_BITS = 20
_LARGEST_SIZE = 4096
_WORD = 8
_INTEGER_CONFIRMED_SETS = 4
"""How many sets the confirming core also works out in integers, which is far slower than in floating point."""

_memcmp = ctypes.CDLL(None).memcmp
_memcmp.argtypes = (ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t)
_memcmp.restype = ctypes.c_int


@dataclass(frozen=True, slots=True)
class MatrixPlan:
    """Size of the square matrices and how many sets of operands are walked through."""

    size: int
    sets: int
    seed: int = 0x7E5

    def __post_init__(self) -> None:
        """Check that products stay exact."""
        if not 1 <= self.size <= _LARGEST_SIZE or self.sets < 1:
            raise ValueError(f"size={self.size!r} must be 1 to {_LARGEST_SIZE} and sets={self.sets!r} at least 1")

    @property
    def words(self) -> int:
        """64-bit words of one result."""
        return self.size * self.size

    @property
    def bytes(self) -> int:
        """Bytes of all operands and references."""
        return 3 * self.sets * self.words * _WORD

    @property
    def operations(self) -> int:
        """Floating-point operations of one beat."""
        return 2 * self.size**3


def plan_matrix(working_set: WorkingSet, core_cache: int | None, shared_cache: int | None, free: int) -> MatrixPlan:
    """Choose size and sets so that the data live where asked.

    Cache sizes are bytes of the core's own largest cache and of the shared one, None where the kernel does
    not tell (then 1 MiB and 16 MiB are taken); `free` is the memory that may be used at most, in bytes.
    """
    own, shared = core_cache or 1 << 20, shared_cache or 16 << 20
    if working_set is WorkingSet.CORE:
        size = int((0.75 * own / (3 * _WORD)) ** 0.5)
        return MatrixPlan(min(256, max(96, size // 16 * 16)), 1)
    plan = MatrixPlan(384, 1)
    wanted = shared // 2 if working_set is WorkingSet.SHARED_CACHE else max(4 * shared, 128 << 20)
    sets = min(wanted, free) // plan.bytes
    return MatrixPlan(plan.size, max(1, min(96, sets)))


class MatrixSets:
    """Operands and reference products laid out in one stretch of memory that all workers share."""

    def __init__(self, plan: MatrixPlan, memory: memoryview) -> None:
        """Lay the sets over `memory`, which must hold `plan.bytes`."""
        self.plan = plan
        flat: Matrix = np.frombuffer(memory, dtype=np.float64, count=plan.bytes // _WORD)
        shaped = flat.reshape(3, plan.sets, plan.size, plan.size)
        self._left: list[Matrix] = list(shaped[0])
        self._right: list[Matrix] = list(shaped[1])
        self._reference: list[Matrix] = list(shaped[2])

    def left(self, index: int) -> Matrix:
        """First operand of a set."""
        return self._left[index]

    def right(self, index: int) -> Matrix:
        """Second operand of a set."""
        return self._right[index]

    def reference(self, index: int) -> Matrix:
        """Known product of a set."""
        return self._reference[index]

    def make(self) -> None:
        """Fill operands from the seed and multiply them in floating point."""
        rng = np.random.default_rng(self.plan.seed)
        bound = 1 << _OPERAND_BITS
        for index in range(self.plan.sets):
            for operand in (self.left(index), self.right(index)):
                operand[:] = rng.integers(-bound, bound, size=operand.shape)
            np.matmul(self.left(index), self.right(index), out=self.reference(index))

    def confirm(self) -> list[int]:
        """Work the references out again and return the sets that do not agree bit for bit.

        Operands are drawn again from the seed, products taken in floating point for all sets and in integers
        for the first few.
        """
        rng = np.random.default_rng(self.plan.seed)
        bound = 1 << _OPERAND_BITS
        disputed = []
        for index in range(self.plan.sets):
            left, right = (rng.integers(-bound, bound, size=(self.plan.size, self.plan.size)) for _ in range(2))
            product = (left @ right).astype(np.float64) if index < _INTEGER_CONFIRMED_SETS else (
                left.astype(np.float64) @ right.astype(np.float64)
            )  # fmt: skip
            pairs = ((left, self.left(index)), (right, self.right(index)), (product, self.reference(index)))
            if not all(np.array_equal(mine, theirs) for mine, theirs in pairs):
                disputed.append(index)
        return disputed


def same_bits(found: Matrix, expected: Matrix) -> bool:
    """Compare two contiguous matrices of one shape bit for bit."""
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


def wrong_words(found: Matrix, expected: Matrix, most: int = 4) -> tuple[int, tuple[WrongWord, ...]]:
    """Return how many words differ, and the first few of them."""
    mine, theirs = found.reshape(-1).view(np.uint64), expected.reshape(-1).view(np.uint64)
    places = np.flatnonzero(mine != theirs)
    shown = tuple(WrongWord(int(at), f"{int(theirs[at]):016x}", f"{int(mine[at]):016x}") for at in places[:most])
    return len(places), shown
