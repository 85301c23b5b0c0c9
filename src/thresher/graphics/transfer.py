"""Transfer load of a card: random data goes there, is copied there, comes back, and every word is compared."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from thresher.graphics.results import MOST_WRONG, Beat, Source, Wrong

if TYPE_CHECKING:
    import moderngl

BLOCK = 16 << 20

Spoil = Callable[["moderngl.Buffer", int], None]
"""Called with the copy on the card and the beat before it comes back: tests turn bits over in it."""


class TransferLoad:
    """Blocks there and back. A unit is one byte that crossed the link."""

    def __init__(self, gl: "moderngl.Context", block: int = BLOCK, spoil: Spoil | None = None) -> None:
        """Take two blocks of the card's memory."""
        self._gl, self._spoil = gl, spoil
        self._there, self._copy = gl.buffer(reserve=block), gl.buffer(reserve=block)
        self._data = np.random.default_rng(11).integers(0, 1 << 32, block // 4, dtype=np.uint32)
        self._back = np.empty_like(self._data)
        self._beat = 0

    @property
    def covered(self) -> int:
        """Bytes of card memory that are checked: none beyond what passes."""
        return 0

    def beat(self) -> Beat:
        """Send a block, copy it on the card, fetch it, compare it."""
        self._beat += 1
        self._data ^= np.uint32(0x9E3779B9 * self._beat & 0xFFFFFFFF)
        self._there.write(self._data)
        self._gl.copy_buffer(self._copy, self._there)
        if self._spoil is not None:
            self._spoil(self._copy, self._beat)
        self._copy.read_into(self._back)
        units = 2.0 * self._data.nbytes
        if np.array_equal(self._data, self._back):
            return Beat(units)
        places = np.flatnonzero(self._data != self._back)
        wrong = [
            Wrong(Source.TRANSFER, self._beat, int(at), int(self._data[at]), int(self._back[at]))
            for at in places[:MOST_WRONG]
        ]
        return Beat(units, len(places), tuple(wrong))
