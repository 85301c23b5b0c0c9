"""Dense matrix multiplication with known answers, compared bit for bit.

In blocks: the operands hold whole numbers of at most 20 bits (7 in single precision). A product of two has at most
40 bits, and a sum of up to 4096 of them stays below 2**53 (14 bits, 1024 and 2**24), so every partial sum is exact
whatever the order of additions. The answer is the same on every kind of core and can be confirmed by integer
arithmetic, which uses other units of the processor.

In registers: tiles are taken there and back by products with small whole numbers (`kernels/vectors.py`); every
sum is exact, so a tile must come back as it was. What it is at the turning points is known from whole numbers and
compared too, or a multiplier that errs in the same way each time would undo its error.
"""

import numpy as np
import numpy.typing as npt

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Exercise, Plain, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ALL_PLACES, ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.model.sheet import Precision, WorkingSet

LARGEST = {Precision.DOUBLE: 4096, Precision.SINGLE: 1024}
"""Largest size at which products of whole numbers stay exact."""

REGISTER_TILES = 64
_MOST_SETS = 96
_OPERAND_BITS = {Precision.DOUBLE: 20, Precision.SINGLE: 7}
_TYPES: dict[Precision, npt.DTypeLike] = {Precision.DOUBLE: np.float64, Precision.SINGLE: np.float32}
_INTEGER_CONFIRMED_SETS = 4
"""How many sets the confirming core also works out in integers, which is far slower than in floating point."""

REGISTER_MATRICES = 128
_TILE_BITS = {Precision.DOUBLE: 39, Precision.SINGLE: 14}
_SCALAR_BITS = {Precision.DOUBLE: 3, Precision.SINGLE: 2}
"""Three steps grow a number by at most (3 * 2**bits)**3, and the sum must stay below the 53 or 24 exact bits."""


def matrix_bytes(plan: LoadPlan) -> int:
    """Return the bytes of operands and known answers in blocks, for all sets."""
    return 3 * padded(plan.sets * plan.size**2 * np.dtype(_TYPES[plan.precision]).itemsize)


def block_operations(plan: LoadPlan) -> int:
    """Return the floating-point operations of one beat in blocks."""
    return 2 * plan.size**3


class MatrixSets(Plain):
    """Square operands and their products in one stretch of memory that all workers share; one product a beat."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the sets over `memory`, which must hold `matrix_bytes(plan)`."""
        self.plan = plan
        self._type = _TYPES[plan.precision]
        shape = (plan.sets, plan.size, plan.size)
        left, right, known = carve(memory, self._type, shape, shape, shape)
        self._left: list[Array] = list(left)
        self._right: list[Array] = list(right)
        self._known: list[Array] = list(known)
        self._result = aligned((plan.size, plan.size), self._type)

    def left(self, index: int) -> Array:
        """First operand of a set."""
        return self._left[index]

    def right(self, index: int) -> Array:
        """Second operand of a set."""
        return self._right[index]

    def reference(self, index: int) -> Array:
        """Known product of a set."""
        return self._known[index]

    def make(self) -> None:
        """Fill operands from the seed and multiply them in floating point."""
        for index, (left, right) in enumerate(self._drawn()):
            self.left(index)[:], self.right(index)[:] = left, right
            np.matmul(self.left(index), self.right(index), out=self.reference(index))

    def _drawn(self) -> list[tuple[Array, Array]]:
        rng = np.random.default_rng(self.plan.seed)
        bound = 1 << _OPERAND_BITS[self.plan.precision]
        size = (self.plan.size, self.plan.size)
        return [
            (rng.integers(-bound, bound, size=size), rng.integers(-bound, bound, size=size))
            for _ in range(self.plan.sets)
        ]

    def confirm(self) -> list[int]:
        """Work the references out again and return the sets that do not agree bit for bit.

        Operands are drawn again from the seed, products made in floating point for all sets and in integers
        for the first few.
        """
        disputed = []
        for index, (left, right) in enumerate(self._drawn()):
            product = (
                (left @ right).astype(self._type)
                if index < _INTEGER_CONFIRMED_SETS
                else (left.astype(self._type) @ right.astype(self._type))
            )
            pairs = ((left, self.left(index)), (right, self.right(index)), (product, self.reference(index)))
            if not all(np.array_equal(mine, theirs) for mine, theirs in pairs):
                disputed.append(index)
        return disputed

    def compute(self, beat: int) -> bool:
        """Multiply one set and compare."""
        index = beat % self.plan.sets
        np.matmul(self._left[index], self._right[index], out=self._result)
        return same_bits(self._result, self._known[index])

    def found(self) -> Words:
        """Return the newest product."""
        return as_words(self._result)

    def expected(self, beat: int) -> Words:
        """Return the known product."""
        return as_words(self._known[beat % self.plan.sets])


