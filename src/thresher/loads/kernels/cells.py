"""Memory written, read and marched through a line at a time, upwards and truly downwards.

Each background of data is a function from the place of a word to its value; its complement is the same with all
bits turned. A line of eight words is read whole before it is written: nothing smaller travels to the modules.
"""

import platform
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils
from numba.extending import intrinsic

LINE = 8
"""Words of 64 bits in a line of 64 bytes."""

_WORD = ir.IntType(64)
_VECTOR = ir.VectorType(_WORD, LINE)
Word = np.uint64
Places = npt.NDArray[np.int64]
Kernel = Callable[..., int]
_Value = Callable[[ir.IRBuilder, ir.Value, ir.Value], ir.Value]


def _all(value: int) -> ir.Constant:
    return ir.Constant(_VECTOR, [value] * LINE)


def _spread(builder: ir.IRBuilder, word: ir.Value) -> ir.Value:
    undefined = ir.Constant(_VECTOR, ir.Undefined)
    single = builder.insert_element(undefined, word, ir.Constant(ir.IntType(32), 0))
    return builder.shuffle_vector(single, undefined, ir.Constant(ir.VectorType(ir.IntType(32), LINE), None))


def _flat(_builder: ir.IRBuilder, _places: ir.Value, parameter: ir.Value) -> ir.Value:
    return parameter


def _checkered(builder: ir.IRBuilder, places: ir.Value, parameter: ir.Value) -> ir.Value:
    return builder.xor(parameter, builder.sub(_all(0), builder.and_(places, _all(1))))


def _addressed(builder: ir.IRBuilder, places: ir.Value, parameter: ir.Value) -> ir.Value:
    return builder.add(parameter, builder.shl(places, _all(3)))


def _scattered(builder: ir.IRBuilder, places: ir.Value, parameter: ir.Value) -> ir.Value:
    z = builder.add(parameter, builder.mul(places, _all(0x9E3779B97F4A7C15)))
    z = builder.mul(builder.xor(z, builder.lshr(z, _all(30))), _all(0xBF58476D1CE4E5B9))
    return builder.xor(z, builder.lshr(z, _all(31)))


def _expected(builder: ir.IRBuilder, value: _Value, args: list[ir.Value]) -> tuple[ir.Value, ir.Value]:
    """Return the pointer to the line and the vector that it should hold."""
    address, place, parameter, turn = args
    steps = ir.Constant(_VECTOR, list(range(LINE)))
    places = builder.add(_spread(builder, place), steps)
    known = builder.xor(value(builder, places, _spread(builder, parameter)), _spread(builder, turn))
    return builder.inttoptr(address, _VECTOR.as_pointer()), known


