"""One worker: a process pinned to one logical CPU that does the beats of a load and compares each."""

import ctypes
import os
import signal
import socket
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Protocol

import msgspec
import numpy as np

from thresher.benchmodels.cells import SimulatedCells
from thresher.loads.exercise import Exercise, Words, wrong_words
from thresher.loads.exercises import make_exercise
from thresher.loads.memory import SIMULATED_WORDS, MemoryWalk, SimulatedStretch, WrongCells
from thresher.loads.messages import (
    ORDERS,
    PACKET,
    ConfirmReference,
    Done,
    Failed,
    MakeReference,
    MemoryTaken,
    MemoryWrong,
    Mismatch,
    PassDone,
    Quit,
    Recheck,
    Rechecked,
    Report,
    RoundOffHigh,
    RunBeats,
    RunFree,
    SpawnWorker,
    StatusTable,
)
from thresher.loads.pages import Region, shuffle_pages
from thresher.loads.precision import row_of
from thresher.loads.relay import Relay, signed
from thresher.loads.shapes import rest_until
from thresher.loads.transform import ROUND_OFF_MARGIN
from thresher.model.port import BitFlip
from thresher.model.sheet import ShapeKind

_PR_SET_PDEATHSIG = 1
_TELL_AT_MOST_EVERY_S = 0.1
_NICENESS = 10
"""Workers give way to the sampler and the window: they take what is left, which on a bench is all of it."""

REPEATS = 3
_LONGEST_SLEEP_S = 0.05
_SHARES = (1.0, 0.9, 0.75, 0.5)
_SPIN_S = 0.0002


def become_worker(parent: int, cpu: int | None) -> None:
    """Tie this process to its parent and its CPU, and make it the first to go when memory runs out.

    Raises OSError when the CPU may not be used.
    """
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:  # the parent died before the line above
        os._exit(1)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.set_wakeup_fd(-1)
    os.nice(_NICENESS)
    # a container may forbid it; the kernel then chooses by itself
    oom_file = Path("/proc/self/oom_score_adj")
    if os.access(oom_file, os.W_OK):
        oom_file.write_text("1000")
    if cpu is not None:
        os.sched_setaffinity(0, {cpu})


class Task(Protocol):
    """What a worker does over and over."""

    def make(self) -> None:
        """Make what all workers need."""
        ...

    def confirm(self) -> list[int]:
        """Confirm it on another core."""
        ...

    def begin(self) -> None:
        """Take what this worker needs for itself."""
        ...

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        """Do a beat or a part of one, disturbed by `flips`; return whether one has ended, its result compared."""
        ...

    def recheck(self, beat: int) -> bool:
        """Do another worker's beat and return whether it came out right."""
        ...

    def age(self, seconds: float, temperature_c: float) -> None:
        """Let a simulated machine's time pass."""
        ...


class Worker:
    """Carries out orders from its socket until told to quit, or until the socket closes."""

    def __init__(self, orders: socket.socket, status: StatusTable, order: SpawnWorker, shared: memoryview) -> None:
        """Belong to a team; `shared` is the memory that its workers share."""
        self._socket = orders
        self._status = status
        self._order = order
        self._slot = order.worker
        voice = _Voice(orders, status, order.worker)
        plan = order.plan
        self._task: Task
        if plan.load == "memory":
            self._task = _MemoryTask(order, shared, voice)
        elif plan.load == "relay":
            self._task = _RelayTask(order, shared, voice)
        else:
            self._task = _ExerciseTask(make_exercise(plan, shared), order, voice)
        self._ticket = 0
        self._voice = voice

    def serve(self) -> None:
        """Carry out orders."""
        while packet := self._socket.recv(PACKET):
            match ORDERS.decode(packet):
                case MakeReference():
                    self._task.make()
                    self._voice.tell(Done())
                case ConfirmReference():
                    self._voice.tell(Done(tuple(self._task.confirm())))
                case RunFree():
                    self._run_free()
                    return
                case RunBeats(count, flips, seconds, temperature_c):
                    self._task.begin()
                    self._task.age(seconds, temperature_c)
                    for number in range(count):
                        if self._task.do_beat([flip for flip in flips if flip.beat == number]):
                            self._status.beat(self._slot, time.monotonic_ns())
                    self._voice.tell(Done())
                case Recheck(ticket, beat):
                    self._voice.tell(Rechecked(ticket, self._task.recheck(beat)))
                    self._voice.tell(Done())
                case Quit():
                    return

    def _run_free(self) -> None:
        status, slot, task = self._status, self._slot, self._task
        task.begin()
        steady = self._order.shape.kind is ShapeKind.STEADY
        while not status.stopping:
            if not (steady and status.allowed >= 1.0) and self._rest():
                continue
            ended = task.do_beat(())
            now = time.monotonic_ns()
            if ended:
                status.beat(slot, now)
            else:
                status.alive(slot, now)
            status.note_cpu_time(slot, time.thread_time_ns())
            ticket, beat = status.recheck(slot)
            if ticket != self._ticket:
                self._ticket = ticket
                self._voice.tell(Rechecked(ticket, task.recheck(beat)))

    def _rest(self) -> bool:
        """Rest for a moment if the shape says so now; return whether there is to be another look."""
        status, order = self._status, self._order
        now = time.monotonic_ns()
        at = (now - status.epoch_ns) / 1e9
        until = rest_until(order.shape, at, order.worker, order.workers, status.allowed)
        left = until - at
        if left <= 0:
            return False
        status.alive(self._slot, now)
        if left > _SPIN_S:
            time.sleep(min(left - _SPIN_S, _LONGEST_SLEEP_S))
            return True
        while (time.monotonic_ns() - status.epoch_ns) / 1e9 < until:
            pass  # the last stretch is spun, so that all cores come on at once
        return True


