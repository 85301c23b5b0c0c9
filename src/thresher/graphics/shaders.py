"""Compiled programs on the card, and buffers that no single block may exceed."""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import moderngl

GROUP = 64
"""Invocations of a work group in every compute shader here."""
MOST_WORDS = 16 << 20
"""Words of a buffer: 64 MiB, half of what every driver allows for one."""

ROTATE = """
uint mixed(uint x) {
    x ^= x >> 16; x *= 0x7feb352du; x ^= x >> 15; x *= 0x846ca68bu; x ^= x >> 16;
    return x;
}
"""
"""A 32-bit mixing function in GLSL: multiplications, shifts and exclusive-or, all exact."""

JUDGE = """
layout(std430, binding = 2) buffer Faults { uint count; uint pad[3]; uvec4 first[64]; } faults;
void judge(uint place, uint expected, uint found) {
    if (expected == found) return;
    uint slot = atomicAdd(faults.count, 1u);
    if (slot < 64u) faults.first[slot] = uvec4(place, expected, found, 0u);
}
"""
"""Counts wrong words in buffer 2 and keeps the first of them."""

FAULT_BYTES = 16 + 64 * 16


def compute(gl: "moderngl.Context", body: str) -> "moderngl.ComputeShader":
    """Return a compute shader of one-dimensional groups."""
    head = f"#version 430\nlayout(local_size_x = {GROUP}) in;\n"
    return gl.compute_shader(head + body)


def groups(words: int) -> tuple[int, int]:
    """Return how many groups in x and y cover so many words, one invocation each, within every driver's limits."""
    needed = -(-words // GROUP)
    across = min(needed, 32768)
    return across, -(-needed // across)
