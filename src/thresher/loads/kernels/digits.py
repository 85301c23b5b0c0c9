"""What surrounds a transform when it squares a long number: weighting, squaring of the spectrum, carries."""

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

Complexes = npt.NDArray[np.complex128]
Digits = npt.NDArray[np.int32]


@njit("void(int32[::1], complex128[::1], complex128[::1])", cache=True, fastmath=False)
def apply_weights(digits: Digits, weights: Complexes, out: Complexes) -> None:
    """Fold the upper half under the lower as imaginary part and turn each pair by its weight."""
    half = out.size
    for n in range(half):
        low, high = np.float64(digits[n]), np.float64(digits[n + half])
        w = weights[n]
        out[n] = complex(low * w.real - high * w.imag, low * w.imag + high * w.real)


@njit("void(complex128[::1])", cache=True)
def square(spectrum: Complexes) -> None:
    """Square each."""
    for n in range(spectrum.size):
        a, b = spectrum[n].real, spectrum[n].imag
        spectrum[n] = complex(a * a - b * b, 2.0 * a * b)


@njit("void(complex128[::1], complex128[::1])", cache=True)
def twiddle(values: Complexes, factors: Complexes) -> None:
    """Multiply each by its factor."""
    for n in range(values.size):
        a, b, w = values[n].real, values[n].imag, factors[n]
        values[n] = complex(a * w.real - b * w.imag, a * w.imag + b * w.real)


@njit("float64(complex128[::1], complex128[::1], float64, int64, int32[::1], int64[::1])", cache=True)
def unweigh_and_carry(
    values: Complexes, weights: Complexes, scale: float, bits: int, out: Digits, whole: npt.NDArray[np.int64]
) -> Any:
    """Turn back, round to whole numbers and carry, modulo 2**(bits * n) + 1; return the largest distance to a whole.

    `whole` is room for n numbers. Digits come out between -2**(bits-1) and 2**(bits-1), the last carry goes with the
    other sign into the first, twice.
    """
    half = values.size
    worst = 0.0
    for n in range(half):
        w = weights[n]
        a, b = values[n].real * scale, values[n].imag * scale
        real = a * w.real + b * w.imag
        imaginary = b * w.real - a * w.imag
        near_real, near_imaginary = np.rint(real), np.rint(imaginary)
        worst = max(worst, abs(real - near_real), abs(imaginary - near_imaginary))
        whole[n] = np.int64(near_real)
        whole[n + half] = np.int64(near_imaginary)
    middle = np.int64(1) << (bits - 1)
    carry = np.int64(0)
    for n in range(2 * half):
        value = whole[n] + carry
        carry = (value + middle) >> bits
        out[n] = np.int32(value - (carry << bits))
    carry = -carry
    n = 0
    while carry != 0 and n < 2 * half:
        value = np.int64(out[n]) + carry
        carry = (value + middle) >> bits
        out[n] = np.int32(value - (carry << bits))
        n += 1
    return worst


@njit("int64(int32[::1], int32[::1])", cache=True)
def differing(found: Digits, expected: Digits) -> Any:
    """Return the bits by which any two digits differ, or-ed together."""
    wrong = np.int32(0)
    for n in range(found.size):
        wrong |= found[n] ^ expected[n]
    return np.int64(wrong)
