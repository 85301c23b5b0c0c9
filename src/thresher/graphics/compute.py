"""Compute load of a card: chains of whole numbers with known answers, and floating-point chains against themselves.

Whole numbers: every lane mixes 32-bit words by multiplication, shifts and exclusive-or, which every card must do
exactly; NumPy has worked the answers out. Floating point: every lane iterates a map in which the last bit of a number
changes everything after some turns. How a card rounds inside is its own affair, so its first answers are the reference;
a second program that does the same in another order has to give the same bits, and the first turns have to agree with
NumPy.
"""

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from thresher.graphics.faults import FaultBuffer
from thresher.graphics.results import Beat, Source, Wrong
from thresher.graphics.shaders import JUDGE, ROTATE, compute, groups

if TYPE_CHECKING:
    import moderngl

Words = npt.NDArray[np.uint32]
_SEEDS = (0x1D872B41, 0x9E3779B9)
_FIRST_TURNS = 6
_CLOSE = 1e-3

Spoil = Callable[["moderngl.Buffer", int], None]
"""Called with a result before it is compared and the beat: tests turn bits over in it."""

_INTEGER = (
    ROTATE
    + """
layout(std430, binding = 0) buffer Result { uint result[]; };
uniform uint seed; uniform uint turns;
void main() {
    uint lane = gl_GlobalInvocationID.x;
    uint x = mixed(lane ^ seed);
    for (uint turn = 0u; turn < turns; ++turn) {
        x = x * 1664525u + 1013904223u;
        x ^= x << 13; x ^= x >> 17; x ^= x << 5;
    }
    result[lane] = x;
}
"""
)
_FLOAT = """
layout(std430, binding = 0) buffer Result { uint result[]; };
uniform uint lanes; uniform uint turns; uniform uint backwards;
void main() {
    uint lane = gl_GlobalInvocationID.x;
    if (backwards != 0u) lane = lanes - 1u - lane;
    vec4 x = vec4(0.2, 0.4, 0.6, 0.8) + float(lane) * 1e-7;
    precise vec4 y = x;
    for (uint turn = 0u; turn < turns; ++turn) y = 3.9 * y * (1.0 - y);
    uvec4 bits = floatBitsToUint(y);
    result[lanes + lane] = bits.x ^ (bits.y << 1) ^ (bits.z << 2) ^ bits.w;
}
"""
_FIRST = """
layout(std430, binding = 0) buffer Result { float result[]; };
uniform uint turns;
void main() {
    uint lane = gl_GlobalInvocationID.x;
    float y = 0.2 + float(lane) * 1e-7;
    for (uint turn = 0u; turn < turns; ++turn) y = 3.9 * y * (1.0 - y);
    result[lane] = y;
}
"""
_COMPARE = (
    JUDGE
    + """
layout(std430, binding = 0) readonly buffer Result { uint result[]; };
layout(std430, binding = 1) readonly buffer Expected { uint expected[]; };
void main() { judge(gl_GlobalInvocationID.x, expected[gl_GlobalInvocationID.x], result[gl_GlobalInvocationID.x]); }
"""
)


def known_answers(seed: int, lanes: int, turns: int) -> Words:
    """Return what every lane of the whole-number chains has to answer, worked out by NumPy."""
    with np.errstate(over="ignore"):
        x = np.arange(lanes, dtype=np.uint32) ^ np.uint32(seed)
        for shift, factor in ((16, 0x7FEB352D), (15, 0x846CA68B)):
            x ^= x >> np.uint32(shift)
            x *= np.uint32(factor)
        x ^= x >> np.uint32(16)
        for _ in range(turns):
            x = x * np.uint32(1664525) + np.uint32(1013904223)
            for left, by in ((True, 13), (False, 17), (True, 5)):
                x ^= x << np.uint32(by) if left else x >> np.uint32(by)
    return x


