"""Wrong words that a shader counted in its fault buffer (see `shaders.JUDGE`)."""

from typing import TYPE_CHECKING

import numpy as np

from thresher.graphics.results import MOST_WRONG, Source, Wrong
from thresher.graphics.shaders import FAULT_BYTES

if TYPE_CHECKING:
    import moderngl

BINDING = 2


class FaultBuffer:
    """The buffer on the card, emptied before each check."""

    def __init__(self, gl: "moderngl.Context") -> None:
        """Make it."""
        self._buffer = gl.buffer(reserve=FAULT_BYTES)
        self._empty = bytes(FAULT_BYTES)

    def clear(self) -> None:
        """Empty it and bind it for the next check."""
        self._buffer.write(self._empty)
        self._buffer.bind_to_storage_buffer(BINDING)

    def mark(self) -> int:
        """Return what stands in the place of the count: 0 where nothing was noted. It waits."""
        return int.from_bytes(self._buffer.read(4), "little")

    def read(self, source: Source, beat: int, detail: str, base: int = 0) -> tuple[int, tuple[Wrong, ...]]:
        """Return how many words were wrong and the first of them; `base` is added to their places. It waits."""
        words = np.frombuffer(self._buffer.read(), dtype=np.uint32)
        count = int(words[0])
        rows = words[4:].reshape(-1, 4)[: min(count, MOST_WRONG)]
        wrong = [Wrong(source, beat, base + int(row[0]), int(row[1]), int(row[2]), detail) for row in rows]
        return count, tuple(sorted(wrong, key=lambda each: each.place))

    def release(self) -> None:
        """Give it back."""
        self._buffer.release()
