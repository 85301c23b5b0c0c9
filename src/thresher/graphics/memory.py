"""Memory check of a card: patterns are written by the card and compared by it, over as much as can be had.

OpenGL does not say where a buffer lies. On a card with memory of its own the driver puts large buffers there as long as
there is room; what was had is reported as covered, never more.
"""

import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import IntEnum
from typing import TYPE_CHECKING

from thresher.graphics.faults import FaultBuffer
from thresher.graphics.results import Beat, Source, Wrong
from thresher.graphics.shaders import JUDGE, MOST_WORDS, compute, groups

if TYPE_CHECKING:
    import moderngl

_OUT_OF_MEMORY = "GL_OUT_OF_MEMORY"
_STRIDE = 64
"""Words of the stretches that a march turns over one after the other."""

Spoil = Callable[["moderngl.Buffer", int, int], None]
"""Called with a buffer, its number and the beat before it is compared: tests turn bits over in it."""


class Pattern(IntEnum):
    """What a word holds, by its address."""

    FIXED = 0
    WALKING = 1
    ADDRESS = 2
    RANDOM = 3


@dataclass(frozen=True, slots=True)
class Pass:
    """One pass over everything: the pattern, the word it takes, its complement or not, seconds of rest, or a march."""

    title: str
    pattern: Pattern
    word: int = 0
    complement: bool = False
    rest_s: float = 0.0
    march: bool = False


def passes(retention_s: float) -> tuple[Pass, ...]:
    """Return the passes of one round."""
    found = []
    for word in (0x00000000, 0x55555555, 0x33333333, 0x0F0F0F0F):
        found += [Pass(f"fixed {word:08x}", Pattern.FIXED, word, complement) for complement in (False, True)]
    for shift in (0, 11):
        found += [Pass(f"walking bit {shift}", Pattern.WALKING, shift, complement) for complement in (False, True)]
    found += [Pass("address in itself", Pattern.ADDRESS, 0, complement) for complement in (False, True)]
    found += [Pass("random", Pattern.RANDOM, 0x2545F491, complement) for complement in (False, True)]
    found.append(Pass("march", Pattern.RANDOM, 0x61C88647, march=True))
    found.append(Pass("retention", Pattern.RANDOM, 0x7F4A7C15, rest_s=retention_s))
    return tuple(found)


_VALUE = """
uint spread(uint x) { x *= 0x9e3779b1u; x ^= x >> 15; return x * 0x85ebca77u; }
uniform uint pattern; uniform uint word; uniform uint turned;
uniform uint base; uniform uint words; uniform uint across;
uint value(uint address) {
    uint x = word;
    if (pattern == 1u) x = 1u << ((address + word) & 31u);
    if (pattern == 2u) x = address;
    if (pattern == 3u) x = spread(address ^ word);
    return x ^ turned;
}
uint here() { return gl_GlobalInvocationID.x + gl_GlobalInvocationID.y * across; }
"""
FOURS = (
    _VALUE
    + """
layout(std430, binding = 0) buffer Memory { uvec4 fours[]; };
uvec4 values(uint address) {
    return uvec4(value(address), value(address + 1u), value(address + 2u), value(address + 3u));
}
"""
)
"""Memory in fours of words, one an invocation: a card moves 16 bytes at once and looks for a fault once a four."""
_FILL = FOURS + "void main() { uint at = here(); if (4u * at < words) fours[at] = values(base + 4u * at); }\n"
_LOOK = (
    JUDGE
    + FOURS
    + """
void main() {
    uint at = here();
    if (4u * at >= words) return;
    // only whether, and where: looking closer would cost a third of the rate, and is done when there is a reason
    if (values(base + 4u * at) != fours[at]) faults.count = at + 1u;
}
"""
)
_CHECK = (
    JUDGE
    + FOURS
    + """
void main() {
    uint at = here();
    if (4u * at >= words) return;
    uvec4 expected = values(base + 4u * at), found = fours[at];
    for (uint n = expected == found ? 4u : 0u; n < 4u; ++n) judge(4u * at + n, expected[n], found[n]);
}
"""
)
_MARCH = (
    JUDGE
    + _VALUE
    + f"""
layout(std430, binding = 0) buffer Memory {{ uint memory[]; }};
uniform uint down;
void main() {{
    uint stretch = here() * {_STRIDE}u;
    for (uint step = 0u; step < {_STRIDE}u; ++step) {{
        uint at = stretch + (down != 0u ? {_STRIDE - 1}u - step : step);
        if (at >= words) continue;
        judge(at, value(base + at), memory[at]);
        memory[at] = ~value(base + at);
        memoryBarrierBuffer();
        judge(at, ~value(base + at), memory[at]);
    }}
}}
"""
)


