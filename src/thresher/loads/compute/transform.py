"""Exact squaring of long numbers modulo 2**(bits * digits) + 1 by floating-point transforms.

A number is kept as digits between -2**(bits-1) and 2**(bits-1); its square is a convolution that turns its sign as it
wraps, which weights by the odd roots of unity make cyclic, two real digits folded into one complex number (Crandall
and Fagin, Discrete weighted transforms and large-integer arithmetic, Mathematics of Computation 62, 1994). What comes
out of the transform is a whole number up to round-off; how far from one is measured each beat.

A series begins with a number from a seed and squares what it got, so that an error stays in all that follows. After
each squaring the digits are compared with those known. The known ones are confirmed without any transform: modulo
2**m + 1, which divides the modulus, by Python's own integers.
"""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import pairwise
from typing import Any

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ALL_PLACES, ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.loads.team.watch import RoundOffWatch
from thresher.model.sheet import WorkingSet

SERIES = 4
"""Squarings in a series."""

_BITS = ((1 << 13, 20), (1 << 17, 19), (1 << 19, 18), (1 << 21, 17))
"""Up to so many digits, so many bits a digit: keeps round-off near a twentieth of what would be wrong."""

_MOST_BY_PRODUCTS = 1 << 17
"""Up to so many digits transforms are products of matrices, which heat; beyond, they would take too long."""

ROUND_OFF_MARGIN = 0.3
"""From here on round-off is an early warning; at 0.5 a digit is rounded to the wrong whole number."""


def bits_for(digits: int) -> int:
    """Return the bits of a digit for so many digits."""
    return next(bits for most, bits in _BITS if digits <= most)


def transform_bytes(plan: LoadPlan) -> int:
    """Return the bytes of starting numbers and their known squares."""
    return padded(plan.sets * (SERIES + 1) * plan.size * 4)


class _Products:
    """A transform as products of matrices, hot: rows, twiddles, columns (the four-step arrangement)."""

    def __init__(self, length: int) -> None:
        self.rows = 1 << (length.bit_length() - 1) // 2
        self.columns = length // self.rows
        self._across, self._down = _roots(self.columns), _roots(self.rows)
        angles = np.outer(np.arange(self.rows), np.arange(self.columns)) * (-2j * np.pi / length)
        self.factors = aligned((length,), np.complex128)
        self.factors[:] = np.exp(angles).reshape(-1)
        self.conjugate = aligned((length,), np.complex128)
        self.conjugate[:] = self.factors.conj()
        self._across_back, self._down_back = self._across.conj().copy(), self._down.conj().copy()
        self._half = aligned((self.rows, self.columns), np.complex128)

    def forward(self, values: Array, multiply: Callable[..., Array]) -> Array:
        grid = values.reshape(self.rows, self.columns)
        np.matmul(self._down, grid, out=self._half)
        multiply(self._half.reshape(-1), self.factors)
        np.matmul(self._half, self._across, out=grid)
        return values

    def backward(self, values: Array, multiply: Callable[..., Array]) -> Array:
        grid = values.reshape(self.rows, self.columns)
        np.matmul(grid, self._across_back, out=self._half)
        multiply(self._half.reshape(-1), self.conjugate)
        np.matmul(self._down_back, self._half, out=grid)
        return values


def _roots(n: int) -> Array:
    return np.asarray(np.exp(np.outer(np.arange(n), np.arange(n)) % n * (-2j * np.pi / n)))


