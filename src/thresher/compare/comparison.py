"""A comparison of runs: each run's heat, what differs, whether that is fair and real, and which remedies would help."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from thresher.compare.stored_spans import HotPart, RunChoice, RunSpan
from thresher.heat.analysis import SpanHeat, Stage, analyse
from thresher.heat.change import Change, Group, changed, difference_lane
from thresher.heat.comparable import Condition, RunFacts, conditions, refusals
from thresher.heat.heat_path import HeatVerdict, Trouble, judge
from thresher.heat.load_span import LoadSpan, RoomFrom
from thresher.heat.remedies import Remedy, Step, expected, steps
from thresher.heat.throttling import Throttling
from thresher.heat.warming import Band
from thresher.model.errors import InputError, InputFault

Floats = npt.NDArray[np.float64]

_POINTS = 360
"""Points of a curve as it is shown; each stands for the lowest and highest reading of its stretch."""
MOST_RUNS = 8


@dataclass(frozen=True, slots=True)
class Curve:
    """A quantity of one run over the time since the load came on, in s: lowest and highest value of each stretch."""

    times: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class CurveSet:
    """The same quantity of all runs: its name and unit, a curve a run (None where it was not recorded), and a limit."""

    name: str
    unit: str
    curves: tuple[Curve | None, ...]
    limit: float | None = None


@dataclass(frozen=True, slots=True)
class RunHeat:
    """What one run shows, in the form that is sent to the window: see `SpanHeat`."""

    choice: RunChoice
    minutes: float
    plateau: Band
    reached: bool
    reached_s: float
    left: Band
    power_w: float | None
    room_c: float | None
    room_from: RoomFrom
    start_c: float | None
    resistance: Band | None
    stages: tuple[Stage, ...]
    time_constants: tuple[tuple[Band, Band], ...]
    clock: float | None
    clock_unit: str
    fans: tuple[tuple[str, float], ...]
    work: float | None
    limit_c: float | None
    throttling: tuple[Throttling, ...]
    throttles_above_w: Band | None
    throttles_in_room_c: Band | None
    verdict: HeatVerdict


@dataclass(frozen=True, slots=True)
class Difference:
    """The last two states against each other: whether that is fair, what changed, and the curve of the difference."""

    first: int
    second: int
    conditions: tuple[Condition, ...]
    refused: tuple[str, ...]
    change: Change | None
    curve: Curve | None
    middle: tuple[float, ...] = ()


@dataclass(frozen=True, slots=True)
class Comparison:
    """Everything that the station, the command line and the report show of a comparison."""

    part: HotPart
    runs: tuple[RunHeat, ...]
    curves: tuple[CurveSet, ...]
    difference: Difference | None
    steps: tuple[Step, ...]
    remedies: tuple[Remedy, ...]
    sentence: str
    advice: str


def compare(spans: Sequence[RunSpan], part: HotPart, reference: float | None = None) -> Comparison:
    """Compare runs in their order: the last run of another state against the newest state.

    Runs of one state (the same trial of the same job) count together. `reference` is the resistance in K/W of a
    known-good run. Raises InputError for a run with too little steady load.
    """
    if not 1 <= len(spans) <= MOST_RUNS:
        fault = InputFault("runs", f"expected 1 to {MOST_RUNS}, found {len(spans)}")
        raise InputError("comparison", [fault])
    heats = [_heat(each) for each in spans]
    facts = [_facts(each, heat) for each, heat in zip(spans, heats, strict=True)]
    runs = tuple(_run_heat(each.choice, heat, reference) for each, heat in zip(spans, heats, strict=True))
    states = _states(spans, facts)
    difference = _difference(states, facts)
    room = float(np.median([each.room_c for each in heats]))
    refused = [" ".join(refusals(conditions(facts[a.last], facts[b.last]))) for a, b in pairwise(states)]
    known = bool(np.isfinite(room)) and not (difference is not None and difference.refused)
    remedies = expected(heats[-1], reference)
    return Comparison(
        part,
        runs,
        _curves([each.span for each in heats]),
        difference,
        steps([each.group for each in states], refused, room) if known else (),
        remedies,
        _sentence(runs, difference, len(states)),
        _advice(runs[-1], remedies),
    )


def _heat(each: RunSpan) -> SpanHeat:
    heat = analyse(each.span)
    if heat is None:
        fault = InputFault(f"run {each.choice.ref.run}", "under 20 s of steady load with readings: run it longer")
        raise InputError(each.choice.name, [fault])
    return heat


@dataclass(frozen=True, slots=True)
class _State:
    """The comparable runs of one state of a machine, and the place of its last run."""

    group: Group
    last: int


def _states(spans: Sequence[RunSpan], facts: Sequence[RunFacts]) -> list[_State]:
    """Return the states in the order of their first runs. A run that its state's last cannot be compared with is left
    out of the state's group.
    """
    places: dict[tuple[str, int], list[int]] = {}
    for place, each in enumerate(spans):
        places.setdefault((each.choice.ref.job, each.choice.state), []).append(place)
    made = []
    for mine in places.values():
        last = mine[-1]
        fair = [i for i in mine if i == last or not refusals(conditions(facts[i], facts[last]))]
        runs = tuple(facts[i].heat for i in fair)
        made.append(_State(Group(spans[last].choice.name, runs, facts[last].machine), last))
    return made


def _difference(states: list[_State], facts: Sequence[RunFacts]) -> Difference | None:
    if len(facts) < 2:
        return None
    if len(states) >= 2:
        before, after, first, second = states[-2].group, states[-1].group, states[-2].last, states[-1].last
    else:  # runs of one state: whether they repeat each other
        first, second = len(facts) - 2, len(facts) - 1
        before, after = (Group(states[0].group.name, (facts[i].heat,), facts[i].machine) for i in (first, second))
    found = conditions(facts[first], facts[second])
    refused = refusals(found)
    if refused:
        return Difference(first, second, found, refused, None, None)
    change = changed(before, after)
    lane = difference_lane(facts[first].heat, facts[second].heat, change.power_w)
    curve = Curve(_numbers(lane.times), _numbers(lane.low), _numbers(lane.high))
    return Difference(first, second, found, (), change, curve, _numbers(lane.values))


def _facts(each: RunSpan, heat: SpanHeat) -> RunFacts:
    return RunFacts(each.choice.sheet, each.choice.machine, each.choice.simulated, heat)


def _run_heat(choice: RunChoice, heat: SpanHeat, reference: float | None) -> RunHeat:
    span = heat.span
    return RunHeat(
        choice=choice,
        minutes=span.length_s / 60.0,
        plateau=heat.plateau,
        reached=heat.reached,
        reached_s=heat.reached_s,
        left=heat.left,
        power_w=heat.power_w,
        room_c=heat.room_c if span.room.source is not RoomFrom.UNKNOWN else None,
        room_from=span.room.source,
        start_c=span.start_c,
        resistance=heat.resistance,
        stages=heat.stages,
        time_constants=heat.time_constants,
        clock=heat.clock,
        clock_unit=span.clock_unit,
        fans=heat.fans,
        work=heat.work,
        limit_c=span.limit_c,
        throttling=heat.throttling,
        throttles_above_w=heat.throttles_above_w,
        throttles_in_room_c=heat.throttles_in_room_c,
        verdict=judge(heat, reference),
    )


def _curves(own: Sequence[LoadSpan]) -> tuple[CurveSet, ...]:
    limits = [each.limit_c for each in own if each.limit_c is not None]
    found = [
        CurveSet("Temp", "°C", tuple(_curve(each.times, each.hot) for each in own), min(limits, default=None)),
        CurveSet("Clock", own[0].clock_unit, tuple(_curve(each.times, each.clock) for each in own)),
        CurveSet("Power", "W", tuple(_curve(each.times, each.power) for each in own)),
        CurveSet("Work done", "beats/s", tuple(_curve(each.times, each.work) for each in own)),
        *_fan_curves(own),
    ]
    return tuple(each for each in found if any(curve is not None for curve in each.curves))


def _fan_curves(own: Sequence[LoadSpan]) -> list[CurveSet]:
    """Return the speed of the first fan that any run has, in every run that has it."""
    name = next((each.fans[0][0] for each in own if each.fans), None)
    if name is None:
        return []
    return [CurveSet(name, "rpm", tuple(_curve(each.times, dict(each.fans).get(name)) for each in own))]


def _curve(times: Floats, values: Floats | None) -> Curve | None:
    if values is None or not np.isfinite(values).any():
        return None
    kept = np.isfinite(values)
    times, values = times[kept], values[kept]
    edges = np.unique(np.linspace(0, len(values), min(_POINTS, len(values)) + 1).astype(int)[:-1])
    middle = times[np.minimum((edges + np.append(edges[1:], len(values))) // 2, len(values) - 1)]
    return Curve(
        _numbers(middle), _numbers(np.minimum.reduceat(values, edges)), _numbers(np.maximum.reduceat(values, edges))
    )


def _numbers(values: Floats) -> tuple[float, ...]:
    return tuple(float(f"{value:.5g}") for value in values)


def _sentence(runs: tuple[RunHeat, ...], difference: Difference | None, states: int) -> str:
    """Return the sentence for the report."""
    if difference is None:
        return runs[-1].verdict.sentence
    if difference.refused:
        return f"Not comparable. {' '.join(difference.refused)}"
    change = difference.change
    assert change is not None
    first, second = runs[difference.first], runs[difference.second]
    name = "the same again" if states < 2 else f"after “{second.choice.name}”"
    sheet = f"{second.choice.load}, {second.minutes:.0f} min"
    at = f" at {change.power_w:.0f} W" if change.power_w is not None else ""
    if change.real:
        return (
            f"{sheet}{at}: {name} it runs {change.sentence.partition(':')[0]}. Measured {first.plateau.value:.0f} °C"
            f" before, {second.plateau.value:.0f} °C after. This is a real change."
        )
    return f"{sheet}{at}, {name}: {change.sentence}."


def _advice(last: RunHeat, remedies: tuple[Remedy, ...]) -> str:
    """Say what to do next: nothing, or the cheapest remedy that is worth it."""
    if not last.reached and last.verdict.trouble is Trouble.UNKNOWN:
        return last.verdict.sentence
    worth = [each for each in remedies if each.worth_it]
    if last.limit_c is not None and not last.throttling:
        room = last.limit_c - last.plateau.value
        if room >= 12.0:
            more = f" Not needed: {worth[0].words.lower()} (about {worth[0].gain.value:.0f} K)." if worth else ""
            return f"{room:.0f} K below the limit now.{more}"
    if worth:
        return f"Next: {worth[0].words.lower()}, expected gain {worth[0].gain.low:.0f} to {worth[0].gain.high:.0f} K."
    return last.verdict.sentence
