"""One worker: a process pinned to one logical CPU that does the beats of a load and compares each."""

import ctypes
import os
import signal
import socket
import time
from pathlib import Path

import msgspec

from thresher.loads.load import Reporter
from thresher.loads.registry import LOADS
from thresher.loads.team.messages import (
    ORDERS,
    PACKET,
    ConfirmReference,
    Done,
    Failed,
    MakeReference,
    MemoryWrong,
    Mismatch,
    Quit,
    Recheck,
    Rechecked,
    Report,
    RunBeats,
    RunFree,
    SpawnWorker,
)
from thresher.loads.team.status_table import StatusTable
from thresher.model.shapes import rest_until
from thresher.model.sheet import ShapeKind

_PR_SET_PDEATHSIG = 1
_REPORT_AT_MOST_EVERY_S = 0.1
_END_OF_TURN = float("inf")
_NICENESS = 10
"""Workers give way to the sampler and the window: they take what is left, which on a bench is all of it."""

_LONGEST_SLEEP_S = 0.05
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


class Worker:
    """Carries out orders from its socket until told to quit, or until the socket closes."""

    def __init__(self, orders: socket.socket, status: StatusTable, order: SpawnWorker, shared: memoryview) -> None:
        """Belong to a team; `shared` is the memory that its workers share."""
        self._socket = orders
        self._status = status
        self._order = order
        self._slot = order.worker
        reporter = SocketReporter(orders, status, order.worker, order.paced)
        self._task = LOADS[order.plan.load].make_task(order, shared, reporter)
        self._ticket = 0
        self._reporter = reporter

    def serve(self) -> None:
        """Carry out orders."""
        while packet := self._socket.recv(PACKET):
            match ORDERS.decode(packet):
                case MakeReference():
                    self._task.make()
                    self._reporter.send(Done())
                case ConfirmReference():
                    self._reporter.send(Done(tuple(self._task.confirm())))
                case RunFree():
                    self._run_free()
                    return
                case RunBeats(count, flips, seconds, temperature_c):
                    self._reporter.begin_turn()
                    self._task.begin()
                    self._task.age(seconds, temperature_c)
                    for number in range(count):
                        if self._task.do_beat([flip for flip in flips if flip.beat == number]):
                            self._status.beat(self._slot, time.monotonic_ns())
                    self._reporter.report_rest()
                    self._reporter.send(Done())
                case Recheck(ticket, beat):
                    self._reporter.send(Rechecked(ticket, self._task.recheck(beat)))
                    self._reporter.send(Done())
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
            self._reporter.report_rest_when_due()
            ticket, beat = status.recheck(slot)
            if ticket != self._ticket:
                self._ticket = ticket
                self._reporter.send(Rechecked(ticket, task.recheck(beat)))
        self._reporter.report_rest()

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


class SocketReporter(Reporter):
    """Reports to the engine, at most so often about mismatches, and never less than their count.

    What is held back goes out with the details of the last report. A simulated machine's turn counts as such a while,
    so that its runs do not depend on how fast they are.
    """

    def __init__(self, orders: socket.socket, status: StatusTable, slot: int, paced: bool = False) -> None:
        """Report for one worker; `paced` by the turns of a simulated machine."""
        self._paced = paced
        self._socket = orders
        self._status = status
        self._slot = slot
        self._unreported = 0
        self._next_at = 0.0
        self._last: Mismatch | MemoryWrong | None = None

    def send(self, report: Report) -> None:
        """Send a report."""
        if isinstance(report, Mismatch | MemoryWrong):
            self._last = report
        self._socket.send(msgspec.json.encode(report))

    def begin_turn(self) -> None:
        """Begin a turn of a simulated machine: its first mismatch is reported at once."""
        self._next_at = 0.0

    def report_rest(self) -> None:
        """Report the mismatches that were held back."""
        if self._unreported and self._last is not None:
            count, self._unreported = self._unreported, 0
            self.send(msgspec.structs.replace(self._last, count=count))

    def report_rest_when_due(self) -> None:
        """Report what was held back once it is time."""
        if self._unreported and time.monotonic() >= self._next_at:
            self._next_at = time.monotonic() + _REPORT_AT_MOST_EVERY_S
            self.report_rest()

    def count_to_report(self) -> int:
        """Count a mismatch; return for how many the next message stands, 0 when none is due yet."""
        self._status.mismatch(self._slot)
        self._unreported += 1
        now = time.monotonic()
        if now < self._next_at:
            return 0
        self._next_at = _END_OF_TURN if self._paced else now + _REPORT_AT_MOST_EVERY_S
        count, self._unreported = self._unreported, 0
        return count

    def alive(self) -> None:
        """Show that the worker has not stalled."""
        self._status.alive(self._slot, time.monotonic_ns())

    def note_round_off(self, distance: float) -> None:
        """Keep the largest round-off."""
        self._status.note_round_off(self._slot, distance)


def report_failure(orders: socket.socket, doing: str, error: OSError, remedy: str) -> None:
    """Report to the engine why a worker could not begin."""
    orders.send(msgspec.json.encode(Failed(doing, os.strerror(error.errno or 0), remedy)))
