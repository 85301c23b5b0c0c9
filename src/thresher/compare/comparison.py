"""A comparison of runs: each run's heat, what differs, whether that is fair and real, and which remedies would help."""

from collections.abc import Sequence
from dataclasses import dataclass

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
    """What one run says, as it is shown and sent: see `SpanHeat`."""

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

    Runs of one state (the same trial of the same job) count together. `reference` is the resistance in K/W that the
    shop has measured on such a machine. Raises InputError for a run with too little steady load.
    """
    if not 1 <= len(spans) <= MOST_RUNS:
        fault = InputFault("runs", f"expected 1 to {MOST_RUNS}, found {len(spans)}")
        raise InputError("comparison", [fault])
    heats = [_heat(each) for each in spans]
    runs = tuple(_run_heat(each.choice, heat, reference) for each, heat in zip(spans, heats, strict=True))
    groups = _groups(spans, heats)
    difference = _difference(spans, heats, groups)
    room = float(np.median([each.room_c for each in heats]))
    fair = (difference is None or not difference.refused) and bool(np.isfinite(room))
    made = steps([group for group, _ in groups], room) if fair else ()
    remedies = expected(heats[-1], reference)
    return Comparison(
        part,
        runs,
        _curves([each.span for each in heats]),
        difference,
        made,
        remedies,
        _sentence(runs, difference, groups),
        _advice(runs[-1], remedies),
    )


def _heat(each: RunSpan) -> SpanHeat:
    heat = analyse(each.span)
    if heat is None:
        fault = InputFault(f"run {each.choice.ref.run}", "under 20 s of steady load with readings: run it longer")
        raise InputError(each.choice.name, [fault])
    return heat


def _groups(spans: Sequence[RunSpan], heats: Sequence[SpanHeat]) -> list[tuple[Group, int]]:
    """Return the states in the order of their first runs, each with the place of its last run."""
    places: dict[tuple[str, int], list[int]] = {}
    for place, each in enumerate(spans):
        places.setdefault((each.choice.ref.job, each.choice.state), []).append(place)
    return [(Group(spans[mine[0]].choice.name, tuple(heats[i] for i in mine)), mine[-1]) for mine in places.values()]


def _difference(
    spans: Sequence[RunSpan], heats: Sequence[SpanHeat], groups: list[tuple[Group, int]]
) -> Difference | None:
    if len(spans) < 2:
        return None
    if len(groups) >= 2:
        (before, first), (after, second) = groups[-2], groups[-1]
    else:  # runs of one state: whether they repeat each other
        first, second = len(spans) - 2, len(spans) - 1
        before, after = Group(spans[first].choice.name, (heats[first],)), Group("again", (heats[second],))
    facts = [_facts(spans[place], heats[place]) for place in (first, second)]
    found = conditions(*facts)
    refused = refusals(found)
    if refused:
        return Difference(first, second, found, refused, None, None)
    change = changed(before, after)
    lane = difference_lane(heats[first], heats[second], change.power_w)
    curve = Curve(_numbers(lane.times), _numbers(lane.low), _numbers(lane.high))
    return Difference(first, second, found, (), change, curve, _numbers(lane.values))


def _facts(each: RunSpan, heat: SpanHeat) -> RunFacts:
    return RunFacts(each.choice.name, each.choice.sheet, each.choice.machine, heat)


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
        CurveSet("Heat", "°C", tuple(_curve(each.times, each.hot) for each in own), min(limits, default=None)),
        CurveSet("Clock", own[0].clock_unit, tuple(_curve(each.times, each.clock) for each in own)),
        CurveSet("Power", "W", tuple(_curve(each.times, each.power) for each in own)),
        CurveSet("Work done", "beats/s", tuple(_curve(each.times, each.work) for each in own)),
        CurveSet("Fan", "rpm", tuple(_curve(each.times, each.fans[0][1] if each.fans else None) for each in own)),
    ]
    return tuple(each for each in found if any(curve is not None for curve in each.curves))


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


def _sentence(runs: tuple[RunHeat, ...], difference: Difference | None, groups: list[tuple[Group, int]]) -> str:
    """Say in one sentence what the report says of it."""
    if difference is None:
        return runs[-1].verdict.sentence
    if difference.refused:
        return f"Not comparable. {' '.join(difference.refused)}"
    change = difference.change
    assert change is not None
    first, second = runs[difference.first], runs[difference.second]
    name = "the same again" if len(groups) < 2 else f"after “{second.choice.name}”"
    sheet = f"{second.choice.load}, {second.minutes:.0f} min"
    at = f" at {change.power_w:.0f} W" if change.power_w is not None else ""
    if change.real:
        return (
            f"{sheet}{at}: {name} it runs {change.sentence.partition(':')[0]}, from {first.plateau.value:.0f} to"
            f" {second.plateau.value:.0f} °C as measured. This is a real change."
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
            best = worth[0] if worth else None
            more = f" {best.words} would gain about {best.gain.value:.0f} K more and is not needed." if best else ""
            return f"Now {room:.0f} K below the limit.{more}"
    if worth:
        return f"Next: {worth[0].words.lower()}, expected gain {worth[0].gain.low:.0f} to {worth[0].gain.high:.0f} K."
    return last.verdict.sentence
