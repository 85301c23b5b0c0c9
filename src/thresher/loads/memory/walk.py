"""The memory load: a worker's own stretch of memory, walked through pattern by pattern, every word compared.

A beat is one step of a pattern over one chunk. Chunks come upwards, or downwards for steps that march down, so that
the order of addresses holds over the whole stretch.
"""

import re
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import msgspec
import numpy as np

from thresher.loads.exercise import Words
from thresher.loads.plan import LoadPlan
from thresher.model.findings import WordNature
from thresher.model.memory_patterns import Step, StepKind, steps_of, value_at

Kernel = Callable[..., int]

CHUNK_WORDS = 1 << 19
"""4 MiB: long enough that calls cost nothing, short enough that Stop need not wait."""

SIMULATED_WORDS = 1 << 12
SIMULATED_CHUNK = 1 << 10
_KEPT = 16
"""Wrong words that are looked at one by one in a chunk; all are counted."""
_LINE = 8
_FOUR_LINES = 32
_ALL = (1 << 64) - 1
_RE_READS = 3


class WrongCell(msgspec.Struct, frozen=True):
    """One wrong word: where, what it should hold, what was found, and what reading it again gave.

    `again` are readings before anything was written; there are none after a step that turns words, since it has written
    already. `after` are readings after the same value was written once more. Addresses in bytes; `physical` None where
    the kernel does not report. Words are 16 hex digits.
    """

    virtual: int
    physical: int | None
    expected: str
    found: str
    again: tuple[str, ...]
    after: tuple[str, ...] = ()

    @property
    def bits(self) -> tuple[int, ...]:
        """The bits that differ, 0 the lowest."""
        changed = int(self.expected, 16) ^ int(self.found, 16)
        return tuple(bit for bit in range(64) if changed >> bit & 1)

    @property
    def nature(self) -> WordNature:
        """What the readings say: stuck when rewriting does not help, a flip when only that does, else the way to it."""
        if self.after and all(each != self.expected for each in self.after):
            return WordNature.STUCK
        if not self.again:
            return WordNature.PASSING
        return WordNature.FLIP if all(each == self.found for each in self.again) else WordNature.ON_THE_WAY


@dataclass(frozen=True, slots=True)
class WrongCells:
    """What a beat found: the pattern, the step in words, how many words, and the first of them."""

    pattern: str
    step: str
    count: int
    shown: tuple[WrongCell, ...]


class Cells(Protocol):
    """How a simulated machine takes part: words whose every reading and writing goes through its faults."""

    def watched(self, begin: int, end: int) -> list[tuple[int, int]]:
        """Return the stretches of words between two places that must be gone through one by one, in order."""
        ...

    def read(self, place: int) -> int:
        """Read a word."""
        ...

    def write(self, place: int, value: int) -> None:
        """Write a word."""
        ...


class Stretch(Protocol):
    """Memory to walk through: its words, its address, and where a word is physically."""

    words: Words
    address: int

    def physical(self, word: int) -> int | None:
        """Return the physical address of a word."""
        ...


class SimulatedStretch:
    """A few words that stand for a share of a simulated machine's memory: from `base` on, `stride` bytes each."""

    def __init__(self, base: int, stride: int, words: int = SIMULATED_WORDS) -> None:
        """Begin with zeros."""
        self.words: Words = np.zeros(words, np.uint64)
        self.address = int(self.words.ctypes.data)
        self._base, self._stride = base, stride

    def physical(self, word: int) -> int | None:
        """Return the simulated machine's address of a word."""
        return self._base + word * self._stride


