"""Messages between two cores through one cache line each way, with loads and stores that the other core sees."""

import platform
from typing import Any

import numpy as np
import numpy.typing as npt
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

State = npt.NDArray[np.int64]


@intrinsic
def _acquire(typing: object, address: object) -> object:
    """Read a 64-bit word so that everything written before it is seen."""

    def codegen(_context: object, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        return builder.load_atomic(pointer, "acquire", 8)

    return types.int64(types.intp), codegen


@intrinsic
def _release(typing: object, address: object, value: object) -> object:
    """Write a 64-bit word so that everything written before it is seen first."""

    def codegen(context: Any, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        builder.store_atomic(args[1], pointer, "release", 8)
        return context.get_dummy_value()

    return types.void(types.intp, types.int64), codegen


@intrinsic
def _pause(typing: object) -> object:
    """Tell the core that it spins."""

    def codegen(context: Any, builder: ir.IRBuilder, _signature: object, _args: list[ir.Value]) -> ir.Value:
        if platform.machine() == "x86_64":
            kind = ir.FunctionType(ir.VoidType(), [])
            builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.sse2.pause"), [])
        return context.get_dummy_value()

    return types.void(), codegen


@njit("int64(int64, int64)", inline="always", cache=True)
def seal(number: int, payload: int) -> int:
    """The checksum that a message carries."""
    return (payload ^ (number << 17)) * 0x2545F4914F6CDD1D + number


@njit("int64(int64, int64)", inline="always", cache=True)
def answer(number: int, payload: int) -> int:
    """What the other side makes of a message."""
    return payload * 6364136223846793005 + (number ^ 0x5851F42D)


_SIGNATURE = "int64(intp, intp, int64, int64, int64, int64[::1])"


@njit(_SIGNATURE, cache=True)
def serve_messages(mine: int, theirs: int, number: int, last: int, patience: int, state: State) -> int:
    """Send messages `number` to `last` and check each answer; return the number of the next one.

    A line is number, payload, checksum. `state` holds the payload in progress, and whether a message of it is under
    way; when something is wrong, state[2] counts it and state[3..5] keep the last: number, expected, found.
    Comes back early when `patience` spins passed without an answer.
    """
    payload = state[0]
    while number <= last:
        if state[1] == 0:
            _release(mine + 8, payload)
            _release(mine + 16, seal(number, payload))
            _release(mine, number)
            state[1] = 1
        spins = 0
        while _acquire(theirs) != number:
            spins += 1
            if spins > patience:
                state[0] = payload
                return number
            _pause()
        state[1] = 0
        expected = answer(number, payload)
        found = _acquire(theirs + 8)
        if found != expected or _acquire(theirs + 16) != seal(number, found):
            state[2] += 1
            state[3], state[4], state[5] = number, expected, found
        payload = expected
        number += 1
    state[0] = payload
    return number


@njit(_SIGNATURE, cache=True)
def return_messages(mine: int, theirs: int, number: int, last: int, patience: int, state: State) -> int:
    """Answer messages `number` to `last`; the other side of `serve_messages`."""
    while number <= last:
        spins = 0
        while _acquire(theirs) != number:
            spins += 1
            if spins > patience:
                return number
            _pause()
        payload = _acquire(theirs + 8)
        if _acquire(theirs + 16) != seal(number, payload):
            state[2] += 1
            state[3], state[4], state[5] = number, seal(number, payload), _acquire(theirs + 16)
        reply = answer(number, payload)
        _release(mine + 8, reply)
        _release(mine + 16, seal(number, reply))
        _release(mine, number)
        number += 1
    return number
