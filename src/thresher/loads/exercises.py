"""From a plan to the load that carries it out."""

from collections.abc import Callable

from thresher.loads.branchy import Sorting, branchy_bytes
from thresher.loads.exercise import Exercise, Words, padded
from thresher.loads.integer import Chains, integer_bytes
from thresher.loads.matrix import MatrixSets, RegisterTiles, matrix_bytes, register_bytes
from thresher.loads.plan import LoadPlan
from thresher.loads.precision import Rounding, precision_bytes
from thresher.loads.sieve import Sieve, sieve_bytes
from thresher.loads.solve import Systems, solve_bytes
from thresher.loads.transform import Squarings, transform_bytes
from thresher.model.sheet import WorkingSet

_KINDS: dict[str, tuple[Callable[[LoadPlan], int], Callable[[LoadPlan, memoryview], Exercise]]] = {
    "solve": (solve_bytes, Systems),
    "transform": (transform_bytes, Squarings),
    "integer": (integer_bytes, Chains),
    "branchy": (branchy_bytes, Sorting),
    "sieve": (sieve_bytes, Sieve),
    "precision": (precision_bytes, Rounding),
}


def in_registers(plan: LoadPlan) -> bool:
    """Whether the matrix load runs in registers: compiled and inside the core."""
    return plan.load == "matrix" and plan.compiled and plan.working_set is WorkingSet.CORE


def shared_bytes(plan: LoadPlan) -> int:
    """Return the bytes of operands and known answers that all workers share."""
    if plan.parts:
        return sum(padded(shared_bytes(part)) for part in plan.parts)
    if plan.load == "matrix":
        return register_bytes(plan) if in_registers(plan) else matrix_bytes(plan)
    return _KINDS[plan.load][0](plan)


def make_exercise(plan: LoadPlan, memory: memoryview) -> Exercise:
    """Return the load over shared memory of `shared_bytes(plan)`."""
    if plan.parts:
        return Mixed(plan, memory)
    if plan.load == "matrix":
        return RegisterTiles(plan, memory) if in_registers(plan) else MatrixSets(plan, memory)
    return _KINDS[plan.load][1](plan, memory)


class Mixed:
    """Several sizes of one load, beat by beat in turn."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the parts over `memory` one after the other."""
        self._parts: list[Exercise] = []
        at = 0
        for part in plan.parts:
            size = shared_bytes(part)
            self._parts.append(make_exercise(part, memory[at : at + size]))
            at += padded(size)
        self._newest: Exercise = self._parts[0]

    def _part(self, beat: int) -> tuple[Exercise, int]:
        return self._parts[beat % len(self._parts)], beat // len(self._parts)

    def make(self) -> None:
        """Make every part's known answers."""
        for part in self._parts:
            part.make()

    def confirm(self) -> list[int]:
        """Return the disputed sets of all parts, numbered on."""
        return [index * len(self._parts) + at for at, part in enumerate(self._parts) for index in part.confirm()]

    def compute(self, beat: int) -> bool:
        """Do a beat of the part whose turn it is."""
        self._newest, own = self._part(beat)
        return self._newest.compute(own)

    def found(self) -> Words:
        """Return the newest result."""
        return self._newest.found()

    def expected(self, beat: int) -> Words:
        """Return the known answer."""
        part, own = self._part(beat)
        return part.expected(own)

    @property
    def round_off(self) -> float:
        """Return the newest part's round-off."""
        return self._newest.round_off