def register_tile_words() -> int:
    """Return the 64-bit words of one tile on this processor."""
    from thresher.loads.kernels.vectors import TILE_VECTORS, vector_bytes

    width: int = vector_bytes()
    return TILE_VECTORS * width // 8


def _item_bytes(plan: LoadPlan) -> int:
    return 8 if plan.precision is Precision.DOUBLE else 4


def register_bytes(plan: LoadPlan) -> int:
    """Return the bytes of tiles and matrices."""
    matrices = REGISTER_MATRICES * 18 * _item_bytes(plan)
    return padded(plan.size * register_tile_words() * 8) + padded(matrices)


def register_operations(plan: LoadPlan) -> int:
    """Return the floating-point operations of one beat in registers: six steps of 27 multiply-adds a lane."""
    lanes = register_tile_words() * 8 // 19 // _item_bytes(plan)
    return plan.size * REGISTER_MATRICES * 6 * 27 * 2 * lanes


class RegisterTiles(Plain):
    """Tiles taken there and back in registers; all of them in one beat."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay tiles and matrices over `memory`, which must hold `register_bytes(plan)`."""
        from thresher.loads.kernels.products import carry_doubles, carry_singles

        self.plan = plan
        self._type = _TYPES[plan.precision]
        single = plan.precision is Precision.SINGLE
        self._carry = carry_singles if single else carry_doubles
        self._lanes = register_tile_words() * 8 // 19 // _item_bytes(plan)
        tiles_bytes = padded(plan.size * register_tile_words() * 8)
        (self.tiles,) = carve(memory[:tiles_bytes], self._type, (plan.size, 19, self._lanes))
        (self.matrices,) = carve(memory[tiles_bytes:], self._type, (REGISTER_MATRICES, 2, 3, 3))
        self._result = aligned(self.tiles.shape, self._type)

    def make(self) -> None:
        """Fill tiles and matrices from the seed, and note what the tiles are at their turning points."""
        blocks, matrices = self._drawn()
        self.matrices[:, 0], self.matrices[:, 1] = matrices, -matrices
        self.tiles[:, :18] = blocks
        self.tiles[:, 18], _ = self._turning_points(blocks, matrices)

    def _drawn(self) -> tuple[Array, Array]:
        rng = np.random.default_rng(self.plan.seed)

        def numbers(bits: int, shape: tuple[int, ...]) -> Array:
            return np.asarray(rng.integers(1 << bits - 1, 1 << bits, shape) * rng.choice((-1, 1), shape))

        return (
            numbers(_TILE_BITS[self.plan.precision], (self.plan.size, 18, self._lanes)),
            numbers(_SCALAR_BITS[self.plan.precision], (REGISTER_MATRICES, 3, 3)),
        )

    def _turning_points(self, blocks: Array, matrices: Array) -> tuple[Array, int]:
        """Return the sums of Y at its turning points, worked out in 64-bit integers, and the longest number met."""
        x, y = blocks.reshape(-1, 2, 3, 3, self._lanes).swapaxes(0, 1)  # block, tile, column, row, lane
        bits: npt.DTypeLike = np.uint64 if self.plan.precision is Precision.DOUBLE else np.uint32
        sums, longest = np.zeros((len(blocks), self._lanes), bits), 0
        for matrix in matrices:
            ahead = y + np.einsum("rm,tcml->tcrl", matrix, x)
            back = x + np.einsum("rm,tcml->tcrl", matrix, ahead)
            turning = ahead + np.einsum("rm,tcml->tcrl", matrix, back)
            sums ^= np.bitwise_xor.reduce(turning.astype(self._type).view(bits), axis=(1, 2))
            longest = max(longest, *(int(np.abs(each).max()) for each in (ahead, back, turning)))
        return sums.view(self._type), longest

    def confirm(self) -> list[int]:
        """Draw everything again, work the turning points out again, and see that no number was too long to be exact."""
        blocks, matrices = self._drawn()
        sums, longest = self._turning_points(blocks, matrices)
        same = (
            np.array_equal(blocks, self.tiles[:, :18])
            and np.array_equal(matrices, self.matrices[:, 0])
            and np.array_equal(-matrices, self.matrices[:, 1])
            and same_bits(sums, np.ascontiguousarray(self.tiles[:, 18]))
        )
        exact = 1 << (24 if self.plan.precision is Precision.SINGLE else 53)
        return [] if same and longest < exact else [0]

    def compute(self, beat: int) -> bool:
        """Take all tiles there and back; what came back is compared on the way out."""
        del beat  # every beat is the same work on the same tiles
        wrong = self._carry(
            self.tiles.ctypes.data,
            self.plan.size,
            self.matrices.ctypes.data,
            REGISTER_MATRICES,
            self._result.ctypes.data,
        )
        return not wrong

    def found(self) -> Words:
        """Return the tiles as they came back."""
        return as_words(self._result)

    def expected(self, beat: int) -> Words:
        """Return the tiles as they went in."""
        del beat
        return as_words(self.tiles)


