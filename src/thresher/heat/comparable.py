"""Are runs comparable at all? Each condition with what was found, what can be corrected, and what cannot."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from thresher.heat.analysis import SpanHeat
from thresher.heat.load_span import RoomFrom
from thresher.heat.throttling import Cause

_POWER_SAME, _POWER_MOST = 0.05, 0.35
_START_K, _ROOM_K, _FAN_SHARE = 3.0, 0.5, 0.08
_PREDICTED_K = 2.0


class Fairness(StrEnum):
    """How a condition stands."""

    SAME = "same"
    CORRECTED = "corrected"
    NOTED = "noted"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of a fair comparison: what was found in both runs, and what follows where it is not the same."""

    name: str
    fairness: Fairness
    found: str
    consequence: str = ""


@dataclass(frozen=True, slots=True)
class RunFacts:
    """A run with what a comparison has to know besides its heat."""

    sheet: str
    machine: str
    simulated: bool
    heat: SpanHeat


def conditions(first: RunFacts, second: RunFacts) -> tuple[Condition, ...]:
    """Return every condition for comparing two runs."""
    return (
        _machine(first, second),
        _load(first, second),
        _power(first.heat, second.heat),
        _start(first.heat, second.heat),
        _room(first.heat, second.heat),
        _fans(first.heat, second.heat),
        _sensors(first.heat, second.heat),
        _length(first.heat, second.heat),
        _limit(first.heat, second.heat),
    )


def refusals(found: Sequence[Condition]) -> tuple[str, ...]:
    """Return why the runs cannot be compared; nothing when they can."""
    return tuple(each.consequence for each in found if each.fairness is Fairness.REFUSED)


def _machine(first: RunFacts, second: RunFacts) -> Condition:
    if first.heat.span.kind is not second.heat.span.kind:
        found = f"{first.heat.span.part} / {second.heat.span.part}"
        return Condition("part", Fairness.REFUSED, found, "The load ran on different kinds of parts.")
    if first.simulated is not second.simulated:
        words = "A simulated machine cannot be compared with a real one."
        return Condition("machine", Fairness.REFUSED, "simulated / real", words)
    if first.machine == second.machine:
        return Condition("machine", Fairness.SAME, "the same")
    note = "Different machines: the difference is not the gain of a repair."
    return Condition("machine", Fairness.NOTED, f"{first.machine} / {second.machine}", note)


def _load(first: RunFacts, second: RunFacts) -> Condition:
    one, two = first.heat.span.load, second.heat.span.load
    if one != two:
        words = f"{one} and {two} heat the chip differently. Repeat one run with the other's sheet."
        return Condition("load", Fairness.REFUSED, f"{one} / {two}", words)
    if first.sheet != second.sheet:
        return Condition("sheet and load", Fairness.NOTED, f"{one}, other sheet", "Other sheet, but the same load.")
    return Condition("sheet and load", Fairness.SAME, "the same")


def _power(first: SpanHeat, second: SpanHeat) -> Condition:
    one, two = first.power_w, second.power_w
    if one is None or two is None:
        return Condition("power", Fairness.NOTED, "not reported", "Temperatures are compared, not resistances.")
    found = f"{one:.0f} / {two:.0f} W"
    apart = abs(two - one) / max(one, two)
    if apart <= _POWER_SAME:
        return Condition("power", Fairness.SAME, found)
    if apart <= _POWER_MOST:
        return Condition("power", Fairness.CORRECTED, found, "Power differs: resistance is compared, not temperature.")
    words = f"Power differs by {apart * 100:.0f} %, too much to correct for."
    return Condition("power", Fairness.REFUSED, found, words)


def _start(first: SpanHeat, second: SpanHeat) -> Condition:
    one, two = first.span.start_c, second.span.start_c
    if one is None or two is None:
        return Condition("start temperature", Fairness.NOTED, "unknown", "Only the plateaus are compared.")
    found = f"{one:.0f} / {two:.0f} °C"
    if abs(two - one) <= _START_K:
        return Condition("start temperature", Fairness.SAME, found)
    return Condition("start temperature", Fairness.CORRECTED, found, "Starts differ: only the plateaus are compared.")