class ComputeLoad:
    """Both chains in one beat. A unit is one lane's chain."""

    def __init__(self, gl: "moderngl.Context", lanes: int, turns: int = 256, spoil: Spoil | None = None) -> None:
        """Work the answers out and make the card's own reference; that takes a second or two."""
        self._gl, self._lanes, self._turns, self._spoil = gl, lanes, turns, spoil
        self._integer, self._float = compute(gl, _INTEGER), compute(gl, _FLOAT)
        self._compare, self._first = compute(gl, _COMPARE), compute(gl, _FIRST)
        self._result = gl.buffer(reserve=2 * lanes * 4)
        self._faults = FaultBuffer(gl)
        self._beat = 0
        self._run_float(backwards=False)
        reference = self._result.read(lanes * 4, offset=lanes * 4)
        self._expected = [gl.buffer(known_answers(seed, lanes, turns).tobytes() + reference) for seed in _SEEDS]
        self._run_integer(0)
        self._run_float(backwards=True)
        count, wrong = self._judge(0)
        more, others = self._first_turns()
        self._opening = Beat(0.0, count + more, (*wrong, *others))

    def _run_integer(self, which: int) -> None:
        self._integer["seed"], self._integer["turns"] = _SEEDS[which], self._turns
        self._result.bind_to_storage_buffer(0)
        self._integer.run(*groups(self._lanes))

    def _run_float(self, backwards: bool) -> None:
        """Iterate on every lane; backwards the lanes are given out the other way round."""
        for name, value in (("lanes", self._lanes), ("turns", self._turns), ("backwards", int(backwards))):
            self._float[name] = value
        self._result.bind_to_storage_buffer(0)
        self._float.run(*groups(self._lanes))

    def _first_turns(self) -> tuple[int, tuple[Wrong, ...]]:
        """Hold the first turns of the floating-point chains against NumPy."""
        self._first["turns"] = _FIRST_TURNS
        scratch = self._gl.buffer(reserve=self._lanes * 4)
        scratch.bind_to_storage_buffer(0)
        self._first.run(*groups(self._lanes))
        found = np.frombuffer(scratch.read(), dtype=np.float32)
        scratch.release()
        y = 0.2 + np.arange(self._lanes) * 1e-7
        for _ in range(_FIRST_TURNS):
            y = 3.9 * y * (1.0 - y)
        far = np.flatnonzero(~(np.abs(found - y) < _CLOSE))
        words, exact = found.view(np.uint32), y.astype(np.float32).view(np.uint32)
        detail = "floating point, far from what it is by NumPy"
        wrong = [Wrong(Source.COMPUTE, 0, int(at), int(exact[at]), int(words[at]), detail) for at in far[:8]]
        return len(far), tuple(wrong)

    def _judge(self, which: int) -> tuple[int, tuple[Wrong, ...]]:
        """Compare every lane of both chains on the card."""
        self._faults.clear()
        self._result.bind_to_storage_buffer(0)
        self._expected[which].bind_to_storage_buffer(1)
        self._compare.run(*groups(2 * self._lanes))
        count, wrong = self._faults.read(Source.COMPUTE, self._beat, "")
        return count, tuple(self._named(each) for each in wrong)

    def _named(self, wrong: Wrong) -> Wrong:
        kind, place = divmod(wrong.place, self._lanes)
        detail = "floating point" if kind else "whole numbers"
        return Wrong(wrong.source, wrong.beat, place, wrong.expected, wrong.found, detail)

    def beat(self) -> Beat:
        """Run one chain of each kind and compare every lane."""
        self._beat += 1
        which = self._beat % len(_SEEDS)
        self._run_integer(which)
        self._run_float(backwards=self._beat % 2 == 1)
        if self._spoil is not None:
            self._spoil(self._result, self._beat)
        count, wrong = self._judge(which)
        opening, self._opening = self._opening, Beat(0.0)
        return Beat(2.0 * self._lanes, count + opening.wrong_count, (*opening.wrong, *wrong))

    @property
    def covered(self) -> int:
        """Bytes of card memory that are checked: none."""
        return 0
