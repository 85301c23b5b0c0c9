"""Floating-point results against exactly known ones: directed cases, denormals, roots, elementary functions.

Sums, products, quotients and square roots must be correctly rounded (IEEE 754, section 4.3 and 5.4.1); what that is
follows from whole-number arithmetic. Elementary functions are compared with values of 200 bits and must lie within
`ULPS` units in the last place; besides they must give the same bits each time.
"""

import math
import warnings
from collections.abc import Callable
from fractions import Fraction

import numpy as np

from thresher.loads.compute.exercise_load import LoadWords, Small, Stress, exercise_load
from thresher.loads.exercise import Array, Plain, Words, aligned, as_words, carve, padded, same_bits
from thresher.loads.load import ExerciseForm
from thresher.loads.plan import LoadPlan
from thresher.model.sheet import WorkingSet

ULPS = 4.0
"""The libraries used promise less than this."""

_PAIRS = 1024
_BASIC = ("add", "subtract", "multiply", "divide", "square root")
_ELEMENTARY: dict[str, tuple[Callable[[Array], Array], float, float]] = {
    "exp": (np.exp, -700.0, 700.0),
    "log": (np.log, 1e-300, 1e300),
    "sin": (np.sin, -100.0, 100.0),
    "cos": (np.cos, -100.0, 100.0),
    "atan": (np.arctan, -1e6, 1e6),
    "tanh": (np.tanh, -20.0, 20.0),
    "cbrt": (np.cbrt, -1e200, 1e200),
    "log1p": (np.log1p, -0.999, 1e10),
    "expm1": (np.expm1, -30.0, 600.0),
}
ROWS = (*_BASIC, *_ELEMENTARY)
"""What is computed, one row of results each."""

_REPEATS = 24
"""How often a beat goes through everything, so that it takes about a millisecond."""

_DIRECTED = (
    0.0,
    -0.0,
    1.0,
    -1.0,
    1.5,
    3.0,
    1 / 3,
    0.1,
    1 + 2**-52,
    1 - 2**-53,
    2.0**53,
    2.0**53 + 2,
    4195835.0,
    3145727.0,
    5e-324,
    2.0**-1074 * 3,
    2.0**-1022,
    2.0**-1022 - 2.0**-1074,
    2.0**-1021,
    1.7976931348623157e308,
    2.0**1023,
    1e-308,
    2.0**-537,
    2.0**-538 * 3,
    2.0**511,
    5505001.0,
    294911.0,
    math.pi,
    math.e,
    2.0**26 + 1,
    2.0**27 - 1,
)
"""Edges of the range and of rounding, smallest and largest denormals, and quotients that divider tables once missed."""


def precision_bytes(_plan: LoadPlan) -> int:
    """Return the bytes of operands and known results."""
    return 2 * padded(_PAIRS * 8) + padded(len(_ELEMENTARY) * _PAIRS * 8) + padded(len(ROWS) * _PAIRS * 8)