def _room(first: SpanHeat, second: SpanHeat) -> Condition:
    sources = {first.span.room.source, second.span.room.source}
    if RoomFrom.UNKNOWN in sources:
        words = "Room temperature unknown. Type it in: a warm day looks like a fault."
        return Condition("room", Fairness.REFUSED, "unknown", words)
    found = f"{first.room_c:.1f} / {second.room_c:.1f} °C, {_sources(first, second)}"
    if RoomFrom.COLD_START in sources:
        words = "Room estimated from the cold start (±2 K). Type it in for a narrower range."
        return Condition("room", Fairness.NOTED, found, words)
    apart = abs(second.room_c - first.room_c)
    if apart <= _ROOM_K:
        return Condition("room", Fairness.SAME, found)
    return Condition("room", Fairness.CORRECTED, found, f"Room differs by {apart:.1f} K: corrected for.")


def _sources(first: SpanHeat, second: SpanHeat) -> str:
    one, two = first.span.room.source, second.span.room.source
    return one.value if one is two else f"{one.value} / {two.value}"


def _fans(first: SpanHeat, second: SpanHeat) -> Condition:
    one, two = dict(first.fans), dict(second.fans)
    both = [name for name in one if name in two]
    if not both:
        return Condition(
            "fans",
            Fairness.NOTED,
            "not reported",
            "No fan speed is reported in both runs.",
        )
    name = max(both, key=lambda each: abs(one[each] - two[each]) / max(one[each], two[each], 1.0))
    found = f"{one[name]:,.0f} / {two[name]:,.0f} rpm"
    if abs(one[name] - two[name]) <= _FAN_SHARE * max(one[name], two[name], 1.0):
        return Condition("fans", Fairness.SAME, found)
    way = "faster" if two[name] > one[name] else "slower"
    words = f"{name} ran {way} in the second run: part of the difference is the fan's."
    return Condition("fans", Fairness.NOTED, found, words)


def _sensors(first: SpanHeat, second: SpanHeat) -> Condition:
    one, two = set(first.span.ignored), set(second.span.ignored)
    if one == two:
        return Condition("sensors", Fairness.SAME, "the same trusted")
    names = ", ".join(sorted(one ^ two))
    return Condition("sensors", Fairness.NOTED, names, "Ignored in one run only: the hottest sensor may differ.")


def _length(first: SpanHeat, second: SpanHeat) -> Condition:
    past = [max(0.0, each.span.length_s - each.reached_s) / 60.0 for each in (first, second)]
    found = " / ".join(
        f"{minutes:.0f} min" if each.reached else "not reached"
        for minutes, each in zip(past, (first, second), strict=True)
    )
    short = [each for each in (first, second) if not each.reached]
    if not short:
        return Condition("past the plateau", Fairness.SAME, found)
    if all(each.plateau.error <= _PREDICTED_K for each in short):
        words = "The plateau is predicted from the curve."
        return Condition("past the plateau", Fairness.CORRECTED, found, words)
    left = max(short, key=lambda each: each.plateau.error)
    words = (
        f"Too short, no plateau: after {left.span.length_s / 60:.0f} min the plateau is only known to"
        f" ±{left.plateau.error:.1f} K. Run it longer."
    )
    return Condition("past the plateau", Fairness.REFUSED, found, words)


def _limit(first: SpanHeat, second: SpanHeat) -> Condition:
    by_heat = [any(each.cause is Cause.HEAT for each in heat.throttling) for heat in (first, second)]
    if not any(by_heat):
        return Condition("clock", Fairness.SAME, "not lowered by heat")
    found = " / ".join("lowered by heat" if each else "held" for each in by_heat)
    if first.resistance is None or second.resistance is None:
        words = "It throttled: the temperature sits at the limit with any cooler, and no power is reported."
        return Condition("clock", Fairness.REFUSED, found, words)
    words = "It throttled, so the temperature sits at the limit: resistance is compared."
    return Condition("clock", Fairness.CORRECTED, found, words)
