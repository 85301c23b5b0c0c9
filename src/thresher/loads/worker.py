"""One worker: a process pinned to one logical CPU that does the beats of a load and compares each."""

import ctypes
import os
import signal
import socket
import time
from collections.abc import Sequence
from pathlib import Path

import msgspec
import numpy as np

from thresher.loads.matrix import MatrixSets, same_bits, wrong_words
from thresher.loads.messages import (
    ORDERS,
    PACKET,
    ConfirmReference,
    Done,
    Failed,
    MakeReference,
    Mismatch,
    Quit,
    Report,
    RunBeats,
    RunFree,
    StatusTable,
)
from thresher.model.port import BitFlip

_PR_SET_PDEATHSIG = 1
_TELL_AT_MOST_EVERY_S = 0.1
_NICENESS = 10
"""Workers give way to the sampler and the window: they take what is left, which on a bench is all of it."""


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

    def __init__(self, orders: socket.socket, status: StatusTable, slot: int, sets: MatrixSets) -> None:
        """Prepare the memory for results."""
        self._socket = orders
        self._status = status
        self._slot = slot
        self._sets = sets
        self._result = np.empty((sets.plan.size, sets.plan.size))
        self._beat = 0
        self._untold = 0
        self._told_at = -_TELL_AT_MOST_EVERY_S

    def serve(self) -> None:
        """Carry out orders."""
        while packet := self._socket.recv(PACKET):
            match ORDERS.decode(packet):
                case MakeReference():
                    self._sets.make()
                    self._tell(Done())
                case ConfirmReference():
                    self._tell(Done(tuple(self._sets.confirm())))
                case RunFree():
                    while not self._status.stopping:
                        self._do_beat(())
                    return
                case RunBeats(count, flips):
                    for number in range(count):
                        self._do_beat([flip for flip in flips if flip.beat == number])
                    self._tell(Done())
                case Quit():
                    return

    def _do_beat(self, flips: Sequence[BitFlip]) -> None:
        index = self._beat % self._sets.plan.sets
        result, reference = self._result, self._sets.reference(index)
        np.matmul(self._sets.left(index), self._sets.right(index), out=result)
        for flip in flips:
            result.reshape(-1).view(np.uint64)[flip.word] ^= np.uint64(1 << flip.bit)
        if not same_bits(result, reference):
            self._on_mismatch(index)
        self._beat += 1
        self._status.beat(self._slot, time.monotonic_ns())

    def _on_mismatch(self, index: int) -> None:
        self._status.mismatch(self._slot)
        now = time.monotonic()
        self._untold += 1
        if now - self._told_at < _TELL_AT_MOST_EVERY_S and self._untold > 1:
            return
        reference = self._sets.reference(index)
        wrong, shown = wrong_words(self._result, reference)
        np.matmul(self._sets.left(index), self._sets.right(index), out=self._result)
        right_now = same_bits(self._result, reference)
        self._tell(Mismatch(self._beat, wrong, self._sets.plan.words, shown, right_now, self._untold))
        self._untold, self._told_at = 0, now

    def _tell(self, report: Report) -> None:
        self._socket.send(msgspec.json.encode(report))


def tell_failure(orders: socket.socket, error: OSError) -> None:
    """Tell the engine why a worker could not begin."""
    orders.send(msgspec.json.encode(Failed(os.strerror(error.errno or 0))))
