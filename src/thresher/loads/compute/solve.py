"""A large linear system by factorisation: residual against its bound, and the solution bit for bit.

A x = b with A and b from a seed. The factorisation rounds, so the known answer is what the same library gave on one
core and another confirmed; whether it solves the system at all is shown by the residual, which no rounding of a
sound machine makes larger than a small multiple of n eps (|A| |x| + |b|) (Higham, Accuracy and Stability of Numerical
Algorithms, 2nd edition, theorem 9.4, with the growth that random matrices have in practice)."""

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Plain, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ALL_PLACES, ExerciseForm
from thresher.loads.plan import LoadPlan, Sizing
from thresher.model.sheet import WorkingSet

_BOUND = 16.0
_EPS = float(np.finfo(np.float64).eps)


def solve_bytes(plan: LoadPlan) -> int:
    """Return the bytes of matrices, right sides and known solutions."""
    return padded(plan.sets * plan.size**2 * 8) + 2 * padded(plan.sets * plan.size * 8)


def factor_and_solve(matrix: Array, right: Array, compiled: bool) -> Array:
    """Solve by LAPACK's getrf and getrs, or by NumPy's own solver; `matrix` may be overwritten."""
    if not compiled:
        return np.asarray(np.linalg.solve(matrix, right))
    from scipy.linalg.lapack import dgetrf, dgetrs

    factors, pivots, _ = dgetrf(matrix, overwrite_a=True)
    solution, _ = dgetrs(factors, pivots, right)
    return np.asarray(solution)


class Systems(Plain):
    """Systems of equations, one solved a beat."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay the systems over `memory`, which must hold `solve_bytes(plan)`."""
        self.plan = plan
        n, sets = plan.size, plan.sets
        matrices_bytes = padded(sets * n * n * 8)
        (matrices,) = carve(memory[:matrices_bytes], np.float64, (sets, n, n))
        right, known = carve(memory[matrices_bytes:], np.float64, (sets, n), (sets, n))
        # LAPACK reads columns, so a set is kept transposed and seen through its transpose
        self._matrices = [each.T for each in matrices]
        self._right, self._known = list(right), list(known)
        self._work = aligned((n, n), np.float64).T
        self._result = aligned((n,), np.float64)
        self.worst_residual = 0.0
        """Largest scaled residual so far, in units of the bound."""

    def make(self) -> None:
        """Draw the systems and solve them."""
        for index, (matrix, right) in enumerate(self._drawn()):
            self._matrices[index][:], self._right[index][:] = matrix, right
            self._known[index][:] = factor_and_solve(np.asfortranarray(matrix), right, self.plan.compiled)

    def _drawn(self) -> list[tuple[Array, Array]]:
        rng = np.random.default_rng(self.plan.seed)
        n = self.plan.size
        return [(rng.uniform(-1, 1, (n, n)), rng.uniform(-1, 1, n)) for _ in range(self.plan.sets)]

    def confirm(self) -> list[int]:
        """Draw and solve again; return the sets that differ in any bit or whose residual is beyond the bound."""
        disputed = []
        for index, (matrix, right) in enumerate(self._drawn()):
            solution = factor_and_solve(np.asfortranarray(matrix), right, self.plan.compiled)
            same = np.array_equal(matrix, self._matrices[index]) and np.array_equal(right, self._right[index])
            if not same or not same_bits(solution, self._known[index]) or self._residual(index, solution) > 1.0:
                disputed.append(index)
        return disputed

    def _residual(self, index: int, solution: Array) -> float:
        """Return the residual in units of its bound."""
        matrix, right = self._matrices[index], self._right[index]
        residual = float(np.abs(right - matrix @ solution).max())
        # entries lie between -1 and 1: n bounds the norm of the matrix without another pass over it
        size = self.plan.size * float(np.abs(solution).max()) + float(np.abs(right).max())
        return residual / (_BOUND * self.plan.size * _EPS * size)

    def compute(self, beat: int) -> bool:
        """Solve one system, compare the solution and look at the residual."""
        index = beat % self.plan.sets
        np.copyto(self._work, self._matrices[index])
        self._result[:] = factor_and_solve(self._work, self._right[index], self.plan.compiled)
        share = self._residual(index, self._result)
        self.worst_residual = max(self.worst_residual, share)
        return share <= 1.0 and same_bits(self._result, self._known[index])

    def found(self) -> Words:
        """Return the newest solution."""
        return as_words(self._result)

    def expected(self, beat: int) -> Words:
        """Return the known solution."""
        return as_words(self._known[beat % self.plan.sets])


def _sized(by: Sizing) -> tuple[int, int]:
    """Equations and sets."""
    if by.place is WorkingSet.CORE:
        return min(320, max(96, int((0.5 * by.own / 16) ** 0.5) // 16 * 16)), 1
    if by.place is WorkingSet.SHARED_CACHE:
        return 768, 1
    return 1536, max(1, min(4, by.wanted // (8 * 1536 * 1536)))


LOAD = exercise_load(
    "solve",
    LoadWords(
        "multiply-add units and caches together, over a large system of equations",
        "errors that need data to travel between core, cache and memory while the units are hot",
        "faults that need the highest boost, and memory beyond its own data",
    ),
    ALL_PLACES,
    _sized,
    ExerciseForm(solve_bytes, Systems),
    Stress(0.9, 0.15, wide=True),
    Small(24, 1, lambda plan: plan.size),
    short_beat=False,
    kernels=("scipy.linalg.lapack",),
)
