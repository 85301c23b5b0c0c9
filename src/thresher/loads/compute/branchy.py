"""Sorting, packing and unpacking: branches that cannot be foreseen, at high clock and low power.

The answer is known three times: the sorted words are those drawn, in order; the packed bytes are those that another
core got; what is unpacked is the text that was packed.
"""

import zlib
from collections.abc import Callable

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Plain, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ALL_PLACES, ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.model.sheet import WorkingSet

_LEVEL = 6
_LETTERS = np.frombuffer(b"etaoinshrdlucmfwygpbvkxqjz ,.\n0123", np.uint8)


def branchy_bytes(plan: LoadPlan) -> int:
    """Return the bytes of words, their order, texts and known digests."""
    return 2 * padded(plan.sets * plan.size * 4) + padded(plan.sets * plan.size * 4) + padded(plan.sets * 8)


class Sorting(Plain):
    """Words to sort and texts to pack, one of each a beat; `size` words and four bytes of text for each."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay words and texts over `memory`, which must hold `branchy_bytes(plan)`."""
        self.plan = plan
        shape = (plan.sets, plan.size)
        self._words, self._sorted, texts = carve(memory, np.uint32, shape, shape, shape)
        self._texts = texts.view(np.uint8)
        at = 3 * padded(plan.sets * plan.size * 4)
        (self._digests,) = carve(memory[at:], np.uint64, (plan.sets,))
        self._result = aligned((2 * plan.size + 2,), np.uint32)
        self._stack = np.zeros(256, np.int64)
        self._sort: Callable[..., object] | None = None
        if plan.compiled:
            from thresher.loads.kernels.sifting import sort_words

            self._sort = sort_words

    def make(self) -> None:
        """Draw words and texts, note their order and what the texts pack into."""
        words, texts = self._drawn()
        self._words[:], self._texts[:] = words, texts
        self._sorted[:] = np.sort(words, axis=1)
        for index, text in enumerate(texts):
            self._digests[index] = _digest(zlib.compress(text.tobytes(), _LEVEL))

    def _drawn(self) -> tuple[Array, Array]:
        rng = np.random.default_rng(self.plan.seed)
        words = rng.integers(0, 1 << 32, self._words.shape, np.uint32)
        # letters by how common they are, with stretches that come again, so that packing has something to find
        sets, length = self._texts.shape
        text = _LETTERS[np.minimum(rng.geometric(0.09, length) - 1, len(_LETTERS) - 1)]
        for _ in range(length // 160):
            source, target = rng.integers(0, length - 64, 2)
            text[target : target + 48] = text[source : source + 48].copy()
        return words, np.array([np.roll(text, 131 * index) for index in range(sets)])

    def confirm(self) -> list[int]:
        """Draw, sort by another method and pack again; return the sets that do not agree."""
        words, texts = self._drawn()
        return [
            index
            for index in range(self.plan.sets)
            if not (
                np.array_equal(words[index], self._words[index])
                and np.array_equal(texts[index], self._texts[index])
                and np.array_equal(np.array(sorted(words[index].tolist()), np.uint32), self._sorted[index])
                and _digest(zlib.compress(texts[index].tobytes(), _LEVEL)) == int(self._digests[index])
            )
        ]

    def compute(self, beat: int) -> bool:
        """Sort, pack and unpack one set."""
        index, size = beat % self.plan.sets, self.plan.size
        words = self._result[:size]
        words[:] = self._words[index]
        if self._sort is not None:
            self._sort(words, self._stack)
        else:
            words.sort(kind="heapsort")
        packed = zlib.compress(self._texts[index].tobytes(), _LEVEL)
        self._result[2 * size :].view(np.uint64)[0] = _digest(packed)
        text = self._result[size : 2 * size].view(np.uint8)
        try:
            unpacked = zlib.decompress(packed)
        except zlib.error:
            unpacked = b""  # not even a packed text: every byte of it counts as wrong
        text[:] = np.frombuffer(unpacked, np.uint8) if len(unpacked) == len(text) else ~self._texts[index]
        return same_bits(self._result, self._whole(index))

    def _whole(self, index: int) -> Array:
        text = self._texts[index].view(np.uint32)
        return np.concatenate((self._sorted[index], text, self._digests[index : index + 1].view(np.uint32)))

    def found(self) -> Words:
        """Return sorted words, unpacked text and digest."""
        return as_words(self._result)

    def expected(self, beat: int) -> Words:
        """Return them as they are known."""
        return as_words(self._whole(beat % self.plan.sets))


def _digest(data: bytes) -> int:
    return zlib.crc32(data) | zlib.adler32(data) << 32


def _sized(by: Sizing) -> tuple[int, int]:
    """Numbers to sort, and sets of them."""
    return 12_288, 1 if by.place is WorkingSet.CORE else max(1, min(1024, by.wanted // (3 * 12_288 * 4)))


LOAD = exercise_load(
    "branchy",
    LoadWords(
        "branch prediction, sorting and packing: high clock at low power",
        "cores that fail at their highest boost, where voltage is shortest",
        "everything that needs heat or a high current",
    ),
    ALL_PLACES,
    _sized,
    ExerciseForm(branchy_bytes, Sorting),
    Stress(0.5, 0.1),
    Small(256, 1, lambda plan: plan.size),
    kernels=("thresher.loads.kernels.sifting",),
)
