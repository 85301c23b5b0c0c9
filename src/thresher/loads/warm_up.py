"""Compile every kernel ahead and let each give known answers: `python -m thresher.loads.warm_up [--anew]`.

Prints one JSON object a line: progress, and at the end whether the compiled kernels may be used. A process of its
own, since the compiler runs on the machine under test and may take a process with it.
"""

import ctypes
import importlib
import os
import sys
import time
from collections.abc import Callable

import msgspec
import numpy as np

from thresher.loads.compute.matrix import REGISTER_TILES
from thresher.loads.exercise import Exercise, aligned
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import make_exercise, shared_bytes
from thresher.model.memory_patterns import StepKind, steps_of, value_at
from thresher.model.sheet import Precision, WorkingSet

MODULES = ("products", "chains", "sifting", "digits", "cells", "passing")


class WarmUp(msgspec.Struct, frozen=True):
    """How far it is. `usable` is None until the end; `vector_bits` the width in use; `detail` says what is wrong."""

    done: int
    total: int = len(MODULES)
    usable: bool | None = None
    vector_bits: int = 0
    detail: str = ""
    seconds: float = 0.0


def _report(state: WarmUp) -> None:
    print(msgspec.json.encode(state).decode(), flush=True)


def main(anew: bool = False) -> int:
    """Compile, check, print; return 0 when the kernels may be used.

    With `anew` what was compiled earlier is removed first: after a power cut or on a bad drive it may be damaged.
    """
    begun = time.monotonic()
    try:
        if anew:
            from thresher.loads.kernels import remove_compiled

            remove_compiled()
        from thresher.loads.kernels.vectors import vector_bytes

        for number, name in enumerate(MODULES):
            _report(WarmUp(number, detail=name))
            importlib.import_module(f"thresher.loads.kernels.{name}")
    except ImportError as error:
        _report(WarmUp(0, usable=False, detail=f"the compiler is not there: {error}"))
        return 1
    wrong = [name for name, check in _CHECKS.items() if not check()]
    detail = f"compiled kernels gave wrong answers: {', '.join(wrong)}" if wrong else ""
    taken = round(time.monotonic() - begun, 2)
    _report(WarmUp(len(MODULES), usable=not wrong, vector_bits=vector_bytes() * 8, detail=detail, seconds=taken))
    return 1 if wrong else 0


def _load_is_right(load: str, size: int, precision: Precision = Precision.DOUBLE) -> bool:
    """Make and confirm known answers, do some beats, and see that a flipped bit is noticed."""
    plan = LoadPlan(load, size, 1, precision=precision, compiled=True, working_set=WorkingSet.CORE)
    memory = memoryview(bytearray(shared_bytes(plan) + 64))
    exercise = make_exercise(plan, memory)
    exercise.make()
    right = not exercise.confirm() and all(exercise.compute(beat) for beat in range(3))
    expected = exercise.expected(2)
    return right and bool(np.array_equal(exercise.found(), expected)) and notices(exercise, memory, 2)


def notices(exercise: Exercise, memory: memoryview, beat: int) -> bool:
    """Whether a beat comes out wrong, and shows where, when one bit of its known answer is turned in memory."""
    answer = exercise.expected(beat).copy()
    word = len(answer) // 2
    at = _turn(exercise, memory, beat, word)
    if at is None:
        return False
    right = exercise.compute(beat)
    shown = bool(np.count_nonzero(exercise.found() ^ exercise.expected(beat)))
    memory[at + _BYTE] ^= 1
    return not right and shown and exercise.compute(beat)


_BYTE = 5
"""Which byte of a word is turned in its lowest bit."""


def _turn(exercise: Exercise, memory: memoryview, beat: int, word: int) -> int | None:
    """Turn a bit of the known answer where it lies in the shared memory; return the place, None if it is not there."""
    answer = exercise.expected(beat).copy()
    content, pattern = bytes(memory), answer[word].tobytes()
    at = content.find(pattern)
    while at >= 0:
        memory[at + _BYTE] ^= 1
        if int(exercise.expected(beat)[word] ^ answer[word]) == 1 << (8 * _BYTE):
            return at
        memory[at + _BYTE] ^= 1
        at = content.find(pattern, at + 1)
    return None


def _memory_is_right() -> bool:
    """Every background against its definition, up and down, with one wrong word put in and found."""
    from thresher.loads.kernels.cells import KERNELS, flush

    words = aligned((256,), np.uint64)
    places, found = np.zeros(4, np.int64), np.zeros(4, np.uint64)
    every = (1 << 64) - 1
    for name in ("march", "checkerboard", "address", "random"):
        step = steps_of(name, 7)[0]
        fill, check, up, down = KERNELS[step.background]
        head = (words.ctypes.data, 32, 1000, step.parameter)
        fill(*head, 0, words)
        if [int(word) for word in words] != [value_at(step, 1000 + place) for place in range(256)]:
            return False
        words[77] ^= np.uint64(1 << 9)
        flush(words.ctypes.data)
        if check(*head, 0, words, places, found) != 1 or found[0] != words[77]:
            return False
        words[77] ^= np.uint64(1 << 9)
        if check(*head, 0, words, places, found) != 0:
            return False
        words[77] ^= np.uint64(1 << 9)
        counts = [check(*head, 0, words, places, found)]
        counts.append(up(*head, 0, words, places, found))
        counts.append(down(*head, every, words, places, found))
        if counts != [1, 1, 0] or places[0] != 77 or step.kind is not StepKind.FILL:
            return False
    return True


def _messages_are_right() -> bool:
    """One side alone gets no answer and gives up; with the answers in place it checks them."""
    from thresher.loads.kernels.passing import serve_messages

    lines = aligned((32,), np.int64)
    state = np.zeros(6, np.int64)
    return int(serve_messages(lines.ctypes.data, lines.ctypes.data + 128, 1, 1, 10, state)) == 1


_CHECKS: dict[str, Callable[[], bool]] = {
    "matrix": lambda: _load_is_right("matrix", REGISTER_TILES),
    "matrix, single": lambda: _load_is_right("matrix", REGISTER_TILES, Precision.SINGLE),
    "transform": lambda: _load_is_right("transform", 1 << 12),
    "integer": lambda: _load_is_right("integer", 64),
    "branchy": lambda: _load_is_right("branchy", 2048),
    "sieve": lambda: _load_is_right("sieve", 100_000),
    "memory": _memory_is_right,
    "relay": _messages_are_right,
}


if __name__ == "__main__":
    ctypes.CDLL(None).prctl(1, 9)  # PR_SET_PDEATHSIG: nobody is left to use what is compiled
    os.nice(5)
    sys.exit(main(anew="--anew" in sys.argv[1:]))
