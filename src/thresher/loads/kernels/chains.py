"""Long dependent chains of whole-number arithmetic, in scalar registers and in vectors.

A link of the chain, on 64-bit words without sign:

    s = s * MULTIPLIER + INCREMENT;  s ^= s >> 29;  s = s rotated left by 23;  when s < BOUND: s += STEP
"""

from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit, uint64

MULTIPLIER = 0x9E6C63D0876A9A47
INCREMENT = 0xD1B54A32D192ED03
BOUND = 0x5555555555555555
STEP = 0x8CB92BA72F3D8DD7

_M, _I, _B, _S = (np.uint64(each) for each in (MULTIPLIER, INCREMENT, BOUND, STEP))
_29, _23, _41 = np.uint64(29), np.uint64(23), np.uint64(41)

Words = npt.NDArray[np.uint64]

SCALAR_CHAINS = 6
"""Chains side by side in scalar registers: more would spill."""


@njit("uint64(uint64)", inline="always", cache=True)
def _link(s: Any) -> Any:
    s = s * _M + _I
    s ^= s >> _29
    s = (s << _23) | (s >> _41)
    if s < _B:
        s += _S
    return s


@njit("void(uint64[::1], int64)", cache=True)
def run_scalar_chains(state: Words, links: int) -> None:
    """Take the six chains in `state` on by so many links."""
    a, b, c, d, e, f = state[0], state[1], state[2], state[3], state[4], state[5]
    for _ in range(links):
        a, b, c, d, e, f = _link(a), _link(b), _link(c), _link(d), _link(e), _link(f)
    state[0], state[1], state[2], state[3], state[4], state[5] = a, b, c, d, e, f


@njit("void(uint64[::1], int64)", cache=True)
def run_vector_chains(state: Words, links: int) -> None:
    """Take chains by the vector on by so many links; the number of chains is a multiple of 32."""
    block = np.empty(32, np.uint64)
    for start in range(0, state.size, 32):
        for lane in range(32):
            block[lane] = state[start + lane]
        for _ in range(links):
            for lane in range(32):
                s = block[lane] * _M + _I
                s ^= s >> _29
                s = (s << _23) | (s >> _41)
                block[lane] = s + (_S if s < _B else uint64(0))
        for lane in range(32):
            state[start + lane] = block[lane]