class Squarings:
    """Series of squarings; a beat is one squaring. Small sizes transform by products of matrices, larger ones fast."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the numbers over `memory`, which must hold `transform_bytes(plan)`; size is the number of digits."""
        self.plan = plan
        self.bits = bits_for(plan.size)
        half = plan.size // 2
        (self._known,) = carve(memory, np.int32, (plan.sets, SERIES + 1, plan.size))
        self._weights = aligned((half,), np.complex128)
        self._weights[:] = np.exp(np.arange(half) * (1j * np.pi / plan.size))
        self._values = aligned((half,), np.complex128)
        self._whole = aligned((plan.size,), np.int64)
        self._digits = aligned((plan.size,), np.int32)
        self._next = -1
        """The beat that may continue from the digits as they are."""
        self.by_products = plan.size <= _MOST_BY_PRODUCTS
        self._grid = _Products(half) if self.by_products else None
        self.round_off = 0.0
        self.round_off_margin = ROUND_OFF_MARGIN
        self._disturb: Callable[[Words], None] | None = None
        if plan.compiled:
            from thresher.loads.kernels import digits as kernels

            self._kernels: Any = kernels
        else:
            self._kernels = _ByNumpy

    @contextmanager
    def disturbed(self, disturb: Callable[[Words], None]) -> Iterator[None]:
        """Let something change the spectrum on its way while this lasts, as a failing unit would."""
        self._disturb = disturb
        try:
            yield
        finally:
            self._disturb = None

    @property
    def product_operations(self) -> int:
        """Floating-point operations of a beat's matrix products, 0 where the transform is the fast one."""
        if self._grid is None:
            return 0
        return 2 * 8 * (self._grid.rows + self._grid.columns) * self._grid.rows * self._grid.columns

    def make(self) -> None:
        """Draw a number a set and square it as often as a series has squarings."""
        rng = np.random.default_rng(self.plan.seed)
        edge = 1 << self.bits - 1
        for numbers in self._known:
            numbers[0] = rng.integers(-edge, edge, self.plan.size)
            for step in range(SERIES):
                self._digits[:] = numbers[step]
                self._square()
                numbers[step + 1] = self._digits
        self._next = -1

    def describe(self, word: int) -> str:
        """One digit is like another."""
        del word
        return ""

    def confirm(self) -> list[int]:
        """Return the sets whose squares do not agree with whole-number arithmetic modulo a divisor of the modulus."""
        rng = np.random.default_rng(self.plan.seed)
        edge = 1 << self.bits - 1
        odd = self.bits
        while odd % 2 == 0:
            odd //= 2
        width = self.plan.size * self.bits // odd  # 2**width + 1 divides the modulus, since what remains is odd
        disputed = []
        for index, numbers in enumerate(self._known):
            begun = np.array_equal(numbers[0], rng.integers(-edge, edge, self.plan.size))
            residues = [_residue(number, self.bits, width) for number in numbers]
            steps = pairwise(residues)
            if not begun or any(square != _folded(residue * residue, width) for residue, square in steps):
                disputed.append(index)
        return disputed

    def compute(self, beat: int) -> bool:
        """Square once and compare all digits."""
        index, step = self._place(beat)
        if step == 0 or beat != self._next:
            self._digits[:] = self._known[index, step]
        self._square()
        right = same_bits(self._digits, self._known[index, step + 1])
        self._next = beat + 1 if right else -1
        return right

    def _place(self, beat: int) -> tuple[int, int]:
        return beat // SERIES % self.plan.sets, beat % SERIES

    def _square(self) -> None:
        # what a faulty unit makes may be no number at all; the comparison sees that, warnings would only hide it
        with np.errstate(all="ignore"):
            self._square_digits()

    def _square_digits(self) -> None:
        kernels, values = self._kernels, self._values
        kernels.apply_weights(self._digits, self._weights, values)
        if self._grid is not None:
            self._grid.forward(values, kernels.twiddle)
            self._pass_on(values)
            kernels.square(values)
            values = self._grid.backward(values, kernels.twiddle)
            scale = 2.0 / self.plan.size
        else:
            from scipy import fft

            spectrum = fft.fft(values, overwrite_x=True)
            self._pass_on(spectrum)
            kernels.square(spectrum)
            values = fft.ifft(spectrum, overwrite_x=True)
            scale = 1.0
        self.round_off = float(
            kernels.unweigh_and_carry(values, self._weights, scale, self.bits, self._digits, self._whole)
        )

    def _pass_on(self, spectrum: Array) -> None:
        if self._disturb is not None:
            self._disturb(spectrum.reshape(-1).view(np.uint64))

    def found(self) -> Words:
        """Return the newest digits, two to a word."""
        return as_words(self._digits)

    def expected(self, beat: int) -> Words:
        """Return the known digits, two to a word."""
        index, step = self._place(beat)
        return as_words(self._known[index, step + 1])


def _residue(digits: Array, bits: int, width: int) -> int:
    """Return the number that signed digits stand for, lowest first, modulo 2**width + 1."""
    return _folded(_packed(np.maximum(digits, 0), bits) - _packed(np.maximum(-digits, 0), bits), width)