class _Voice:
    """Tells the engine, at most so often about mismatches, and never less than their count."""

    def __init__(self, orders: socket.socket, status: StatusTable, slot: int) -> None:
        self._socket = orders
        self._status = status
        self._slot = slot
        self._untold = 0
        self._told_at = -_TELL_AT_MOST_EVERY_S

    def tell(self, report: Report) -> None:
        self._socket.send(msgspec.json.encode(report))

    def mismatch_is_told(self) -> int:
        """Count a mismatch; return for how many the next message stands, 0 when none is due yet."""
        self._status.mismatch(self._slot)
        now = time.monotonic()
        self._untold += 1
        if now - self._told_at < _TELL_AT_MOST_EVERY_S and self._untold > 1:
            return 0
        count, self._untold, self._told_at = self._untold, 0, now
        return count

    def alive(self) -> None:
        self._status.alive(self._slot, time.monotonic_ns())

    def note_round_off(self, distance: float) -> None:
        self._status.note_round_off(self._slot, distance)


class _ExerciseTask:
    """A load with known answers in shared memory."""

    def __init__(self, exercise: Exercise, order: SpawnWorker, voice: _Voice) -> None:
        self._exercise = exercise
        self._load = order.plan.load
        self._voice = voice
        self._beat = 0
        self._round_off_told = 0.0

    def make(self) -> None:
        self._exercise.make()

    def confirm(self) -> list[int]:
        return self._exercise.confirm()

    def begin(self) -> None:
        """Everything is there already."""

    def age(self, seconds: float, temperature_c: float) -> None:
        """Results do not age."""

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        exercise = self._exercise
        right = exercise.compute(self._beat)
        if flips:
            found = exercise.found()
            for flip in flips:
                found[flip.word % len(found)] ^= np.uint64(1 << flip.bit)
            right = bool(np.array_equal(found, exercise.expected(self._beat)))
        if exercise.round_off:
            self._note_round_off(right)
        if not right:
            self._on_mismatch(flips)
        self._beat += 1
        return True

    def recheck(self, beat: int) -> bool:
        return self._exercise.compute(beat)

    def _note_round_off(self, right: bool) -> None:
        distance = self._exercise.round_off
        self._voice.note_round_off(distance)
        if right and distance >= ROUND_OFF_MARGIN and distance > self._round_off_told:
            self._round_off_told = distance
            self._voice.tell(RoundOffHigh(self._beat, distance))

    def _on_mismatch(self, flips: Sequence[BitFlip]) -> None:
        count = self._voice.mismatch_is_told()
        if not count:
            return
        exercise = self._exercise
        found, expected = exercise.found(), exercise.expected(self._beat)
        wrong, shown = wrong_words(found, expected)
        words = len(expected)
        again = max((flip.again for flip in flips), default=0)
        wrong_again = sum(not exercise.compute(self._beat) or number < again for number in range(REPEATS))
        what = row_of(shown[0].index) if self._load == "precision" and shown else ""
        self._voice.tell(Mismatch(self._beat, wrong, words, shown, REPEATS, wrong_again, count, what=what))


class _RelayTask:
    """Messages between this worker and the others."""

    def __init__(self, order: SpawnWorker, shared: memoryview, voice: _Voice) -> None:
        self._relay = Relay(order.plan, shared, order.worker, order.workers, order.paced)
        self._paced = order.paced
        self._voice = voice
        self._beat = 0

    def make(self) -> None:
        """Messages need no reference: each carries its own checksum."""

    def confirm(self) -> list[int]:
        return []

    def begin(self) -> None:
        """Everything is there already."""

    def age(self, seconds: float, temperature_c: float) -> None:
        """Messages do not age."""

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        if self._relay.partner is None:
            self._relay.meet()
            return False  # a turn without anybody to meet is no beat
        spoil = _spoil_first(flips)
        tries = 0
        while True:
            ended, wrong = self._relay.meet(spoil)
            spoil = None
            if wrong is not None and (count := self._voice.mismatch_is_told()):
                shown = (wrong.word,)
                self._voice.tell(Mismatch(self._beat, 1, 2, shown, 0, 0, count, partner=wrong.partner))
            tries += 1
            # alone at a meeting for long: the other may have been stopped or stalled, which its heartbeat tells
            if ended or not self._paced or tries > 2000:
                break
        self._beat += ended
        return ended

    def recheck(self, beat: int) -> bool:
        del beat  # what two cores passed cannot be done again by others
        return True


