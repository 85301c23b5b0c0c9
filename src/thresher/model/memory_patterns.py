"""Memory patterns as lists of steps, and the faults that each is known to find.

Fault models and march notation as in van de Goor, Testing Semiconductor Memories (1991), and IEEE Design & Test 10(1),
1993: stuck-at, transition, coupling (inversion, forcing, state), address decoder, retention. March C- is

    any(w0); up(r0,w1); up(r1,w0); down(r0,w1); down(r1,w0); any(r0)

"0" is the background and "1" its complement.
"""

from dataclasses import dataclass
from enum import StrEnum

_ALL = (1 << 64) - 1


class StepKind(StrEnum):
    """What a step does with every word, in which order."""

    FILL = "fill"
    CHECK = "check"
    TURN_UP = "check and turn, upwards"
    TURN_DOWN = "check and turn, downwards"
    WAIT = "wait"
    MOVE = "move"


@dataclass(frozen=True, slots=True)
class Step:
    """One pass over all words with one background; `turned` begins with the complement."""

    kind: StepKind
    background: str = "flat"
    parameter: int = 0
    turned: bool = False


@dataclass(frozen=True, slots=True)
class Pattern:
    """A pattern: what it does in a sentence, and the kinds of fault it is documented to find in one pass."""

    name: str
    about: str
    finds: tuple[str, ...]


PATTERNS: dict[str, Pattern] = {
    each.name: each
    for each in (
        Pattern("fixed", "all zeros, then all ones", ("stuck",)),
        Pattern(
            "complement",
            "alternating bits, read and turned upwards, read again",
            ("stuck", "transition"),
        ),
        Pattern("checkerboard", "alternating bits that alternate by word too, then turned", ("stuck", "transition")),
        Pattern(
            "walking bit",
            "one set bit, then one clear bit, at every place of the word",
            ("stuck", "transition", "coupled within a word"),
        ),
        Pattern("address", "every word holds its own address, then the complement", ("stuck", "address line")),
        Pattern(
            "random",
            "random words with a known seed, then their complement",
            ("stuck", "address line"),
        ),
        Pattern(
            "march",
            "March C-: six passes, upwards and truly downwards",
            ("stuck", "transition", "coupled, inverting", "coupled, forcing", "coupled, state", "address line"),
        ),
        Pattern(
            "moving inversions",
            "backgrounds turned upwards, then back downwards, one after the other",
            ("stuck", "transition", "coupled, inverting", "coupled, forcing", "coupled within a word"),
        ),
        Pattern("block moves", "long copies up and down, as programs do, then compared", ("stuck", "address line")),
        Pattern(
            "retention",
            "written, left alone, read; the same with the complement",
            ("stuck", "retention"),
        ),
    )
}
"""By name, as a run sheet says it."""

SHORT = ("fixed", "address", "march", "random")
"""The short form: what finds most in minutes."""

LONG = tuple(PATTERNS)
"""The long form: everything."""

BESIDE = ("random", "moving inversions")
"""Beside processor loads: steady traffic that is compared."""

_GRADED = (
    0x5555555555555555,
    0x3333333333333333,
    0x0F0F0F0F0F0F0F0F,
    0x00FF00FF00FF00FF,
    0x0000FFFF0000FFFF,
    0x00000000FFFFFFFF,
    0x0000000000000000,
)
"""For any two bits of a word one of these holds them unlike: what a march by words needs to see couplings inside."""


def _march(background: str, parameter: int) -> list[Step]:
    return [
        Step(StepKind.FILL, background, parameter),
        Step(StepKind.TURN_UP, background, parameter),
        Step(StepKind.TURN_UP, background, parameter, True),
        Step(StepKind.TURN_DOWN, background, parameter),
        Step(StepKind.TURN_DOWN, background, parameter, True),
        Step(StepKind.CHECK, background, parameter),
    ]


def _write_and_check(background: str, parameter: int, turned: bool = False) -> list[Step]:
    return [
        Step(StepKind.FILL, background, parameter, turned),
        Step(StepKind.CHECK, background, parameter, turned),
    ]


def steps_of(name: str, seed: int = 1) -> tuple[Step, ...]:
    """Return the steps of a pattern, in their order. Raises KeyError for a name that is none."""
    alternating = 0x5555555555555555
    flat = "flat"
    steps: dict[str, list[Step]] = {
        "fixed": _write_and_check(flat, 0) + _write_and_check(flat, 0, True),
        "complement": [
            Step(StepKind.FILL, flat, alternating),
            Step(StepKind.TURN_UP, flat, alternating),
            Step(StepKind.TURN_UP, flat, alternating, True),
            Step(StepKind.CHECK, flat, alternating),
        ],
        "checkerboard": [
            Step(StepKind.FILL, "checkered", alternating),
            Step(StepKind.TURN_UP, "checkered", alternating),
            Step(StepKind.TURN_UP, "checkered", alternating, True),
            Step(StepKind.CHECK, "checkered", alternating),
        ],
        "walking bit": [
            step for bit in range(64) for turned in (False, True) for step in _write_and_check(flat, 1 << bit, turned)
        ],
        "address": [
            Step(StepKind.FILL, "addressed"),
            Step(StepKind.TURN_UP, "addressed"),
            Step(StepKind.CHECK, "addressed", 0, True),
        ],
        "random": [
            Step(StepKind.FILL, "scattered", seed),
            Step(StepKind.TURN_UP, "scattered", seed),
            Step(StepKind.CHECK, "scattered", seed, True),
        ],
        "march": _march(flat, 0),
        "moving inversions": [
            step
            for background in _GRADED
            for step in (
                Step(StepKind.FILL, flat, background),
                Step(StepKind.TURN_UP, flat, background),
                Step(StepKind.TURN_DOWN, flat, background, True),
                Step(StepKind.CHECK, flat, background),
            )
        ],
        "block moves": [
            Step(StepKind.FILL, "scattered", seed),
            Step(StepKind.MOVE, "scattered", seed),
            Step(StepKind.CHECK, "scattered", seed),
            Step(StepKind.FILL, "scattered", seed, True),
            Step(StepKind.MOVE, "scattered", seed, True),
            Step(StepKind.CHECK, "scattered", seed, True),
        ],
        "retention": [
            Step(StepKind.FILL, flat, 0),
            Step(StepKind.WAIT, flat, 0),
            Step(StepKind.CHECK, flat, 0),
            Step(StepKind.FILL, flat, 0, True),
            Step(StepKind.WAIT, flat, 0, True),
            Step(StepKind.CHECK, flat, 0, True),
        ],
    }
    return tuple(steps[name])


def value_at(step: Step, place: int) -> int:
    """Return what a step's background holds at a place, the number of the word in the whole stretch."""
    value = {
        "flat": lambda: step.parameter,
        "checkered": lambda: step.parameter ^ (_ALL if place & 1 else 0),
        "addressed": lambda: step.parameter + place * 8,
        "scattered": lambda: _scattered(place, step.parameter),
    }[step.background]() & _ALL
    return value ^ _ALL if step.turned else value


def _scattered(place: int, seed: int) -> int:
    z = (seed + place * 0x9E3779B97F4A7C15) & _ALL
    z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) & _ALL
    return z ^ (z >> 31)
