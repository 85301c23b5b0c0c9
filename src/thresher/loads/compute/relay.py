"""Messages passed between cores through shared cache lines, every pair of cores over time.

Both of a pair are in it at once: one sends, the other answers, each checks what came by number and checksum. Pairs
are drawn up as at a tournament, so that all cores are busy at the same time and each meets each other in turn.
"""

import os
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from thresher.loads.exercise import WrongWord
from thresher.loads.plan import LoadPlan

MESSAGES = 20_000
"""Messages of a meeting, compiled: a few milliseconds."""
MESSAGES_BY_NUMPY = 400
MESSAGES_SIMULATED = 8

_LINE_WORDS = 8
_PAIR_LINES = 2
_PATIENCE = 200_000
_SPINS_BY_NUMPY = 2_000
_WORD = (1 << 64) - 1

Line = npt.NDArray[np.int64]
"""Words of a cache line, or a few numbers of a worker's own."""


def relay_bytes(workers: int) -> int:
    """Return the shared bytes: a line each way for every pair, and the times."""
    return workers * workers * (_PAIR_LINES * _LINE_WORDS + 1) * 8


def partner(worker: int, turn: int, workers: int) -> int | None:
    """Return whom a worker meets in a turn, None when it sits out; after `turns` turns each has met each.

    The circle method: the last stays, the others move on by one.
    """
    seats = workers + workers % 2
    fixed = seats - 1
    if worker == fixed:
        other = turn * (seats // 2) % fixed
    else:
        other = (turn - worker) % fixed
        if other == worker:
            other = fixed
    return other if other < workers else None


def turns(workers: int) -> int:
    """Return after how many turns each has met each."""
    return max(1, workers + workers % 2 - 1)


@dataclass(frozen=True, slots=True)
class WrongMessage:
    """A message that did not arrive as it was sent: from whom, and its word."""

    partner: int
    word: WrongWord


class Relay:
    """One worker's side of all its meetings."""

    def __init__(
        self, plan: LoadPlan, memory: memoryview, worker: int, workers: int, paced: bool, turn: int = 0
    ) -> None:
        """Lay lines and times over `memory`, which must hold `relay_bytes(workers)`, and begin with a turn."""
        self._worker, self._workers = worker, workers
        words = workers * workers * _PAIR_LINES * _LINE_WORDS
        self._lines = np.frombuffer(memory, np.int64, words)
        self._times = np.frombuffer(memory, np.float64, workers * workers, words * 8).reshape(workers, workers)
        self._paced = paced
        self._turn = turn
        self._meeting: tuple[int, int, int] | None = None
        """Partner, next number and last number of the meeting under way."""
        self._state = np.zeros(6, np.int64)
        self._begun = 0.0
        self._many = MESSAGES_SIMULATED if paced else MESSAGES if plan.compiled else MESSAGES_BY_NUMPY
        self._kernels: tuple[Callable[..., int], Callable[..., int]] | None = None
        """Compiled: the side that leads, and the one that answers."""
        self._patience = _SPINS_BY_NUMPY
        if plan.compiled and not paced:
            from thresher.loads.kernels.passing import return_messages, serve_messages

            self._kernels, self._patience = (serve_messages, return_messages), _PATIENCE
        self.messages = 0
        """Round trips that this worker led."""

    def meet(self, spoil: Callable[[Line], None] | None = None) -> tuple[bool, WrongMessage | None]:
        """Continue with the meeting under way; return whether it ended, and the last wrong message if there was one.

        `spoil` may change this worker's line after it was written, as a simulated interconnect does.
        """
        other = partner(self._worker, self._turn, self._workers)
        if other is None:
            self._turn += 1
            return False, None  # whoever sits out has nothing to compare
        round_number = self._turn // turns(self._workers)
        if self._meeting is None:
            first = round_number * self._many + 1
            self._meeting = (other, first, first + self._many - 1)
            self._state[:] = (signed(first * 0x9E3779B97F4A7C15 & _WORD), 0, 0, 0, 0, 0)
            self._begun = time.perf_counter()
        _, number, last = self._meeting
        leads = self._worker < other
        mine, theirs = self._line(self._worker, other), self._line(other, self._worker)
        if self._kernels is None:
            following = _pass_by_numpy(
                self._lines, mine, theirs, number, last, self._patience, self._state, leads, spoil
            )
        else:
            base, kernel = int(self._lines.ctypes.data), self._kernels[0 if leads else 1]
            following = int(kernel(base + mine * 8, base + theirs * 8, number, last, self._patience, self._state))
        if leads:
            self.messages += following - number
        self._meeting = (other, following, last)
        return self._after(other, following, last, leads)

    def _after(self, other: int, following: int, last: int, leads: bool) -> tuple[bool, WrongMessage | None]:
        wrong = None
        if self._state[2]:
            number, expected, found = (int(each) & _WORD for each in self._state[3:6])
            wrong = WrongMessage(other, WrongWord(number, f"{expected:016x}", f"{found:016x}"))
            self._state[2] = 0
        if following <= last:
            if not self._paced:
                os.sched_yield()  # the other side may wait for this core
            return False, wrong
        if leads and not self._paced:
            each = (time.perf_counter() - self._begun) / self._many * 1e9
            before = self._times[self._worker, other]
            # the shortest is what the hardware takes; longer ones are the neighbours'
            self._times[self._worker, other] = self._times[other, self._worker] = min(before or each, each)
        self._meeting = None
        self._turn += 1
        return True, wrong

    def _line(self, writer: int, reader: int) -> int:
        return (writer * self._workers + reader) * _PAIR_LINES * _LINE_WORDS

    @property
    def partner(self) -> int | None:
        """Whom this worker meets now."""
        return partner(self._worker, self._turn, self._workers)


def round_trip_times(memory: memoryview, workers: int) -> list[list[float]]:
    """Return the shortest round trip seen between each two workers in nanoseconds, 0 where none was measured."""
    words = workers * workers * _PAIR_LINES * _LINE_WORDS
    times = np.frombuffer(memory, np.float64, workers * workers, words * 8).reshape(workers, workers)
    return [[float(each) for each in row] for row in times]


def _seal(number: int, payload: int) -> int:
    return signed(((payload ^ (number << 17)) * 0x2545F4914F6CDD1D + number) & _WORD)


def _answer(number: int, payload: int) -> int:
    return signed((payload * 6364136223846793005 + (number ^ 0x5851F42D)) & _WORD)


def signed(value: int) -> int:
    """Return a 64-bit word as a number with a sign."""
    return value - (1 << 64) if value >> 63 else value


def _pass_by_numpy(
    lines: Line,
    mine: int,
    theirs: int,
    number: int,
    last: int,
    patience: int,
    state: Line,
    leads: bool,
    spoil: Callable[[Line], None] | None,
) -> int:
    """Both sides without a compiler. x86 keeps the order of stores; elsewhere the checksum catches what is late."""
    while number <= last:
        if leads and state[1] == 0:
            _put(lines, mine, number, int(state[0]), spoil)
            spoil = None
            state[1] = 1
        spins = 0
        while int(lines[theirs]) != number:
            spins += 1
            if spins > patience:
                return number
            if spins % 16 == 0:
                os.sched_yield()
        payload, sum_found = int(lines[theirs + 1]), int(lines[theirs + 2])
        expected = _answer(number, int(state[0])) if leads else payload
        if payload != expected or sum_found != _seal(number, payload):
            state[2] += 1
            expected_sum = _seal(number, payload)
            state[3:6] = (number, expected, payload) if payload != expected else (number, expected_sum, sum_found)
        if leads:
            state[0], state[1] = expected, 0
        else:
            _put(lines, mine, number, _answer(number, payload), spoil)
            spoil = None
        number += 1
    return number


def _put(lines: Line, at: int, number: int, payload: int, spoil: Callable[[Line], None] | None) -> None:
    lines[at + 1], lines[at + 2] = payload, _seal(number, payload)
    if spoil is not None:
        spoil(lines[at + 1 : at + 2])
    lines[at] = number
