"""Processors and memory that slip now and then: rates by load, heat, voltage and edges, drawn in slices of time.

Each kind of fault is a rule from what a core does and how warm it is to slips a minute, with thresholds and bends of
its own; they differ from the exponentials that the diagnosis reckons with, on purpose.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from thresher.model.port import BitFlip, Stress
from thresher.simulator.fault_kinds import Fault, FaultKind

CACHE_STATUS = (1 << 63) | (1 << 60) | (1 << 59) | (1 << 58) | (1 << 38) | 0x0179
"""VAL, EN, ADDRV, MISCV, corrected count 1, compound code cache hierarchy: eviction, level 1 (a core's second one)."""
CACHE_BANK = 3
PARITY_STATUS = (1 << 63) | (1 << 60) | (1 << 38) | 0x0005
"""VAL, EN, corrected count 1, simple code internal parity."""
PARITY_BANK = 0


@dataclass(frozen=True, slots=True)
class Moment:
    """What a core goes through in a slice: its work, die temperature, clock as a share of the highest."""

    stress: Stress
    die_c: float
    clock_share: float
    memory_c: float


Rule = Callable[[Fault, Moment], float]
"""From a fault and a moment to slips a minute."""


def _bent(value: float, low: float, high: float) -> float:
    """0 below `low`, 1 above `high`, straight between."""
    return float(np.clip((value - low) / (high - low), 0.0, 1.0))


def _vector_unit(fault: Fault, now: Moment) -> float:
    return fault.strength * now.stress.busy * (0.15 + 0.85 * _bent(now.die_c, 60, 85)) if now.stress.wide else 0.0


def _overclock(fault: Fault, now: Moment) -> float:
    steepness = (fault.strength / 100.0) ** 2 * now.clock_share**4
    return steepness * now.stress.busy * (0.1 + 1.4 * _bent(now.die_c, 55, 95) ** 2)


def _undervolt(fault: Fault, now: Moment) -> float:
    short = (fault.strength / 40.0) ** 3 * (now.clock_share**8 + 0.25 * min(now.stress.edges, 25.0))
    return short * now.stress.busy


def _board_supply(fault: Fault, now: Moment) -> float:
    drawn = now.stress.busy * now.stress.heat
    droop = (fault.strength / 60.0) ** 2 * (
        _bent(drawn, 0.35, 1.0) ** 2 + 0.1 * min(now.stress.edges, 10.0) * now.stress.busy
    )
    return droop * (0.5 + 0.5 * _bent(now.die_c, 50, 90))


RULES: dict[FaultKind, Rule] = {
    FaultKind.WEAK_VECTOR_UNIT: _vector_unit,
    FaultKind.CACHE_BIT: lambda fault, now: fault.strength * now.stress.busy,
    FaultKind.OVERCLOCK: _overclock,
    FaultKind.UNDERVOLT: _undervolt,
    FaultKind.MEMORY_CONTROLLER: lambda fault, now: (
        fault.strength / 60.0 * now.stress.busy * now.stress.memory * (1.0 + 2.0 * _bent(now.die_c, 60, 90))
    ),
    FaultKind.BOARD_SUPPLY: _board_supply,
    FaultKind.MEMORY_PATH: lambda fault, now: fault.strength / 60.0 * now.stress.busy * now.stress.memory,
    FaultKind.MEMORY_TIMING: lambda fault, now: (
        fault.strength / 60.0 * now.stress.busy * now.stress.memory * 2.0 ** ((now.memory_c - 45.0) / 5.0)
    ),
}

_CORRECTED_SHARE = {
    FaultKind.CACHE_BIT: 0.85,
    FaultKind.OVERCLOCK: 0.4,
    FaultKind.UNDERVOLT: 0.3,
    FaultKind.BOARD_SUPPLY: 0.45,
}
_CHECKS = {
    FaultKind.CACHE_BIT: (CACHE_STATUS, CACHE_BANK),
    FaultKind.OVERCLOCK: (PARITY_STATUS, PARITY_BANK),
    FaultKind.UNDERVOLT: (PARITY_STATUS, PARITY_BANK),
    FaultKind.BOARD_SUPPLY: (PARITY_STATUS, PARITY_BANK),
}
_STEADY = (FaultKind.WEAK_VECTOR_UNIT, FaultKind.CACHE_BIT)
"""Kinds that slip in the same bit nearly always, and again when the beat is done again."""

ON_THE_WAY = (FaultKind.MEMORY_CONTROLLER, FaultKind.MEMORY_TIMING, FaultKind.MEMORY_PATH)
"""Kinds that spoil words on their way from and to memory."""

WHOLE_MACHINE = (FaultKind.OVERCLOCK, FaultKind.UNDERVOLT, FaultKind.BOARD_SUPPLY, *ON_THE_WAY)
"""Kinds that may slip on any core."""


@dataclass(slots=True)
class IntermittentFaults:
    """One fault at work: slips that reached a result, by core, and corrected ones for the log."""

    fault: Fault
    rng: np.random.Generator
    pending: dict[int, int] = field(default_factory=dict)
    corrected: list[tuple[int, int, int, int]] = field(default_factory=list)

    def step(self, moments: dict[int, Moment], seconds: float) -> None:
        """Draw the slips of one slice for the cores that work, each with its moment."""
        rule = RULES[self.fault.kind]
        for core, now in moments.items():
            if self.fault.kind not in WHOLE_MACHINE and core != self.fault.core:
                continue
            for _ in range(int(self.rng.poisson(rule(self.fault, now) * seconds / 60.0))):
                self._slip(core)

    def _slip(self, core: int) -> None:
        check = _CHECKS.get(self.fault.kind)
        if check is not None and self.rng.random() < _CORRECTED_SHARE[self.fault.kind]:
            self.corrected.append((core, *check, int(self.rng.integers(0x1000, 0x7FFFFF)) << 6))
        else:
            self.pending[core] = self.pending.get(core, 0) + 1

    def take_corrected(self) -> list[tuple[int, int, int, int]]:
        """Return core, status, bank and address of what was corrected since the last call."""
        corrected, self.corrected = self.corrected, []
        return corrected

    def take_flips(self, core: int, beats: int, words: int) -> list[BitFlip]:
        """Turn the slips of a core that reached a result into flipped bits."""
        if not beats or not words:
            return []
        steady = self.fault.kind in _STEADY
        flips = []
        for _ in range(self.pending.pop(core, 0)):
            fixed = steady and self.rng.random() < 0.9
            bit = self.fault.bit if fixed or self.fault.kind is FaultKind.MEMORY_PATH else int(self.rng.integers(0, 64))
            word = int(self.fault.at * words) if fixed else int(self.rng.integers(0, words))
            again = int(self.rng.integers(2, 4)) if steady else int(self.rng.random() < 0.2)
            flips.append(BitFlip(int(self.rng.integers(0, beats)), word, bit, again))
        return flips


@dataclass(slots=True)
class Interconnect:
    """Messages of one core with any other that arrive wrong."""

    fault: Fault
    rng: np.random.Generator
    pending: int = 0

    def step(self, relays: bool, seconds: float) -> None:
        """Draw the wrong messages of one slice; only relay has messages."""
        if relays:
            self.pending += int(self.rng.poisson(self.fault.strength * seconds / 60.0))

    def take_flips(self, beats: int) -> list[BitFlip]:
        """Return the messages to spoil."""
        many, self.pending = (self.pending, 0) if beats else (0, self.pending)
        return [
            BitFlip(int(self.rng.integers(0, beats)), 0, int(self.rng.integers(0, 64))) for _ in range(min(many, beats))
        ]


@dataclass(slots=True)
class LooseContact:
    """A slot whose bit lane is read wrongly in spells of some seconds."""

    fault: Fault
    rng: np.random.Generator
    until: float = -1.0

    def step(self, now: float, seconds: float) -> None:
        """Perhaps begin a spell."""
        if now >= self.until and self.rng.random() < self.fault.strength / 3600.0 * seconds:
            self.until = now + float(self.rng.uniform(2.0, 20.0))

    def take_flips(self, now: float, beats: int, words: int, share: tuple[float, float]) -> list[BitFlip]:
        """Return what is read wrongly in words that lie between two shares of the module's place in the stretch."""
        return _flips_within(self.rng, self.fault.bit, 3, beats, words, share) if now < self.until else []


def _flips_within(
    rng: np.random.Generator, bit: int, count: int, beats: int, words: int, share: tuple[float, float]
) -> list[BitFlip]:
    """Return so many flips of a bit in words that lie between two shares of a stretch."""
    if not beats:
        return []
    low, high = int(share[0] * words), max(int(share[0] * words) + 1, int(share[1] * words))
    return [BitFlip(int(rng.integers(0, beats)), int(rng.integers(low, high)), bit) for _ in range(count)]


@dataclass(slots=True)
class BadSlot:
    """A slot of the board that spoils words of whichever module sits in it, in one bit lane."""

    fault: Fault
    rng: np.random.Generator
    pending: int = 0

    def step(self, traffic: float, seconds: float) -> None:
        """Draw the slips of one slice; `traffic` is the share of the time that memory is busy."""
        self.pending += int(self.rng.poisson(self.fault.strength / 3600.0 * traffic * seconds))

    def take_flips(self, beats: int, words: int, share: tuple[float, float]) -> list[BitFlip]:
        """Return what was spoilt in words that lie between two shares of the stretch."""
        if not beats:
            return []
        count, self.pending = self.pending, 0
        return _flips_within(self.rng, self.fault.bit, count, beats, words, share)


@dataclass(slots=True)
class Pace:
    """How a fault comes and goes in spells, and grows or fades with time."""

    fault: Fault
    rng: np.random.Generator
    awake: bool = True
    until: float = -1.0

    def seconds(self, now: float, seconds: float) -> float:
        """Return how many seconds of its usual rate a slice is worth; on average over long times, all of them."""
        drifted = self.fault.drift * now / 3600.0
        lived = float(seconds * 10.0 ** max(-_MOST_DRIFT, min(_MOST_DRIFT, drifted)))
        if not self.fault.spell_s:
            return lived
        while now >= self.until:
            begun = self.until >= 0.0
            self.awake = not self.awake if begun else bool(self.rng.random() < 0.5)
            self.until = max(self.until, 0.0) + float(self.rng.exponential(self.fault.spell_s))
        return lived * (_AWAKE if self.awake else _ASLEEP)


_AWAKE, _ASLEEP = 1.9, 0.1
_MOST_DRIFT = 0.7
"""Decades that a fault grows or fades by at most."""