class Rounding(Plain):
    """Every kind of result once over all operands, `size` times a beat."""

    def __init__(self, plan: LoadPlan, memory: memoryview) -> None:
        """Lay operands and results over `memory`, which must hold `precision_bytes(plan)`."""
        self.plan = plan
        pair, some, rows = (_PAIRS,), (len(_ELEMENTARY), _PAIRS), (len(ROWS), _PAIRS)
        self._left, self._right, self._arguments, self._known = carve(memory, np.float64, pair, pair, some, rows)
        self._result = aligned((len(ROWS), _PAIRS), np.float64)

    def make(self) -> None:
        """Draw operands, work out the exact results, and note what the elementary functions give."""
        left, right, arguments = self._drawn()
        self._left[:], self._right[:], self._arguments[:] = left, right, arguments
        self._evaluate()
        self._known[:] = self._result
        for row, exact in enumerate(self._exact_rows()):
            self._known[row] = exact

    def _drawn(self) -> tuple[Array, Array, Array]:
        rng = np.random.default_rng(self.plan.seed)
        directed = np.array([(a, b) for a in _DIRECTED for b in _DIRECTED])[: _PAIRS - 63]
        rest = _PAIRS - len(directed)
        drawn = rng.choice((-1.0, 1.0), (rest, 2)) * np.ldexp(rng.uniform(0.5, 1, (rest, 2)), rng.integers(-300, 300))
        pairs = np.concatenate((directed, drawn))
        arguments = np.empty((len(_ELEMENTARY), _PAIRS))
        for row, (_, low, high) in enumerate(_ELEMENTARY.values()):
            arguments[row] = (
                np.exp(rng.uniform(math.log(low), math.log(high), _PAIRS))
                if low > 0
                else (rng.uniform(low, high, _PAIRS))
            )
        return np.ascontiguousarray(pairs[:, 0]), np.ascontiguousarray(pairs[:, 1]), arguments

    def _exact_rows(self) -> list[Array]:
        pairs = list(zip(self._left.tolist(), self._right.tolist(), strict=True))
        return [np.array([exact(a, b) for a, b in pairs]) for exact in _EXACT]

    def describe(self, word: int) -> str:
        """Say which operation a word of the result belongs to."""
        return row_of(word)

    def confirm(self) -> list[int]:
        """Work out the exact results again and compare the elementary functions with values of 200 bits."""
        left, right, arguments = self._drawn()
        drawn = all(
            same_bits(mine, theirs)
            for mine, theirs in ((left, self._left), (right, self._right), (arguments, self._arguments))
        )
        exact = all(
            same_bits(row, np.ascontiguousarray(self._known[number])) for number, row in enumerate(self._exact_rows())
        )
        return [] if drawn and exact and self.largest_error() < ULPS else [0]

    def largest_error(self) -> float:
        """Return the largest error of the known elementary results, in units in the last place."""
        import mpmath

        worst = 0.0
        for number, name in enumerate(_ELEMENTARY):
            arguments, results = self._arguments[number], self._known[len(_BASIC) + number]
            with mpmath.workprec(200):
                function = getattr(mpmath, name)
                if name == "cbrt":  # of a negative number the real root is meant, not the principal one
                    exact = [mpmath.sign(x) * mpmath.cbrt(abs(mpmath.mpf(x))) for x in arguments.tolist()]
                else:
                    exact = [function(mpmath.mpf(x)) for x in arguments.tolist()]
                errors = [
                    abs(mpmath.mpf(found) - true) / mpmath.mpf(math.ulp(float(true)))
                    for found, true in zip(results.tolist(), exact, strict=True)
                ]
            worst = max(worst, float(max(errors)))
        return worst

    def _evaluate(self) -> None:
        left, right, out = self._left, self._right, self._result
        with warnings.catch_warnings(), np.errstate(all="ignore"):
            warnings.simplefilter("ignore")
            np.add(left, right, out=out[0])
            np.subtract(left, right, out=out[1])
            np.multiply(left, right, out=out[2])
            np.divide(left, right, out=out[3])
            np.sqrt(np.abs(left), out=out[4])
            for row, (function, _, _) in enumerate(_ELEMENTARY.values()):
                out[len(_BASIC) + row] = function(self._arguments[row])
        # the sign and content of a NaN are not laid down by the standard
        out[np.isnan(out)] = np.nan

    def compute(self, beat: int) -> bool:
        """Go through everything several times; the first wrong pass ends the beat."""
        del beat  # every beat is the same work
        for _ in range(self.plan.size):
            self._evaluate()
            if not same_bits(self._result, self._known):
                return False
        return True

    def found(self) -> Words:
        """Return the newest results, row by row."""
        return as_words(self._result)

    def expected(self, beat: int) -> Words:
        """Return the known results."""
        del beat
        return as_words(self._known)


def _rounded(value: Fraction, sign_of_zero: float) -> float:
    """Round once, to nearest and to even; overflow gives infinity."""
    if value == 0:
        return math.copysign(0.0, sign_of_zero)
    try:
        return value.numerator / value.denominator  # Python rounds a quotient of whole numbers correctly
    except OverflowError:
        return math.inf if value > 0 else -math.inf


def _sum(a: float, b: float) -> float:
    exact = Fraction(a) + Fraction(b)
    both_negative = math.copysign(1, a) < 0 and math.copysign(1, b) < 0
    return _rounded(exact, -1.0 if both_negative else 1.0)


def _product(a: float, b: float) -> float:
    return _rounded(Fraction(a) * Fraction(b), math.copysign(1, a) * math.copysign(1, b))


def _quotient(a: float, b: float) -> float:
    sign = math.copysign(1, a) * math.copysign(1, b)
    if b == 0:
        return math.nan if a == 0 else math.copysign(math.inf, sign)
    return _rounded(Fraction(a) / Fraction(b), sign)


def _root(a: float, _b: float) -> float:
    a = abs(a)
    if a == 0:
        return 0.0
    mantissa, exponent = math.frexp(a)
    whole, shift = int(mantissa * 2**53), exponent - 53
    whole, shift = (whole << 61, shift - 61) if (shift - 61) % 2 == 0 else (whole << 62, shift - 62)
    root = math.isqrt(whole)
    # one bit more below the last kept shows on which side of it the true root lies
    root = root << 1 | (root * root != whole)
    return math.ldexp(_to_53_bits(root), shift // 2 - 1)


def _to_53_bits(value: int) -> float:
    return float(value)  # Python rounds whole numbers to nearest, ties to even


_EXACT: tuple[Callable[[float, float], float], ...] = (_sum, lambda a, b: _sum(a, -b), _product, _quotient, _root)


def row_of(word: int) -> str:
    """Return what a word of the result is, for a person."""
    return ROWS[word // _PAIRS]


LOAD = exercise_load(
    "precision",
    LoadWords(
        "every kind of floating-point result: directed cases, denormals, division, roots, elementary functions",
        "units that round or divide wrongly",
        "caches, memory, supply and cooling",
    ),
    (WorkingSet.CORE,),
    lambda _by: (_REPEATS, 1),
    ExerciseForm(precision_bytes, Rounding),
    Stress(0.5),
    Small(1, 1, lambda _plan: _PAIRS),
)
