"""What the engine, the spawner and the workers say to each other: one JSON object a packet."""

import mmap

import msgspec
import numpy as np
import numpy.typing as npt

from thresher.loads.exercise import WrongWord
from thresher.loads.memory import WrongCell
from thresher.loads.plan import LoadPlan
from thresher.model.port import BitFlip, CellFault
from thresher.model.sheet import Shape


class MakeReference(msgspec.Struct, tag="make", frozen=True):
    """To a worker: fill the shared operands and references."""


class ConfirmReference(msgspec.Struct, tag="confirm", frozen=True):
    """To a worker: work the references out again."""


class RunFree(msgspec.Struct, tag="run", frozen=True):
    """To a worker: do beats in the block's shape until the stop flag is set."""


class RunBeats(msgspec.Struct, tag="beats", frozen=True):
    """To a worker: do this many beats, with these disturbances of a simulated machine.

    `seconds` is how long the beats stand for on its clock and `temperature_c` how warm its memory is.
    """

    count: int
    flips: tuple[BitFlip, ...] = ()
    seconds: float = 0.0
    temperature_c: float = 40.0


class Recheck(msgspec.Struct, tag="recheck", frozen=True):
    """To a worker of a paced team: do a beat of another worker once and say whether it came out right."""

    ticket: int
    beat: int


class Quit(msgspec.Struct, tag="quit", frozen=True):
    """To a worker: end."""


Order = MakeReference | ConfirmReference | RunFree | RunBeats | Recheck | Quit


class Done(msgspec.Struct, tag="done", frozen=True):
    """From a worker: the order is carried out. `disputed` are sets whose reference did not agree."""

    disputed: tuple[int, ...] = ()


class Mismatch(msgspec.Struct, tag="mismatch", frozen=True):
    """From a worker: a beat differed. `wrong_again` of `repeats` repeats on the same core were wrong too.

    `count` is how many mismatches this message stands for, when they come too fast to tell each. `partner` is the
    other worker, for messages between two; `what` says in words what the first wrong word is.
    """

    beat: int
    wrong: int
    words: int
    shown: tuple[WrongWord, ...]
    repeats: int
    wrong_again: int
    count: int = 1
    partner: int | None = None
    what: str = ""


class MemoryWrong(msgspec.Struct, tag="memory", frozen=True):
    """From a worker: words of memory differed."""

    pattern: str
    step: str
    words: int
    shown: tuple[WrongCell, ...]
    count: int = 1


class MemoryTaken(msgspec.Struct, tag="taken", frozen=True):
    """From a worker: the memory it has got, and how much of it no pass has had before (None: not told)."""

    size: int
    locked: bool
    huge: bool
    frames_told: bool


class PassDone(msgspec.Struct, tag="pass", frozen=True):
    """From a worker: a pass through all patterns is complete, in so many seconds of the machine."""

    number: int
    seconds: float


class RoundOffHigh(msgspec.Struct, tag="roundoff", frozen=True):
    """From a worker: round-off came near the margin although the result was still right."""

    beat: int
    distance: float


class Rechecked(msgspec.Struct, tag="rechecked", frozen=True):
    """From a worker: another's beat came out right here, or not."""

    ticket: int
    right: bool


class Failed(msgspec.Struct, tag="failed", frozen=True):
    """From a worker: it could not do its order, for a reason of the surroundings."""

    doing: str
    reason: str
    remedy: str


Report = Done | Mismatch | MemoryWrong | MemoryTaken | PassDone | RoundOffHigh | Rechecked | Failed


class SpawnWorker(msgspec.Struct, tag="spawn", frozen=True):
    """To the spawner, with three file descriptors: the worker's socket, the status table, the shared memory."""

    worker: int
    workers: int
    cpu: int | None
    plan: LoadPlan
    shape: Shape
    paced: bool
    faults: tuple[CellFault, ...] = ()
    stride: int = 8
    base: int = 0


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