def _folded(value: int, width: int) -> int:
    """Return a number modulo 2**width + 1 in the time it takes to read it: blocks, added with signs in turn.

    `width` is a multiple of 8. Python's own remainder takes time that grows with the square of the length.
    """
    sign, magnitude = (-1, -value) if value < 0 else (1, value)
    data, a_block = magnitude.to_bytes((magnitude.bit_length() + 7) // 8, "little"), width // 8
    total = 0
    for number, start in enumerate(range(0, len(data), a_block)):
        block = int.from_bytes(data[start : start + a_block], "little")
        total += -block if number % 2 else block
    modulus = (1 << width) + 1
    total *= sign
    while not 0 <= total < modulus:  # at most a few times: there are as many blocks as bits in a digit
        total += modulus if total < 0 else -modulus
    return total


def _packed(digits: Array, bits: int) -> int:
    """Return the number that digits of at most `bits` bits stand for."""
    each = np.unpackbits(digits.astype("<u4").view(np.uint8).reshape(-1, 4), axis=1, bitorder="little")[:, :bits]
    return int.from_bytes(np.packbits(each.reshape(-1), bitorder="little").tobytes(), "little")


class _ByNumpy:
    """The kernels around the transform in NumPy: slower, the same digits."""

    @staticmethod
    def apply_weights(digits: Array, weights: Array, out: Array) -> None:
        half = len(out)
        out.real, out.imag = digits[:half], digits[half:]
        out *= weights

    @staticmethod
    def square(spectrum: Array) -> None:
        spectrum *= spectrum

    @staticmethod
    def twiddle(values: Array, factors: Array) -> None:
        values *= factors

    @staticmethod
    def unweigh_and_carry(values: Array, weights: Array, scale: float, bits: int, out: Array, whole: Array) -> float:
        half = len(values)
        turned = values * weights.conj() * scale
        real, imaginary = np.rint(turned.real), np.rint(turned.imag)
        worst = max(float(np.abs(turned.real - real).max()), float(np.abs(turned.imag - imaginary).max()))
        whole[:half], whole[half:] = real, imaginary
        middle = 1 << bits - 1
        # full digits need the carries in their order; after two rounds at once only rare ones are left
        wrapped = 0
        for _ in range(2):
            carry = (whole + middle) >> bits
            whole -= carry << bits
            whole[1:] += carry[:-1]
            wrapped -= int(carry[-1])
        wrapped -= _ripple(whole, 0, len(whole), bits, middle)
        start = 0
        while wrapped and start < len(whole):
            value = int(whole[start]) + wrapped
            wrapped = (value + middle) >> bits
            whole[start] = value - (wrapped << bits)
            start += 1
        out[:] = whole
        return worst


def _ripple(whole: Array, start: int, end: int, bits: int, middle: int) -> int:
    """Carry what is still out of range, lowest first; return what leaves at the end."""
    left = 0
    while True:
        late = np.flatnonzero((whole[start:end] >= middle) | (whole[start:end] < -middle))
        if not len(late):
            return left
        for place in (start + late).tolist():
            carry = (int(whole[place]) + middle) >> bits
            whole[place] -= carry << bits
            if place + 1 < end:
                whole[place + 1] += carry
            else:
                left += carry


def _sized(by: Sizing) -> tuple[int, int]:
    """Digits and numbers."""
    if by.place is WorkingSet.CORE:
        return 1 << 15, 1
    if by.place is WorkingSet.SHARED_CACHE:
        return 1 << 17, 1
    return 1 << 19, max(1, min(8, by.wanted // (40 << 19)))


LOAD = exercise_load(
    "transform",
    LoadWords(
        "vector units and every cache in strides that no other load has",
        "marginal arithmetic early, by round-off before results are wrong, and caches that lose bits",
        "whole-number units, and memory beyond its own data",
    ),
    ALL_PLACES,
    _sized,
    ExerciseForm(transform_bytes, Squarings),
    Stress(0.85, 0.2, wide=True),
    Small(256, 1, lambda plan: plan.size // 2),
    short_beat=False,
    kernels=("thresher.loads.kernels.digits", "scipy.fft"),
    watch=RoundOffWatch,
)
