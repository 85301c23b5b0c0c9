"""What the engine, the spawner and the workers say to each other: one JSON object a packet."""

import msgspec

from thresher.loads.exercise import WrongWord
from thresher.loads.memory.walk import WrongCell
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

    `count` is how many mismatches this message stands for when they come too fast for one each. `partner` is the
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
    """From a worker: the memory it has got, and how much of it no pass has had before (None: not known)."""

    size: int
    locked: bool
    huge: bool
    has_frames: bool


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
    """To the spawner, with three file descriptors: the worker's socket, the status table, the shared memory.

    `frames` is the number of the socket by which the worker gets its page frames, None for none.
    """

    worker: int
    workers: int
    cpu: int | None
    plan: LoadPlan
    shape: Shape
    paced: bool
    faults: tuple[CellFault, ...] = ()
    stride: int = 8
    base: int = 0
    frames: int | None = None


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
