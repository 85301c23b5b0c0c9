"""Branches that no predictor learns: sorting by comparison, and sieving for primes within a cache."""

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit


@njit("void(uint32[::1], int64[::1])", cache=True)
def sort_words(words: npt.NDArray[np.uint32], stack: npt.NDArray[np.int64]) -> None:
    """Sort in place by partitioning around the middle of three, short stretches by insertion.

    `stack` is room for bounds, 256 numbers are enough for any length: the longer side waits on it.
    """
    top = 0
    low, high = 0, words.size - 1
    while True:
        while high - low > 16:
            middle = (low + high) >> 1
            if words[middle] < words[low]:
                words[middle], words[low] = words[low], words[middle]
            if words[high] < words[low]:
                words[high], words[low] = words[low], words[high]
            if words[high] < words[middle]:
                words[high], words[middle] = words[middle], words[high]
            pivot = words[middle]
            i, j = low, high
            while i <= j:
                while words[i] < pivot:
                    i += 1
                while words[j] > pivot:
                    j -= 1
                if i <= j:
                    words[i], words[j] = words[j], words[i]
                    i += 1
                    j -= 1
            if j - low > high - i:
                stack[top], stack[top + 1] = low, j
                low = i
            else:
                stack[top], stack[top + 1] = i, high
                high = j
            top += 2
            if top > stack.size - 2:
                break  # cannot be: each side that waits is at least as long as what continues
        for i in range(low + 1, high + 1):
            value = words[i]
            j = i - 1
            while j >= low and words[j] > value:
                words[j + 1] = words[j]
                j -= 1
            words[j + 1] = value
        if top == 0:
            break
        top -= 2
        low, high = stack[top], stack[top + 1]


@njit("int64(uint8[::1])", cache=True)
def sieve_odds(marks: npt.NDArray[np.uint8]) -> Any:
    """Sieve the odd numbers 1, 3, 5 ... and return how many primes there are below 2 * marks.size, 2 included.

    A mark of 1 stands for a prime; that of 1 is 0.
    """
    marks[:] = 1
    marks[0] = 0
    number = 3
    while number * number < 2 * marks.size:
        if marks[number >> 1]:
            for multiple in range((number * number) >> 1, marks.size, number):
                marks[multiple] = 0
        number += 2
    count = 1
    for each in marks:
        count += each
    return count
