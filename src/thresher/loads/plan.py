"""What a block's workers are to do, as plain data that travels to them."""

import msgspec

from thresher.loads.catalogue import CATALOGUE, LARGEST_MATRIX
from thresher.model.sheet import Precision, WorkingSet

_OWN_CACHE, _SHARED_CACHE = 1 << 20, 16 << 20
"""Taken where the kernel does not tell the sizes of the caches."""


class LoadPlan(msgspec.Struct, frozen=True):
    """A load with everything chosen. What `size` and `sets` count is the load's own affair (`loads/catalogue.py`).

    `working_set` is where its data are to live; `compiled` asks for the compiled form. For the memory load `bytes_each`
    is what each worker takes and `patterns` which ones it walks through, `wait_s` how long retention waits. `parts`
    are the plans that a mixed working set walks through, beat by beat.
    """

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
        if self.load not in CATALOGUE:
            raise ValueError(f"there is no load {self.load!r}")
        most = LARGEST_MATRIX[self.precision] if self.load == "matrix" else 1 << 26
        if not 1 <= self.size <= most or self.sets < 1:
            raise ValueError(f"size={self.size!r} must be 1 to {most} and sets={self.sets!r} at least 1")


class Caches(msgspec.Struct, frozen=True):
    """Bytes of the largest cache of a core's own and of the shared one, None where the kernel does not tell."""

    own: int | None = None
    shared: int | None = None


def plan_load(
    load: str,
    working_set: WorkingSet,
    caches: Caches,
    free: int,
    compiled: bool,
    precision: Precision = Precision.DOUBLE,
) -> LoadPlan:
    """Choose size and sets so that the data live where asked; `free` bytes may be used at most by all together."""
    if working_set is WorkingSet.MIXED:
        kind = CATALOGUE[load]
        places = [place for place in WorkingSet if place is not WorkingSet.MIXED and place in kind.working_sets]
        parts = tuple(plan_load(load, place, caches, free, compiled, precision) for place in places)
        return LoadPlan(load, 1, 1, precision=precision, working_set=working_set, compiled=compiled, parts=parts)
    own, shared = caches.own or _OWN_CACHE, caches.shared or _SHARED_CACHE
    target = {
        WorkingSet.CORE: int(own * 0.7),
        WorkingSet.SHARED_CACHE: shared // 2,
        WorkingSet.MAIN_MEMORY: max(4 * shared, 128 << 20),
    }[working_set]
    size, sets = CATALOGUE[load].sized(working_set, own, min(target, max(free, 1 << 20)), compiled, precision)
    return LoadPlan(load, size, sets, precision=precision, working_set=working_set, compiled=compiled)