class MemoryWalk:
    """Walks through a stretch of memory; `do_beat` does the next step over the next chunk."""

    def __init__(
        self,
        plan: LoadPlan,
        stretch: Stretch,
        first_place: int = 0,
        cells: Cells | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        """`first_place` is the number of the first word among all workers' words, `cells` a simulated machine's."""
        self.plan = plan
        self._stretch = stretch
        self._first = first_place
        self._cells = cells
        self._clock = clock
        self._chunk = SIMULATED_CHUNK if cells is not None else CHUNK_WORDS
        self._places = np.zeros(_KEPT, np.int64)
        self._found = np.zeros(_KEPT, np.uint64)
        self._kernels = _compiled_kernels() if plan.compiled else _numpy_kernels()
        self._steps: list[tuple[str, Step]] = []
        self._at = 0
        self._chunk_at = 0
        self._waiting_since: float | None = None
        self.passes = 0
        """Passes through all patterns that are complete."""
        self.bytes_walked = 0
        self._begin_pass()

    def _begin_pass(self) -> None:
        seed = self.plan.seed + self.passes
        self._steps = [(name, step) for name in self.plan.patterns for step in steps_of(name, seed)]
        self._at = self._chunk_at = 0

    def restart(self, stretch: Stretch, first_place: int) -> None:
        """Continue with other memory from the beginning of a pass."""
        self._stretch, self._first = stretch, first_place
        self._begin_pass()

    @property
    def chunks(self) -> int:
        """Chunks of the stretch."""
        return -(-len(self._stretch.words) // self._chunk)

    @property
    def steps(self) -> int:
        """Steps of a whole pass, waiting left out."""
        return sum(step.kind is not StepKind.WAIT for _, step in self._steps)

    @property
    def pattern(self) -> str:
        """The pattern under way."""
        return self._steps[self._at][0]

    @property
    def waiting(self) -> bool:
        """Whether retention waits."""
        return self._steps[self._at][1].kind is StepKind.WAIT

    @property
    def pass_ended(self) -> bool:
        """Whether the newest beat ended a pass."""
        return self.passes > 0 and self._at == 0 and self._chunk_at == 0

    def do_beat(self, disturb: Callable[[Words], None] | None = None) -> WrongCells | None:
        """Do the next beat. `disturb` may spoil the chunk before it is read, as a simulated bus does."""
        name, step = self._steps[self._at]
        if step.kind is StepKind.WAIT:
            self._wait()
            return None
        count = self.chunks
        number = count - 1 - self._chunk_at if step.kind is StepKind.TURN_DOWN else self._chunk_at
        begin = number * self._chunk
        end = min(len(self._stretch.words), begin + self._chunk)
        wrong = self._carry_out(name, step, begin, end, disturb)
        self.bytes_walked += (end - begin) * 8
        self._chunk_at += 1
        if self._chunk_at == count:
            self._next_step()
        return wrong

    def _wait(self) -> None:
        now = self._clock()
        if self._waiting_since is None:
            self._waiting_since = now
        if now - self._waiting_since >= self.plan.wait_s:
            self._waiting_since = None
            self._next_step()

    def _next_step(self) -> None:
        self._chunk_at = 0
        self._at += 1
        if self._at == len(self._steps):
            self.passes += 1
            self._begin_pass()

    def _carry_out(
        self, name: str, step: Step, begin: int, end: int, disturb: Callable[[Words], None] | None
    ) -> WrongCells | None:
        words = self._stretch.words[begin:end]
        watched = self._watched(begin, end)
        if step.kind is StepKind.MOVE:
            _move(words)
            for low, high in watched:
                for place in range(low, high):
                    _write(self._cells, self._stretch.words, place, int(self._stretch.words[place]))
            return None
        before = words.copy() if disturb is not None else None
        if disturb is not None:
            disturb(words)
        wrong: list[tuple[int, int]] = []
        total = self._in_pieces(step, begin, end, watched, wrong)
        if before is not None and step.kind is StepKind.CHECK:
            words[:] = before  # what a bus spoils on the way is not in the cells
        if not total:
            return None
        shown = tuple(self._look_again(step, place, found) for place, found in wrong[:_KEPT])
        return WrongCells(name, _step_words(step), total, shown)

    def _watched(self, begin: int, end: int) -> list[tuple[int, int]]:
        """Return what must be gone through one by one, widened to what kernels leave whole."""
        merged: list[tuple[int, int]] = []
        for first, last in self._cells.watched(begin, end) if self._cells is not None else ():
            low, high = first // _FOUR_LINES * _FOUR_LINES, min(end, -(-last // _FOUR_LINES) * _FOUR_LINES)
            if merged and low <= merged[-1][1]:
                merged[-1] = (merged[-1][0], max(high, merged[-1][1]))
            else:
                merged.append((low, high))
        return merged

    def _in_pieces(
        self, step: Step, begin: int, end: int, watched: list[tuple[int, int]], wrong: list[tuple[int, int]]
    ) -> int:
        """Let kernels do what nothing watches and go through the rest word by word, in the order of the step."""
        pieces, at = [], begin
        for low, high in watched:
            pieces += [(at, low, False), (low, high, True)]
            at = high
        pieces = [piece for piece in (*pieces, (at, end, False)) if piece[0] < piece[1]]
        if step.kind is StepKind.TURN_DOWN:
            pieces.reverse()
        return sum(
            self._word_by_word(step, low, high, wrong) if one_by_one else self._by_kernel(step, low, high, wrong)
            for low, high, one_by_one in pieces
        )

    def _by_kernel(self, step: Step, begin: int, end: int, wrong: list[tuple[int, int]]) -> int:
        fill, *checking = self._kernels[step.background]
        place, turn = self._first + begin, _ALL if step.turned else 0
        words = self._stretch.words[begin:end]
        address, lines = self._stretch.address + begin * 8, (end - begin) // _LINE
        arguments = (address, lines, place, step.parameter, turn, words)
        if step.kind is StepKind.FILL:
            fill(*arguments)
            return 0
        kernel = checking[(StepKind.CHECK, StepKind.TURN_UP, StepKind.TURN_DOWN).index(step.kind)]
        count = int(kernel(*arguments, self._places, self._found))
        kept = min(count, _KEPT)
        wrong += [
            (begin + int(at), int(found)) for at, found in zip(self._places[:kept], self._found[:kept], strict=True)
        ]
        return count

    def _word_by_word(self, step: Step, begin: int, end: int, wrong: list[tuple[int, int]]) -> int:
        cells, count = self._cells, 0
        assert cells is not None
        places = range(end - 1, begin - 1, -1) if step.kind is StepKind.TURN_DOWN else range(begin, end)
        for place in places:
            expected = value_at(step, self._first + place)
            if step.kind is not StepKind.FILL:
                found = cells.read(place)
                if found != expected:
                    count += 1
                    wrong.append((place, found))
            if step.kind is StepKind.FILL:
                cells.write(place, expected)
            elif step.kind is not StepKind.CHECK:
                cells.write(place, expected ^ _ALL)
        return count

    def _look_again(self, step: Step, place: int, found: int) -> WrongCell:
        expected = value_at(step, self._first + place)
        turned = step.kind in (StepKind.TURN_UP, StepKind.TURN_DOWN)
        again = () if turned else self._read_again(place)
        _write(self._cells, self._stretch.words, place, expected)
        after = self._read_again(place)
        if turned:
            _write(self._cells, self._stretch.words, place, expected ^ _ALL)
        return WrongCell(
            self._stretch.address + place * 8,
            self._stretch.physical(place),
            f"{expected:016x}",
            f"{found:016x}",
            again,
            after,
        )

    def _read_again(self, place: int) -> tuple[str, ...]:
        """Read a word several times, each time from memory and not from a cache."""
        cells, read = self._cells, []
        for _ in range(_RE_READS):
            if cells is None:
                self._kernels["flush"][0](self._stretch.address + place * 8)
            read.append(cells.read(place) if cells is not None else int(self._stretch.words[place]))
        return tuple(f"{each:016x}" for each in read)


def _write(cells: Cells | None, words: Words, place: int, value: int) -> None:
    if cells is not None:
        cells.write(place, value)
    else:
        words[place] = value


def _step_words(step: Step) -> str:
    turned = ", complement" if step.turned else ""
    background = f"{step.parameter:016x}" if step.background == "flat" else step.background
    return f"{step.kind.value}, {background}{turned}"


def _move(words: Words) -> None:
    """Copy the halves over each other and back in long moves; what was there is there again."""
    half = len(words) // 2
    kept = words[:half].copy()
    words[:half] = words[half : 2 * half]
    words[half : 2 * half] = kept
    words[:half], words[half : 2 * half] = words[half : 2 * half].copy(), words[:half].copy()


def _compiled_kernels() -> dict[str, tuple[Kernel, ...]]:
    from thresher.loads.kernels.cells import KERNELS, flush

    return {**KERNELS, "flush": (flush,)}


def _numpy_kernels() -> dict[str, tuple[Kernel, ...]]:
    backgrounds: dict[str, Callable[[Words, int], Words]] = {
        "flat": lambda places, parameter: np.full(len(places), parameter, np.uint64),
        "checkered": lambda places, parameter: np.uint64(parameter) ^ (np.uint64(0) - (places & np.uint64(1))),
        "addressed": lambda places, parameter: np.uint64(parameter) + places * np.uint64(8),
        "scattered": _scattered_words,
    }
    kernels: dict[str, tuple[Kernel, ...]] = {name: _by_numpy(value) for name, value in backgrounds.items()}
    kernels["flush"] = (Eviction(),)
    return kernels


_LEAST_EVICTED, _MOST_EVICTED = 32 << 20, 256 << 20
_CACHES = Path("/sys/devices/system/cpu/cpu0/cache")


def largest_cache_bytes() -> int:
    """Return the size of the largest cache that the kernel lists (ABI/testing/sysfs-devices-system-cpu), 0 for none."""
    sizes = []
    for index in range(8):
        try:
            text = (_CACHES / f"index{index}" / "size").read_text(encoding="ascii").strip()
        except OSError:
            break
        if match := re.fullmatch(r"(\d+)([KM])", text):
            sizes.append(int(match[1]) << (10 if match[2] == "K" else 20))
    return max(sizes, default=0)


class Eviction:
    """Pushes a line out of all caches by reading other memory, where no instruction for it is available.

    The memory is taken when it is first needed: twice the largest cache, every page of it written, since pages that
    were never written are all one page of zeros.
    """

    def __init__(self) -> None:
        """Nothing is taken yet."""
        self.words: Words | None = None

    def __call__(self, _address: int) -> int:
        """Read all of it."""
        if self.words is None:
            size = min(_MOST_EVICTED, max(_LEAST_EVICTED, 2 * largest_cache_bytes()))
            self.words = np.arange(size // 8, dtype=np.uint64)
        return int(self.words.sum())


def _scattered_words(places: Words, seed: int) -> Words:
    z = np.uint64(seed) + places * np.uint64(0x9E3779B97F4A7C15)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    return np.asarray(z ^ (z >> np.uint64(31)))


def _by_numpy(value: Callable[[Words, int], Words]) -> tuple[Kernel, ...]:
    """The same four in NumPy, which walks upwards inside a chunk whatever is asked: downwards holds between chunks."""

    def known(lines: int, first: int, parameter: int, turn: int) -> Words:
        places = np.arange(first, first + lines * _LINE, dtype=np.uint64)
        with np.errstate(over="ignore"):
            return value(places, parameter) ^ np.uint64(turn)

    def fill(_address: int, lines: int, first: int, parameter: int, turn: int, words: Words) -> int:
        words[:] = known(lines, first, parameter, turn)
        return 0

    def check(
        _address: int, lines: int, first: int, parameter: int, turn: int, words: Words, places: Words, found: Words
    ) -> int:
        wrong = np.flatnonzero(words != known(lines, first, parameter, turn))
        kept = wrong[: len(places)]
        places[: len(kept)], found[: len(kept)] = kept, words[kept]
        return len(wrong)

    def turn_up(
        address: int, lines: int, first: int, parameter: int, turn: int, words: Words, places: Words, found: Words
    ) -> int:
        count = check(address, lines, first, parameter, turn, words, places, found)
        words[:] = known(lines, first, parameter, turn ^ _ALL)
        return count

    return fill, check, turn_up, turn_up