_BEATS, _MISMATCHES, _HEARTBEAT, _TICKET, _RECHECK, _ROUND_OFF, _CPU_NS = range(7)
_FLAG, _EPOCH, _ALLOWED = range(3)


class StatusTable:
    """Counters in shared memory: what holds for all, and a row a worker that only this worker writes.

    The exceptions are ticket and beat of a recheck, which the engine writes and the worker reads.
    """

    def __init__(self, memory: mmap.mmap, workers: int) -> None:
        """Lay the table over shared memory."""
        flat: npt.NDArray[np.int64] = np.frombuffer(memory, dtype=np.int64, count=8 + workers * 8)
        self._head = flat[:8]
        self._rows = flat[8:].reshape(workers, 8)  # a cache line a worker, so that they do not slow each other
        self._shares = self._head.view(np.float64)
        self._floats = self._rows.view(np.float64)

    @staticmethod
    def size(workers: int) -> int:
        """Return the bytes needed."""
        return 64 + workers * 64

    @property
    def stopping(self) -> bool:
        """Whether all workers are to end."""
        return bool(self._head[_FLAG])

    def stop(self) -> None:
        """Tell all workers to end after the beat they are in."""
        self._head[_FLAG] = 1

    def begin(self, epoch_ns: int) -> None:
        """Set the monotonic time that shapes count from, and allow everything."""
        self._head[_EPOCH] = epoch_ns
        self._shares[_ALLOWED] = 1.0

    @property
    def epoch_ns(self) -> int:
        """The monotonic time that shapes count from."""
        return int(self._head[_EPOCH])

    @property
    def allowed(self) -> float:
        """The share of full work that holding a temperature leaves, 0 to 1."""
        return float(self._shares[_ALLOWED])

    def allow(self, share: float) -> None:
        """Set that share."""
        self._shares[_ALLOWED] = share

    def beat(self, slot: int, now_ns: int) -> None:
        """Count a beat, which is one only when its result was compared."""
        row = self._rows[slot]
        row[_BEATS] += 1
        row[_HEARTBEAT] = now_ns

    def alive(self, slot: int, now_ns: int) -> None:
        """Show that a worker that rests or waits has not stalled."""
        self._rows[slot, _HEARTBEAT] = now_ns

    def mismatch(self, slot: int) -> None:
        """Count a mismatch."""
        self._rows[slot, _MISMATCHES] += 1

    def note_round_off(self, slot: int, distance: float) -> None:
        """Keep the largest round-off."""
        self._floats[slot, _ROUND_OFF] = max(float(self._floats[slot, _ROUND_OFF]), distance)

    def round_off(self, slot: int) -> float:
        """Return the largest round-off of a worker."""
        return float(self._floats[slot, _ROUND_OFF])

    def note_cpu_time(self, slot: int, nanoseconds: int) -> None:
        """Keep the time that a worker has had its core."""
        self._rows[slot, _CPU_NS] = nanoseconds

    def cpu_time_ns(self, slot: int) -> int:
        """Return the time that a worker has had its core."""
        return int(self._rows[slot, _CPU_NS])

    def beats(self, slot: int) -> int:
        """Return the beats of a worker."""
        return int(self._rows[slot, _BEATS])

    def mismatches(self, slot: int) -> int:
        """Return the mismatches of a worker."""
        return int(self._rows[slot, _MISMATCHES])

    def heartbeat_ns(self, slot: int) -> int:
        """Return the monotonic time of a worker's last beat, 0 before the first."""
        return int(self._rows[slot, _HEARTBEAT])

    def ask_recheck(self, slot: int, ticket: int, beat: int) -> None:
        """Ask a worker that runs freely to do a beat of another worker between two of its own."""
        self._rows[slot, _RECHECK] = beat
        self._rows[slot, _TICKET] = ticket  # last, since the worker looks at it first

    def recheck(self, slot: int) -> tuple[int, int]:
        """Return the ticket of the newest request, 0 for none, and its beat."""
        return int(self._rows[slot, _TICKET]), int(self._rows[slot, _RECHECK])
