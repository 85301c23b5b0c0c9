"""The loads there are: what each strains, what it finds, where its data may live, and how it is sized."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.model.parts import PartKind
from thresher.model.sheet import Precision, WorkingSet

LARGEST_MATRIX = {Precision.DOUBLE: 4096, Precision.SINGLE: 1024}
"""Largest size at which products of whole numbers stay exact (`loads/matrix.py`)."""

REGISTER_TILES = 64
_MOST_MATRIX_SETS = 96
_CORE = WorkingSet.CORE
_ALL = tuple(WorkingSet)

Sizing = Callable[[WorkingSet, int, int, bool, Precision], tuple[int, int]]
"""From working set, bytes of a core's own cache, bytes wanted, whether compiled, and precision to size and sets."""


@dataclass(frozen=True, slots=True)
class LoadKind:
    """One load, in words for a person and in numbers for the plan.

    `heat` is the power it draws as a share of the hottest load's, `memory` the share of its time that it waits for
    main memory, `wide` whether the widest vectors are what it strains; bench models feel these.
    """

    name: str
    row: PartKind
    strains: str
    finds: str
    working_sets: tuple[WorkingSet, ...]
    sized: Sizing
    heat: float
    memory: float = 0.0
    wide: bool = False
    precisions: tuple[Precision, ...] = (Precision.DOUBLE,)
    short_beat: bool = True


def _matrix(place: WorkingSet, own: int, wanted: int, compiled: bool, precision: Precision) -> tuple[int, int]:
    if place is _CORE and compiled:
        return REGISTER_TILES, 1
    word = 8 if precision is Precision.DOUBLE else 4
    if place is _CORE:
        size = int((0.75 * own / (3 * word)) ** 0.5)
        return min(256, max(96, size // 16 * 16)), 1
    return 384, max(1, min(_MOST_MATRIX_SETS, wanted // (3 * word * 384 * 384)))


def _solve(place: WorkingSet, own: int, wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    if place is _CORE:
        return min(320, max(96, int((0.5 * own / 16) ** 0.5) // 16 * 16)), 1
    if place is WorkingSet.SHARED_CACHE:
        return 768, 1
    return 1536, max(1, min(4, wanted // (8 * 1536 * 1536)))


def _transform(place: WorkingSet, _own: int, wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    if place is _CORE:
        return 1 << 15, 1
    if place is WorkingSet.SHARED_CACHE:
        return 1 << 17, 1
    return 1 << 19, max(1, min(8, wanted // (40 << 19)))


def _windows(place: WorkingSet, _own: int, wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    """Chains by the window of 2048: one for a core, else as many as fill the place, with their known ends."""
    return 2048, 1 if place is _CORE else max(1, min(4096, wanted // (2 * 2048 * 8)))


def _branchy(place: WorkingSet, _own: int, wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    return 12_288, 1 if place is _CORE else max(1, min(1024, wanted // (3 * 12_288 * 4)))


def _sieve(place: WorkingSet, own: int, _wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    if place is _CORE:
        return (1_000_000 if own >= 1 << 20 else 100_000), 1
    return 10_000_000, 1


def _one(_place: WorkingSet, _own: int, _wanted: int, _compiled: bool, _precision: Precision) -> tuple[int, int]:
    return 1, 1


CATALOGUE: dict[str, LoadKind] = {
    kind.name: kind
    for kind in (
        LoadKind(
            "matrix", PartKind.PROCESSOR,
            "the multiply-add units at their widest, and with them supply and cooling",
            "cores that compute wrongly at full heat, supplies that sag, cooling that does not suffice",
            _ALL, _matrix, 1.0, 0.05, True, (Precision.DOUBLE, Precision.SINGLE),
        ),
        LoadKind(
            "solve", PartKind.PROCESSOR,
            "multiply-add units and caches together, over a large system of equations",
            "errors that need data to travel between core, cache and memory while the units are hot",
            _ALL, _solve, 0.9, 0.15, True, short_beat=False,
        ),
        LoadKind(
            "transform", PartKind.PROCESSOR,
            "vector units and every cache in strides that no other load has",
            "marginal arithmetic early, by round-off before results are wrong, and caches that lose bits",
            _ALL, _transform, 0.85, 0.2, True, short_beat=False,
        ),
        LoadKind(
            "integer", PartKind.PROCESSOR,
            "whole-number units in long chains where each step needs the one before",
            "cores that fail in whole-number arithmetic while their vector units are sound",
            _ALL, _windows, 0.7, 0.1,
        ),
        LoadKind(
            "branchy", PartKind.PROCESSOR,
            "branch prediction, sorting and packing: high clock at low power",
            "cores that fail at their highest boost, where voltage is shortest",
            _ALL, _branchy, 0.5, 0.1,
        ),
        LoadKind(
            "sieve", PartKind.PROCESSOR,
            "reads and writes of single bytes all over a cache",
            "cache cells and their addressing",
            (WorkingSet.CORE, WorkingSet.SHARED_CACHE), _sieve, 0.55, 0.0, short_beat=False,
        ),
        LoadKind(
            "relay", PartKind.PROCESSOR,
            "cache lines handed from core to core, every pair in turn",
            "faults of coherence and of what connects the cores",
            (WorkingSet.SHARED_CACHE,), _one, 0.35, 0.0,
        ),
        LoadKind(
            "precision", PartKind.PROCESSOR,
            "every kind of floating-point result: directed cases, denormals, division, roots, elementary functions",
            "units that round or divide wrongly",
            (WorkingSet.CORE,), _one, 0.5, 0.0,
        ),
        LoadKind(
            "memory", PartKind.MEMORY,
            "every cell within reach, with patterns that each find faults of their own kind",
            "cells, address lines, contacts, the controller, and timings that are too tight",
            (WorkingSet.MAIN_MEMORY,), _one, 0.45, 1.0,
        ),
    )
}  # fmt: skip
"""By name, as a run sheet says it."""
