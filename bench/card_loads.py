"""Checked work of a card beside the same work unchecked, on the first card or, labelled so, on the software renderer.

`python bench/card_loads.py` prints units a second of both, in short rounds in turn, and the ratio of the medians.
"""

import statistics
import time
from collections.abc import Iterator

import moderngl

from thresher.graphics.compute import ComputeLoad
from thresher.graphics.egl import CardContext, card_devices
from thresher.graphics.memory import FOURS, MemoryLoad, Pass
from thresher.graphics.order import CARD, SOFTWARE, Scale
from thresher.graphics.raster import RasterLoad
from thresher.graphics.results import Beat, Wrong
from thresher.graphics.shaders import compute
from thresher.graphics.worker import CardLoad

ROUNDS, SECONDS = 9, 1.5
WANTED = {"compute": 0.95, "raster": 0.95, "card memory": 0.90}

Judged = tuple[int, tuple[Wrong, ...]]


class UncheckedCompute(ComputeLoad):
    """The chains alone."""

    def _judge(self, which: int) -> Judged:
        del which
        self._gl.finish()
        return 0, ()


class UncheckedRaster(RasterLoad):
    """The drawing alone."""

    def _judge(self, number: int, detail: str) -> Judged:
        del number, detail
        self._gl.finish()
        return 0, ()


class UncheckedMemory(MemoryLoad):
    """Every pass written and read, and nothing compared."""

    def __init__(self, gl: moderngl.Context, amount: int, retention_s: float, most_words: int) -> None:
        """Take the memory."""
        super().__init__(gl, amount, retention_s, most_words)
        body = """
void main() {
    uint at = here();
    if (4u * at < words && fours[at] == uvec4(0xfeedbeefu)) fours[at] = uvec4(0u);
}
"""
        self._read = compute(gl, FOURS + body)
        self._passes = tuple(each for each in self._passes if not each.march)

    def _compared(self, one: Pass, number: int) -> Iterator[Beat]:
        self._read.run(*self._set(self._read, one, number, one.complement))
        self._gl.finish()
        yield Beat(self._sizes[number] * 4.0)


class CheckedMemory(MemoryLoad):
    """The passes that the unchecked one has."""

    def __init__(self, gl: moderngl.Context, amount: int, retention_s: float, most_words: int) -> None:
        """Take the memory."""
        super().__init__(gl, amount, retention_s, most_words)
        self._passes = tuple(each for each in self._passes if not each.march)


def pairs(gl: moderngl.Context, scale: Scale) -> dict[str, tuple[CardLoad, CardLoad]]:
    """Return each load, checked and unchecked."""
    memory = (gl, scale.amount // 2, 0.0, scale.most_words)
    frame = (gl, scale.size, scale.stalks, scale.layers)
    return {
        "compute": (ComputeLoad(gl, scale.lanes, scale.turns), UncheckedCompute(gl, scale.lanes, scale.turns)),
        "raster": (RasterLoad(*frame), UncheckedRaster(*frame)),
        "card memory": (CheckedMemory(*memory), UncheckedMemory(*memory)),
    }


def rate(gl: moderngl.Context, load: CardLoad) -> float:
    """Return units a second over one round."""
    units, begun = 0.0, time.perf_counter()
    while time.perf_counter() - begun < SECONDS:
        units += load.beat().units
    gl.finish()
    return units / (time.perf_counter() - begun)


def main() -> None:
    """Measure and print."""
    device = card_devices()[0]
    context = CardContext(device)
    gl = moderngl.get_context()
    label = " (a renderer on the processor: no card was measured)" if device.software else ""
    print(f"{gl.info['GL_RENDERER']}{label}")
    for name, (checked, unchecked) in pairs(gl, SOFTWARE if device.software else CARD).items():
        with_check, without = [], []
        for _ in range(ROUNDS):
            with_check.append(rate(gl, checked))
            without.append(rate(gl, unchecked))
        ratio = statistics.median(with_check) / statistics.median(without)
        verdict = "reached" if ratio >= WANTED[name] else "not reached"
        print(f"{name:12} {ratio:.2f} of the same work unchecked, over {WANTED[name]:g} {verdict}")
    context.close()


if __name__ == "__main__":
    main()