def _spoil_first(flips: Sequence[BitFlip]) -> Callable[[Any], None] | None:
    if not flips:
        return None

    def spoil(word: Any) -> None:
        for flip in flips:
            word[0] ^= np.int64(signed(1 << flip.bit))

    return spoil


class _MemoryTask:
    """A stretch of memory of this worker's own."""

    def __init__(self, order: SpawnWorker, shared: memoryview, voice: _Voice) -> None:
        self._order = order
        self._voice = voice
        self._covered = np.frombuffer(shared, np.uint8)
        self._walk: MemoryWalk | None = None
        self._region: Region | None = None
        self._cells: SimulatedCells | None = None
        self._machine_s = 0.0
        self._pass_began = 0.0

    def make(self) -> None:
        """Patterns know what they hold."""

    def confirm(self) -> list[int]:
        return []

    def _now(self) -> float:
        return self._machine_s if self._order.paced else time.monotonic()

    def begin(self) -> None:
        if self._walk is not None:
            return
        order = self._order
        if order.paced:
            stretch = SimulatedStretch(order.base, order.stride)
            self._cells = SimulatedCells(stretch.words, order.faults)
            first = order.worker * SIMULATED_WORDS
            self._walk = MemoryWalk(order.plan, stretch, first, self._cells, self._now)
        else:
            region = self._take()
            self._walk = MemoryWalk(order.plan, region, order.worker * (order.plan.bytes_each // 8), None, self._now)
        self._pass_began = self._now()

    def _take(self) -> Region:
        region = self._region = self._as_much_as_there_is()
        taken = region.taken
        if region.frames is not None:
            frames = region.frames[region.frames < len(self._covered)].astype(np.intp)
            self._covered[frames] = 1
        self._voice.tell(MemoryTaken(taken.size, taken.locked, taken.huge, taken.frames_told))
        return region

    def _as_much_as_there_is(self) -> Region:
        """Take what was planned, or less when something else has taken memory since."""
        wanted = self._order.plan.bytes_each
        for share in _SHARES:
            try:
                return Region(int(wanted * share), self._voice.alive)
            except OSError as error:
                reason = error
        remedy = "Choose a smaller share, or close what uses memory."
        self._voice.tell(Failed(f"taking {wanted >> 20} MiB of memory", os.strerror(reason.errno or 0), remedy))
        raise reason

    def age(self, seconds: float, temperature_c: float) -> None:
        self._machine_s += seconds
        if self._cells is not None:
            self._cells.age(seconds, temperature_c)

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        walk = self._walk
        assert walk is not None
        if walk.waiting and not self._order.paced:
            time.sleep(_LONGEST_SLEEP_S)
        waited = walk.waiting
        wrong = walk.do_beat(_spoil_words(flips) if flips else None)
        if wrong is not None:
            self._on_wrong(wrong)
        if walk.pass_ended:
            self._on_pass(walk)
        return not waited

    def recheck(self, beat: int) -> bool:
        del beat  # the memory of one worker is not another's
        return True

    def _on_wrong(self, wrong: WrongCells) -> None:
        if count := self._voice.mismatch_is_told():
            self._voice.tell(MemoryWrong(wrong.pattern, wrong.step, wrong.count, wrong.shown, count))

    def _on_pass(self, walk: MemoryWalk) -> None:
        now = self._now()
        self._voice.tell(PassDone(walk.passes, now - self._pass_began))
        self._pass_began = now
        if self._region is None:
            return
        # other pages the next time, so that coverage grows with every pass
        self._region.release()
        self._voice.alive()
        shuffle_pages()
        self._voice.alive()
        region = self._take()
        walk.restart(region, self._order.worker * (self._order.plan.bytes_each // 8))


def _spoil_words(flips: Sequence[BitFlip]) -> Callable[[Words], None]:
    def spoil(words: Words) -> None:
        for flip in flips:
            words[flip.word % len(words)] ^= np.uint64(1 << flip.bit)

    return spoil


def tell_failure(orders: socket.socket, doing: str, error: OSError, remedy: str) -> None:
    """Tell the engine why a worker could not begin."""
    orders.send(msgspec.json.encode(Failed(doing, os.strerror(error.errno or 0), remedy)))
