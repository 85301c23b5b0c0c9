"""Loads of a card that takes commands in this process (a simulated one), every result compared here.

The kinds of work, their known answers and what a wrong result is are those of the loads on a real card.
"""

import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt

from thresher.graphics.compute import known_answers
from thresher.graphics.mirror import MirrorWriter
from thresher.graphics.pictures import keep_difference
from thresher.graphics.results import MOST_WRONG, CardReport, FrameTimes, Source, Wrong
from thresher.model.card_port import CardPort, CardUse
from thresher.model.shapes import edges_per_second, mean_share
from thresher.model.sheet import Shape

Words = npt.NDArray[np.uint32]
_SEED, _LANES, _TURNS = 0x1D872B41, 64, 256
_FRAMES = 12
_SAMPLES = 120
_MOST_PICTURES = 12
_LANES_PER_S, _BYTES_PER_S = 4.0e9, 3.0e11
"""What a simulated card is taken to do at its full clock; its results are labelled as simulated."""
_FULL_FRAME_MS = 6.2
_BLOCK_WORDS = 4096
_NAMES = {
    Source.COMPUTE: "whole numbers",
    Source.MEMORY: "",
    Source.PIXEL: "",
    Source.TRANSFER: "to the card and back",
}

Beat = tuple[int, tuple[Wrong, ...], str]