class MemoryLoad:
    """Rounds of all passes. A unit is one byte written or compared."""

    def __init__(
        self,
        gl: "moderngl.Context",
        amount: int,
        retention_s: float = 5.0,
        most_words: int = MOST_WORDS,
        spoil: Spoil | None = None,
    ) -> None:
        """Take so many bytes, or as many as there are, in buffers of `most_words`. Raises MemoryError without any.

        `most_words` is a multiple of four.
        """
        self._gl, self._spoil = gl, spoil
        self._programs: dict[tuple[str, Pattern], moderngl.ComputeShader] = {}
        self._buffers: list[moderngl.Buffer] = []
        self._sizes: list[int] = []
        self._bases: list[int] = []
        left = max(amount, 1 << 20) // 16 * 4
        while left > 0:
            words = min(left, most_words)
            buffer = _buffer(gl, words * 4)
            if buffer is None:
                break
            self._buffers.append(buffer)
            self._bases.append(sum(self._sizes))
            self._sizes.append(words)
            left -= words
        if not self._buffers:
            raise MemoryError("the card gives no memory")
        self._faults = FaultBuffer(gl)
        self._pause = threading.Event()
        self._passes = passes(retention_s)
        self._beat, self.rounds = 0, 0
        self._steps = self._all_steps()

    @property
    def covered(self) -> int:
        """Bytes of card memory that are checked."""
        return sum(self._sizes) * 4

    def beat(self) -> Beat:
        """Write or compare one buffer."""
        self._beat += 1
        return next(self._steps)

    def _all_steps(self) -> Iterator[Beat]:
        while True:
            for one in self._passes:
                for number in range(len(self._buffers)):
                    yield self._written(one, number)
                until = time.monotonic() + one.rest_s
                while time.monotonic() < until:
                    self._pause.wait(min(0.05, one.rest_s))
                    yield Beat(0.0)
                for number in range(len(self._buffers)):
                    yield from self._marched(one, number) if one.march else self._compared(one, number)
            self.rounds += 1

    def _program(self, text: str, pattern: Pattern) -> "moderngl.ComputeShader":
        """Return a program made for one pattern: it works out nothing of the others."""
        found = self._programs.get((text, pattern))
        if found is None:
            made = text.replace("uniform uint pattern;", f"const uint pattern = {int(pattern)}u;")
            found = self._programs[text, pattern] = compute(self._gl, made)
        return found

    def _set(self, program: "moderngl.ComputeShader", one: Pass, number: int, turned: bool) -> tuple[int, int]:
        size = groups(self._sizes[number] // 4)
        values = {
            "pattern": int(one.pattern),
            "word": one.word,
            "turned": 0xFFFFFFFF if turned else 0,
            "base": self._bases[number] & 0xFFFFFFFF,
            "words": self._sizes[number],
            "across": size[0] * 64,
        }
        for name, value in values.items():
            if name in program:
                program[name] = value
        self._buffers[number].bind_to_storage_buffer(0)
        return size

    def _written(self, one: Pass, number: int) -> Beat:
        fill = self._program(_FILL, one.pattern)
        fill.run(*self._set(fill, one, number, one.complement))
        self._gl.finish()
        return Beat(self._sizes[number] * 4.0)

    def _before_check(self, number: int) -> None:
        if self._spoil is not None:
            self._spoil(self._buffers[number], number, self._beat)
        self._faults.clear()

    def _compared(self, one: Pass, number: int) -> Iterator[Beat]:
        """Look whether anything is wrong, and only then at each word; what is right by then was wrong on the way."""
        self._before_check(number)
        size = self._sizes[number] * 4.0
        look = self._program(_LOOK, one.pattern)
        look.run(*self._set(look, one, number, one.complement))
        where = self._faults.mark()
        if not where:
            yield Beat(size)
            return
        self._faults.clear()
        check = self._program(_CHECK, one.pattern)
        check.run(*self._set(check, one, number, one.complement))
        count, wrong = self._faults.read(Source.MEMORY, self._beat, one.title, self._bases[number])
        if not count:
            place = self._bases[number] + 4 * (where - 1)
            passing = Wrong(Source.MEMORY, self._beat, place, 0, 0, f"{one.title}, right when it was read again")
            count, wrong = 1, (passing,)
        yield Beat(size, count, wrong)

    def _marched(self, one: Pass, number: int) -> Iterator[Beat]:
        """Turn each word over upwards, then back downwards, in stretches that are worked through in order."""
        march = self._program(_MARCH, one.pattern)
        for down, turned in ((False, False), (True, True)):
            self._before_check(number)
            self._set(march, one, number, turned)
            size = groups(-(-self._sizes[number] // _STRIDE))
            march["across"], march["down"] = size[0] * 64, int(down)
            march.run(*size)
            title = f"{one.title} {'down' if down else 'up'}"
            count, wrong = self._faults.read(Source.MEMORY, self._beat, title, self._bases[number])
            yield Beat(self._sizes[number] * 12.0, count, wrong)


def _buffer(gl: "moderngl.Context", size: int) -> "moderngl.Buffer | None":
    """Return a buffer, None where the card has no room for it."""
    import moderngl

    try:
        buffer = gl.buffer(reserve=size)
    except moderngl.Error:
        return None
    if gl.error == _OUT_OF_MEMORY:
        buffer.release()
        return None
    return buffer