def _line_operations(value: _Value) -> tuple[Kernel, Kernel]:
    """Return `write(address, place, parameter, turn)` and `wrong(...)`, which gives a bit for each wrong word."""

    @intrinsic
    def write(typing: object, address: object, place: object, parameter: object, turn: object) -> object:
        def codegen(context: Any, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
            pointer, known = _expected(builder, value, args)
            builder.store(known, pointer, align=8)
            return context.get_dummy_value()

        return types.void(types.intp, types.uint64, types.uint64, types.uint64), codegen

    @intrinsic
    def wrong(typing: object, address: object, place: object, parameter: object, turn: object) -> object:
        def codegen(_context: object, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
            pointer, known = _expected(builder, value, args)
            differ = builder.icmp_unsigned("!=", builder.load(pointer, align=8), known)
            return builder.zext(builder.bitcast(differ, ir.IntType(LINE)), _WORD)

        return types.int64(types.intp, types.uint64, types.uint64, types.uint64), codegen

    return write, wrong


_ALL_BITS = np.uint64(0xFFFFFFFFFFFFFFFF)
_LINE_BYTES = 64
_FILL = "void(intp, int64, uint64, uint64, uint64, uint64[::1])"
_CHECK = "int64(intp, int64, uint64, uint64, uint64, uint64[::1], int64[::1], uint64[::1])"
_NOTE = "int64(uint64[::1], int64, int64, int64, int64[::1], uint64[::1])"

Words = npt.NDArray[np.uint64]


@njit(_NOTE, cache=True)
def _note(words: Words, line: int, bits: int, wrong: int, places: Places, found: Words) -> int:
    """Keep place and content of the wrong words of a line while there is room; return how many there are now."""
    for n in range(LINE):
        if bits >> n & 1:
            if wrong < places.size:
                places[wrong] = line * LINE + n
                found[wrong] = words[line * LINE + n]
            wrong += 1
    return wrong


_flat_write, _flat_wrong = _line_operations(_flat)
_checkered_write, _checkered_wrong = _line_operations(_checkered)
_addressed_write, _addressed_wrong = _line_operations(_addressed)
_scattered_write, _scattered_wrong = _line_operations(_scattered)


@njit("void(int64, intp, uint64, uint64, uint64)", inline="always", cache=True)
def _write_line(kind: int, address: int, place: Word, parameter: Word, turn: Word) -> None:
    """Write a line of one of the four backgrounds; the branch is the same all the way and costs nothing."""
    if kind == 0:
        _flat_write(address, place, parameter, turn)
    elif kind == 1:
        _checkered_write(address, place, parameter, turn)
    elif kind == 2:
        _addressed_write(address, place, parameter, turn)
    else:
        _scattered_write(address, place, parameter, turn)


@njit("int64(int64, intp, uint64, uint64, uint64)", inline="always", cache=True)
def _wrong_in_line(kind: int, address: int, place: Word, parameter: Word, turn: Word) -> int:
    if kind == 0:
        bits = _flat_wrong(address, place, parameter, turn)
    elif kind == 1:
        bits = _checkered_wrong(address, place, parameter, turn)
    elif kind == 2:
        bits = _addressed_wrong(address, place, parameter, turn)
    else:
        bits = _scattered_wrong(address, place, parameter, turn)
    return bits


def _kernels(kind: int) -> tuple[Kernel, ...]:
    """The four kernels of one background. The number is all they close over, so that their cache knows them again."""

    @njit(_FILL, cache=True)
    def fill(address: int, lines: int, first: Word, parameter: Word, turn: Word, _words: Words) -> None:
        for line in range(lines):
            _write_line(kind, address + line * _LINE_BYTES, first + np.uint64(line * LINE), parameter, turn)

    @njit(_CHECK, cache=True)
    def check(
        address: int, lines: int, first: Word, parameter: Word, turn: Word, words: Words, places: Places, found: Words
    ) -> int:
        wrong = 0
        for four in range(0, lines, 4):
            bits = 0
            for line in range(four, four + 4):
                place = first + np.uint64(line * LINE)
                bits |= _wrong_in_line(kind, address + line * _LINE_BYTES, place, parameter, turn)
            if bits:
                for line in range(four, four + 4):
                    place = first + np.uint64(line * LINE)
                    mine = _wrong_in_line(kind, address + line * _LINE_BYTES, place, parameter, turn)
                    wrong = _note(words, line, mine, wrong, places, found)
        return wrong

    @njit(_CHECK, cache=True)
    def turn_up(
        address: int, lines: int, first: Word, parameter: Word, turn: Word, words: Words, places: Places, found: Words
    ) -> int:
        wrong = 0
        for line in range(lines):
            at, place = address + line * _LINE_BYTES, first + np.uint64(line * LINE)
            bits = _wrong_in_line(kind, at, place, parameter, turn)
            if bits:
                wrong = _note(words, line, bits, wrong, places, found)
            _write_line(kind, at, place, parameter, turn ^ _ALL_BITS)
        return wrong

    @njit(_CHECK, cache=True)
    def turn_down(
        address: int, lines: int, first: Word, parameter: Word, turn: Word, words: Words, places: Places, found: Words
    ) -> int:
        wrong = 0
        for line in range(lines - 1, -1, -1):
            at, place = address + line * _LINE_BYTES, first + np.uint64(line * LINE)
            bits = _wrong_in_line(kind, at, place, parameter, turn)
            if bits:
                wrong = _note(words, line, bits, wrong, places, found)
            _write_line(kind, at, place, parameter, turn ^ _ALL_BITS)
        return wrong

    return fill, check, turn_up, turn_down


KERNELS: dict[str, tuple[Kernel, ...]] = {
    name: _kernels(kind) for kind, name in enumerate(("flat", "checkered", "addressed", "scattered"))
}
"""By background: fill; check; check and write the complement upwards; the same downwards.

All take the address of the first line, how many lines, the place of the first word in the whole stretch, the
background's parameter, all bits set to begin with the complement, and the same words as an array. Those that check
also take room for places and contents of words that were wrong; they return how many were. Lines come by fours. """


@intrinsic
def _flush(typing: object, address: object) -> object:
    """Push a line out of the caches."""

    def codegen(context: Any, builder: ir.IRBuilder, _signature: object, args: list[ir.Value]) -> ir.Value:
        if platform.machine() == "x86_64":
            pointer = ir.IntType(8).as_pointer()
            kind = ir.FunctionType(ir.VoidType(), [pointer])
            function = cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.sse2.clflush")
            builder.call(function, [builder.inttoptr(args[0], pointer)])
            builder.fence("seq_cst")
        return context.get_dummy_value()

    return types.void(types.intp), codegen


@njit("void(intp)", cache=True)
def flush(address: int) -> None:
    """Push the line at an address out of the caches, so that the next reading comes from memory."""
    _flush(address)