class CommandedLoad:
    """One use of one card, on the machine's own time."""

    def __init__(
        self, card: CardPort, use: CardUse, shape: Shape | None = None, folder: Path | None = None, mirror: str = ""
    ) -> None:
        """Work the references out. Raises CardLost where the card does not answer."""
        self._card, self.use, self._shape, self._folder = card, use, shape or Shape(), folder
        self._mirror = MirrorWriter(mirror, card.frame_size) if mirror and use is CardUse.RASTER else None
        self._at = 0.0
        self._beats, self._pictures, self._wrong_count = 0, 0, 0
        self._units, self._busy_s = 0.0, 0.0
        self._sums: dict[int, tuple[int, bytes]] = {}
        self._passes = self._memory_passes()
        self._rng = np.random.default_rng(17)
        self._do: dict[CardUse, Callable[[], Beat]] = {
            CardUse.COMPUTE: self._compute,
            CardUse.RASTER: self._raster,
            CardUse.MEMORY: lambda: next(self._passes),
            CardUse.TRANSFER: self._transfer,
        }
        self._expected = known_answers(_SEED, _LANES, _TURNS) if use is CardUse.COMPUTE else None
        if use is CardUse.RASTER:
            for number in range(_FRAMES):
                self._sums[number] = self._reference(number)

    def _reference(self, number: int) -> tuple[int, bytes]:
        """Draw a frame until it came out the same twice."""
        before = self._card.draw(number)
        for _ in range(5):
            again = self._card.draw(number)
            if again == before:
                break
            before = again
        return zlib.crc32(before), before

    def advance(self, elapsed_s: float, allowed: float = 1.0) -> CardReport:
        """Work until so many seconds after the beginning. Raises CardLost once the card does not answer."""
        seconds = max(0.0, elapsed_s - self._at)
        share = mean_share(self._shape, self._at, elapsed_s, 0, 1) * allowed if seconds else 0.0
        steady = mean_share(self._shape, elapsed_s, elapsed_s + max(seconds, 0.1), 0, 1) * allowed
        self._card.keep_busy(self.use, steady, edges_per_second(self._shape))
        self._at = elapsed_s
        if not share:
            return self._report((), (), None)
        self._beats += 1
        count, wrong, picture = self._do[self.use]()
        self._wrong_count += count
        self._busy_s += seconds * share
        times = tuple(round(self._card.frame_ms(), 2) for _ in range(_SAMPLES))
        self._units += self._done(seconds * share, float(np.median(times)))
        frames = FrameTimes(round(float(np.median(times)), 2), max(times), times)
        return self._report(wrong[:MOST_WRONG], (picture,) if picture else (), frames)

    def _done(self, seconds: float, frame_ms: float) -> float:
        """Return how many units of work that is: the rates follow the card's clock as its frames do."""
        match self.use:
            case CardUse.RASTER:
                return seconds * 1000.0 / frame_ms
            case CardUse.TRANSFER:
                return seconds * self._card.bytes_per_s()
            case CardUse.MEMORY:
                return seconds * _BYTES_PER_S * _FULL_FRAME_MS / frame_ms
        return seconds * _LANES_PER_S * _FULL_FRAME_MS / frame_ms

    def stop(self) -> None:
        """Send no more commands."""
        self._card.keep_busy(self.use, 0.0)

    def _report(self, wrong: tuple[Wrong, ...], pictures: tuple[str, ...], frames: FrameTimes | None) -> CardReport:
        return CardReport(
            beats=self._beats,
            units=self._units,
            seconds=self._at,
            busy_s=self._busy_s,
            wrong_count=self._wrong_count,
            wrong=wrong,
            pictures=pictures,
            frames=frames,
            frame_width=self._card.frame_size[0] if self.use is CardUse.RASTER else 0,
            covered=int(self._card.memory_bytes * 0.9) if self.use is CardUse.MEMORY else 0,
        )

    # ---- the kinds of work

    def _compute(self) -> Beat:
        found = np.frombuffer(self._card.chains(_SEED, _LANES, _TURNS), dtype=np.uint32)
        assert self._expected is not None
        return self._compared(Source.COMPUTE, self._expected, found)

    def _raster(self) -> Beat:
        number = self._beats % _FRAMES
        pixels = self._card.draw(number)
        if self._mirror is not None:
            self._mirror.show(number, pixels)
        total, expected = self._sums[number]
        if zlib.crc32(pixels) == total:
            return 0, (), ""
        count, wrong, _ = self._compared(Source.PIXEL, _words(expected), _words(pixels), f"frame {number}")
        return count, wrong, self._keep(expected, pixels)

    def _keep(self, expected: bytes, found: bytes) -> str:
        if self._folder is None or self._pictures >= _MOST_PICTURES:
            return ""
        self._pictures += 1
        wide, high = self._card.frame_size
        shape = (high, wide, 4)
        path = self._folder / f"wrong-frame-{self._beats:06d}.png"
        frames = (np.frombuffer(content, dtype=np.uint8).reshape(shape) for content in (expected, found))
        return keep_difference(path, *frames)

    def _memory_passes(self) -> Iterator[Beat]:
        """Write the whole of a pattern, then read it back and compare it, one pattern a beat."""
        words = self._card.words
        places = np.arange(words, dtype=np.uint32)
        while True:
            for title, expected in (
                ("fixed 00000000", np.zeros(words, np.uint32)),
                ("fixed ffffffff", np.full(words, 0xFFFFFFFF, np.uint32)),
                ("fixed 55555555", np.full(words, 0x55555555, np.uint32)),
                ("fixed aaaaaaaa", np.full(words, 0xAAAAAAAA, np.uint32)),
                ("walking bit", np.uint32(1) << (places & np.uint32(31))),
                ("address in itself", places),
                ("random", self._rng.integers(0, 1 << 32, words, dtype=np.uint32)),
            ):
                self._card.write(0, expected.tobytes())
                found = _words(self._card.read(0, words))
                yield self._compared(Source.MEMORY, expected, found, title)

    def _transfer(self) -> Beat:
        sent = self._rng.integers(0, 1 << 32, _BLOCK_WORDS, dtype=np.uint32)
        return self._compared(Source.TRANSFER, sent, _words(self._card.send_back(sent.tobytes())))

    def _compared(self, source: Source, expected: Words, found: Words, detail: str = "") -> Beat:
        places = np.flatnonzero(expected != found)
        scale = self._card.memory_bytes // 4 // self._card.words if source is Source.MEMORY else 1
        wrong = tuple(
            Wrong(source, self._beats, int(at) * scale, int(expected[at]), int(found[at]), detail or _NAMES[source])
            for at in places[:MOST_WRONG]
        )
        return len(places), wrong, ""


def _words(content: bytes) -> Words:
    return np.frombuffer(content, dtype=np.uint32)