def in_registers(plan: LoadPlan) -> bool:
    """Whether a plan runs in registers: compiled and inside the core."""
    return plan.compiled and plan.working_set is WorkingSet.CORE


def _shared_bytes(plan: LoadPlan) -> int:
    largest = LARGEST[plan.precision]
    if plan.size > largest:
        raise ValueError(f"size={plan.size!r}: products of {plan.precision.value} stay exact up to {largest}")
    return register_bytes(plan) if in_registers(plan) else matrix_bytes(plan)


def _make(plan: LoadPlan, memory: memoryview) -> Exercise:
    return RegisterTiles(plan, memory) if in_registers(plan) else MatrixSets(plan, memory)


def _sized(by: Sizing) -> tuple[int, int]:
    """Rows, and sets of matrices."""
    if by.place is WorkingSet.CORE and by.compiled:
        return REGISTER_TILES, 1
    word = 8 if by.precision is Precision.DOUBLE else 4
    if by.place is WorkingSet.CORE:
        size = int((0.75 * by.own / (3 * word)) ** 0.5)
        return min(256, max(96, size // 16 * 16)), 1
    return 384, max(1, min(_MOST_SETS, by.wanted // (3 * word * 384 * 384)))


LOAD = exercise_load(
    "matrix",
    LoadWords(
        "the multiply-add units at their widest, and with them supply and cooling",
        "cores that compute wrongly at full heat, supplies that sag, cooling that does not suffice",
        "cores that fail only at their highest boost, and most of the memory",
    ),
    ALL_PLACES,
    _sized,
    ExerciseForm(_shared_bytes, _make),
    Stress(1.0, 0.05, wide=True),
    Small(32, 2, lambda plan: plan.size**2),
    precisions=(Precision.DOUBLE, Precision.SINGLE),
    kernels=("thresher.loads.kernels.products",),
    vectors=in_registers,
)
