"""What a block's workers are to do, as plain data that travels to them."""

from dataclasses import dataclass

import msgspec

from thresher.model.errors import EnvironmentFault
from thresher.model.sheet import Block, Precision, WorkingSet

_OWN_CACHE, _SHARED_CACHE = 1 << 20, 16 << 20
"""Assumed where the kernel does not report the sizes of the caches."""
_FREE_FOR_OPERANDS = 512 << 20
_LARGEST = 1 << 26


class LoadPlan(msgspec.Struct, frozen=True):
    """A load with everything chosen. What `size` and `sets` count is up to the load.

    `working_set` is where its data are to live; `compiled` asks for the compiled form. For the memory load
    `bytes_each` is what each worker takes and `patterns` which ones it walks through, `wait_s` how long retention
    waits. `parts` are the plans that a mixed working set walks through, beat by beat."""

    load: str
    size: int
    sets: int
    seed: int = 0x7E5
    precision: Precision = Precision.DOUBLE
    working_set: WorkingSet = WorkingSet.CORE
    compiled: bool = False
    bytes_each: int = 0
    patterns: tuple[str, ...] = ()
    wait_s: float = 0.0
    parts: "tuple[LoadPlan, ...]" = ()

    def __post_init__(self) -> None:
        """Check what would otherwise fail in a worker."""
        if not 1 <= self.size <= _LARGEST or self.sets < 1:
            raise ValueError(f"size={self.size!r} must be 1 to {_LARGEST} and sets={self.sets!r} at least 1")


class Caches(msgspec.Struct, frozen=True):
    """Bytes of the largest cache of a core's own and of the shared one, None where the kernel does not report it."""

    own: int | None = None
    shared: int | None = None


@dataclass(frozen=True, slots=True)
class FreeMemory:
    """What the kernel reports of memory in bytes; None where it does not."""

    total: int | None
    available: int | None


@dataclass(frozen=True, slots=True)
class PlanRequest:
    """What a load is sized by: the block, the machine's caches and memory, workers, compiled or not."""

    block: Block
    caches: Caches
    memory: FreeMemory
    workers: int
    compiled: bool

    @property
    def operand_bytes(self) -> int:
        """Bytes that operands of a compute load may take at most."""
        return (self.memory.available or _FREE_FOR_OPERANDS) // 4


@dataclass(frozen=True, slots=True)
class Sizing:
    """What a compute load chooses its size and sets from: bytes of a core's own cache, and bytes wanted in all."""

    place: WorkingSet
    own: int
    wanted: int
    compiled: bool
    precision: Precision


def sizing_for(
    place: WorkingSet, caches: Caches, free: int, compiled: bool, precision: Precision = Precision.DOUBLE
) -> Sizing:
    """Return what to size by so that the data live in `place`; `free` bytes may be used at most by all together."""
    own, shared = caches.own or _OWN_CACHE, caches.shared or _SHARED_CACHE
    target = {
        WorkingSet.CORE: int(own * 0.7),
        WorkingSet.SHARED_CACHE: shared // 2,
        WorkingSet.MAIN_MEMORY: max(4 * shared, 128 << 20),
    }[place]
    return Sizing(place, own, min(target, max(free, 1 << 20)), compiled, precision)


def too_little_memory(title: str, why: str) -> EnvironmentFault:
    """Return the error of a block that cannot have the memory it needs."""
    return EnvironmentFault(f"starting {title}", why, "Close what uses memory, or choose fewer threads.")
