"""What the engine, the spawner and the workers say to each other: one JSON object a packet."""

import mmap

import msgspec
import numpy as np
import numpy.typing as npt

from thresher.loads.matrix import WrongWord
from thresher.model.port import BitFlip


class MakeReference(msgspec.Struct, tag="make", frozen=True):
    """To a worker: fill the shared operands and references."""


class ConfirmReference(msgspec.Struct, tag="confirm", frozen=True):
    """To a worker: work the references out again."""


class RunFree(msgspec.Struct, tag="run", frozen=True):
    """To a worker: do beats until the stop flag is set."""


class RunBeats(msgspec.Struct, tag="beats", frozen=True):
    """To a worker: do this many beats, with these disturbances of a simulated machine."""

    count: int
    flips: tuple[BitFlip, ...] = ()


class Quit(msgspec.Struct, tag="quit", frozen=True):
    """To a worker: end."""


Order = MakeReference | ConfirmReference | RunFree | RunBeats | Quit


class Done(msgspec.Struct, tag="done", frozen=True):
    """From a worker: the order is carried out. `disputed` are sets whose reference did not agree."""

    disputed: tuple[int, ...] = ()


class Mismatch(msgspec.Struct, tag="mismatch", frozen=True):
    """From a worker: a beat differed. `repeated_right` tells whether the same beat done again was right.

    `count` is how many mismatches this message stands for, when they come too fast to tell each.
    """

    beat: int
    wrong: int
    words: int
    shown: tuple[WrongWord, ...]
    repeated_right: bool
    count: int = 1


class Failed(msgspec.Struct, tag="failed", frozen=True):
    """From a worker: it could not do its order, for a reason of the surroundings."""

    reason: str


Report = Done | Mismatch | Failed


class SpawnWorker(msgspec.Struct, tag="spawn", frozen=True):
    """To the spawner, with three file descriptors: the worker's socket, the status table, the operands."""

    worker: int
    slot: int
    cpu: int | None
    size: int
    sets: int
    seed: int


class KillWorkers(msgspec.Struct, tag="kill", frozen=True):
    """To the spawner: end these workers at once."""

    workers: tuple[int, ...]


class WorkerStarted(msgspec.Struct, tag="started", frozen=True):
    """From the spawner."""

    worker: int
    pid: int


class WorkerEnded(msgspec.Struct, tag="ended", frozen=True):
    """From the spawner: exit code, negative for the signal that ended it."""

    worker: int
    code: int


ORDERS: msgspec.json.Decoder[Order] = msgspec.json.Decoder(Order)
REPORTS: msgspec.json.Decoder[Report] = msgspec.json.Decoder(Report)
SPAWNER_ORDERS: msgspec.json.Decoder[SpawnWorker | KillWorkers] = msgspec.json.Decoder(SpawnWorker | KillWorkers)
SPAWNER_REPORTS: msgspec.json.Decoder[WorkerStarted | WorkerEnded] = msgspec.json.Decoder(WorkerStarted | WorkerEnded)

PACKET = 1 << 16
"""Largest packet read; every message is far smaller."""

_BEATS, _MISMATCHES, _HEARTBEAT = range(3)


class StatusTable:
    """Counters in shared memory: one stop flag for all, and a row a worker that only this worker writes."""

    def __init__(self, memory: mmap.mmap, workers: int) -> None:
        """Lay the table over shared memory."""
        flat: npt.NDArray[np.int64] = np.frombuffer(memory, dtype=np.int64, count=8 + workers * 8)
        self._flag = flat[:1]
        self._rows = flat[8:].reshape(workers, 8)  # a cache line a worker, so that they do not slow each other

    @staticmethod
    def size(workers: int) -> int:
        """Return the bytes needed."""
        return 64 + workers * 64

    @property
    def stopping(self) -> bool:
        """Whether all workers are to end."""
        return bool(self._flag[0])

    def stop(self) -> None:
        """Tell all workers to end after the beat they are in."""
        self._flag[0] = 1

    def beat(self, slot: int, now_ns: int) -> None:
        """Count a beat."""
        self._rows[slot, _BEATS] += 1
        self._rows[slot, _HEARTBEAT] = now_ns

    def mismatch(self, slot: int) -> None:
        """Count a mismatch."""
        self._rows[slot, _MISMATCHES] += 1

    def beats(self, slot: int) -> int:
        """Return the beats of a worker."""
        return int(self._rows[slot, _BEATS])

    def mismatches(self, slot: int) -> int:
        """Return the mismatches of a worker."""
        return int(self._rows[slot, _MISMATCHES])

    def heartbeat_ns(self, slot: int) -> int:
        """Return the monotonic time of a worker's last beat, 0 before the first."""
        return int(self._rows[slot, _HEARTBEAT])
