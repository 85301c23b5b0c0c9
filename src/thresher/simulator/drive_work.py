"""What a simulated drive does when it is read, written or told to test itself, and what becomes of it meanwhile."""

import errno
import threading
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from thresher.model.drive_commands import BlockSource
from thresher.simulator.scenario import DriveSpec

SECTOR = 512
EXTENDED_MINUTES, SHORT_MINUTES = 95, 2
_OUTER_RATE, _FLASH_RATE = 200e6, 2e9
"""Bytes a second of a drive that turns, on its outermost track, and of flash."""
_RETRY_S = 1.6
_STALL_S = 4.0
_WEAK_SHARE = 0.004
"""Around a sector that cannot be read so much of the medium is weak, and reads are tried again."""
_MIB = 1 << 20
_REQUEST = 256 << 10
_SLOWED_C, _SLOWED = 70.0, 0.35
_WARM_UP_S, _COOL_DOWN_S = 180.0, 420.0


@dataclass(frozen=True, slots=True)
class EndedTest:
    """A self-test that has ended: whether it was the long one, its state (0 passed, 1 aborted, 7 failed), its hour."""

    extended: bool
    state: int
    hours: int


@dataclass(slots=True)
class DriveState:
    """What has become of a drive since the machine was started. `now` is the machine's clock in seconds."""

    spec: DriveSpec
    now: Callable[[], float]
    pending: list[int] = field(default_factory=list)
    reallocated: int = 0
    link_crc: int = 0
    worked_s: float = 0.0
    use_taken_s: float = 0.0
    testing: bool | None = None
    test_began: float = 0.0
    tests: list[EndedTest] = field(default_factory=list)
    _heat: float = 0.0
    _heat_at: float = 0.0
    _heat_worked: float = 0.0
    _rng: np.random.Generator = field(init=False)

    def __post_init__(self) -> None:
        """Begin as the scenario has it."""
        self._rng = np.random.default_rng(len(self.spec.serial) * 1009 + self.spec.hours)
        self.pending = list(self.spec.pending)
        self.reallocated = self.spec.reallocated
        self.link_crc = self.spec.link_crc
        if self.spec.failed_test_lba is not None:
            self.tests.append(EndedTest(True, 7, self.spec.hours - 3))

    @property
    def gone(self) -> bool:
        """Whether it has left the bus."""
        limit = self.spec.gone_after_s
        return self.spec.silent or (limit is not None and self.worked_s >= limit)

    @property
    def warm_c(self) -> float:
        """Its temperature: it warms with its work and cools while it rests."""
        now = self.now()
        rest = max(0.0, now - self._heat_at - (self.worked_s - self._heat_worked))
        self._heat *= float(np.exp(-rest / _COOL_DOWN_S))
        self._heat_at, self._heat_worked = now, self.worked_s
        return self.spec.idle_c + self._heat

    def work(self, seconds: float) -> None:
        """Let it work for so long; a dying one loses sectors meanwhile."""
        self.worked_s += seconds
        self._heat += (self.spec.heats_k - self._heat) * (1.0 - float(np.exp(-seconds / _WARM_UP_S)))
        for _ in range(int(self._rng.poisson(self.spec.decays * seconds / 3600.0))):
            self.pending.append(int(self._rng.integers(1, self.spec.size_bytes // SECTOR)))

    def count_power_cycle(self) -> None:
        """It has been without power and comes up again."""
        self.spec = replace(self.spec, power_cycles=self.spec.power_cycles + 1)

    def take_use(self, seconds: float) -> float:
        """Return the share of the last so many seconds that it has worked, 0 to 1."""
        worked, self.use_taken_s = self.worked_s - self.use_taken_s, self.worked_s
        return min(1.0, worked / seconds) if seconds > 0 else 0.0

    # ---- self-tests

    @property
    def test_minutes(self) -> int:
        """How long the test that runs takes."""
        return EXTENDED_MINUTES if self.testing else SHORT_MINUTES

    def start_test(self, extended: bool) -> None:
        """Begin a self-test."""
        self.testing, self.test_began = extended, self.now()

    def abort_test(self) -> None:
        """End the test that runs before its time."""
        if self.testing is not None:
            self.tests.insert(0, EndedTest(self.testing, 1, self.spec.hours))
            self.testing = None

    def test_left(self) -> int | None:
        """Return how much of the test is left in per cent, None where none runs."""
        if self.testing is None:
            return None
        left = 1.0 - (self.now() - self.test_began) / (self.test_minutes * 60.0)
        if left > 0:
            return int(np.ceil(left * 100))
        failed = (bool(self.pending) and self.testing) or self.spec.failing
        self.tests.insert(0, EndedTest(self.testing, 7 if failed else 0, self.spec.hours))
        self.testing = None
        return None


class _Timed:
    """The time that a drive takes."""

    def __init__(self, state: DriveState) -> None:
        self._state = state
        self._now = 0.0
        self._rng = np.random.default_rng(len(state.spec.serial) + state.spec.hours)
        self._lock = threading.Lock()

    def clock(self) -> float:
        """Return the drive's own time: it goes on by what reads and writes take."""
        return self._now

    def _rate(self, offset: int, size: int) -> float:
        spec = self._state.spec
        if spec.rotation != 1:
            return _OUTER_RATE * (1.0 - 0.5 * offset / max(1, size))
        return _FLASH_RATE * (_SLOWED if self._state.warm_c >= _SLOWED_C else 1.0)

    def _pass(self, seconds: float) -> None:
        with self._lock:
            self._now += seconds
            self._state.work(seconds)

    def _check(self) -> None:
        if self._state.gone:
            raise OSError(errno.ENODEV, "No such device")

    def _seek(self) -> float:
        seconds = float((0.008 if self._state.spec.rotation != 1 else 0.0001) * self._rng.random())
        if self._state.spec.stalls and self._rng.random() < self._state.spec.stalls:
            seconds += _STALL_S
        return seconds


class SimulatedBlocks(_Timed, BlockSource):
    """The blocks of a simulated drive: pending sectors cannot be read, and take their time to say so."""

    sector = SECTOR

    def __init__(self, state: DriveState) -> None:
        """Answer as the drive is by now."""
        super().__init__(state)
        self.size = state.spec.size_bytes

    def read_at(self, offset: int, length: int) -> int:
        """Read nothing but the answer whether it could be read; a long block takes the time of its first MiB."""
        self._check()
        first, last = offset // SECTOR, (offset + length - 1) // SECTOR
        failing = any(first <= lba <= last for lba in self._state.pending)
        near = any(abs(lba * SECTOR - offset) < self.size * _WEAK_SHARE for lba in self._state.pending)
        seconds = min(length, _MIB) / self._rate(offset, self.size) + self._seek()
        seconds += self._rng.exponential(0.25) if near else 0.0
        self._pass(seconds + (_RETRY_S if failing else 0.0))
        if failing:
            raise OSError(errno.EIO, "Input/output error")
        return length

    def rest(self, offset: int, length: int) -> None:
        """Let the time of all but the first MiB pass."""
        self._pass(max(0, length - _MIB) / self._rate(offset, self.size))

    def close(self) -> None:
        """Nothing is held open."""


class SimulatedScratch(_Timed):
    """A scratch file on a simulated drive: it keeps what is written, as far as the drive does.

    Each block of the file stands for `scale` times as many bytes. A request takes the time of one block of a real
    load; that of all the others which it stands for passes in `rest`, so that no request seems to be held up.
    """

    def __init__(self, state: DriveState, scale: float) -> None:
        """Begin empty."""
        super().__init__(state)
        self._scale = scale
        self._kept: dict[int, npt.NDArray[np.uint64]] = {}

    def write_at(self, offset: int, words: npt.NDArray[np.uint64]) -> None:
        """Keep a block, unless the drive only says that it does."""
        self._check()
        self._pass(min(_REQUEST, words.nbytes * self._scale) / self._rate(0, 1) + self._seek())
        if self._rng.random() >= self._state.spec.lies:
            self._kept[offset] = words.copy()

    def read_at(self, offset: int, into: npt.NDArray[np.uint64]) -> int:
        """Give a block back; one that was never written is zero."""
        self._check()
        self._pass(min(_REQUEST, into.nbytes * self._scale) / self._rate(0, 1) + self._seek())
        into[:] = self._kept.get(offset, 0)
        if self._rng.random() < self._state.spec.flips:
            into[int(self._rng.integers(8, len(into)))] ^= np.uint64(1 << int(self._rng.integers(0, 64)))
        return into.nbytes

    def rest(self, length: int) -> None:
        """Let the time of the other requests pass that one stands for."""
        self._pass(max(0.0, length * self._scale - _REQUEST) / self._rate(0, 1))

    def flush(self) -> None:
        """Take the time of a flush."""
        self._check()
        self._pass(0.002 + self._seek())
