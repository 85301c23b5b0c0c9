"""Are the bands of the heat analysis honest, and is a prediction near enough? Drawn machines with known heat paths.

Usage: python bench/heat_bands.py [--cases 500] [--seed 1] [--only PART]. Each case is a chain of thermal masses (die,
spreader, heatsink, with or without coolant, case), stepped here and not by the simulated machines: leakage that grows
with temperature, a room that drifts and is measured or typed in, fans that step, a pump that stops, a clock that gives
way at the limit. Prints how often the 90 % bands held the truth: the final temperature and the resistance from die to
room, both worked out from the chain's own steady state; how far the prediction was off after one third of the time to
the plateau; how often a change of 1 K between repeated runs was found; and how often none was called one.
"""

import argparse
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from thresher.heat.analysis import SpanHeat, analyse
from thresher.heat.change import Group, changed
from thresher.heat.load_span import LoadSpan, Room, RoomFrom
from thresher.model.parts import PartKind

Floats = npt.NDArray[np.float64]
_STEP_S = 0.5
_LIMIT_C = 100.0


@dataclass(frozen=True, slots=True)
class Machine:
    """Resistances in K/W from each mass to the next, the last to the room, and heat capacities in J/K."""

    resistances: Floats
    capacities: Floats
    watts: float
    leakage: float
    noise: float
    slow_noise: float
    step_k: float


@dataclass(frozen=True, slots=True)
class Events:
    """What happens on the way: a fan step (when, factor on the air side), a pump that stops, a room that drifts."""

    fan_s: float | None
    fan_factor: float
    pump_s: float | None
    drift_k_per_h: float
    room_from: RoomFrom


def draw_machine(rng: np.random.Generator) -> Machine:
    """Draw a machine: a die of 1 to 3 s, a heatsink of 40 to 200 s, half of them with coolant, all with a case."""
    watts = float(rng.uniform(45.0, 130.0))
    whole = float(rng.uniform(0.28, 0.55))
    shares = np.array([rng.uniform(0.2, 0.5), rng.uniform(0.05, 0.2), rng.uniform(0.3, 0.7), rng.uniform(0.03, 0.12)])
    taus = [rng.uniform(1.0, 3.0), rng.uniform(6.0, 20.0), np.exp(rng.uniform(np.log(40.0), np.log(200.0)))]
    taus.append(np.exp(rng.uniform(np.log(240.0), np.log(800.0))))
    resistances = shares / shares.sum() * whole
    return Machine(
        resistances,
        np.array(taus) / resistances,
        watts,
        float(rng.uniform(0.0, 0.002)),
        float(rng.uniform(0.15, 0.6)),
        float(rng.uniform(0.05, 0.25)),
        float(rng.choice([0.125, 0.5, 1.0])),
    )


def draw_events(rng: np.random.Generator, minutes: float) -> Events:
    """Draw what happens on the way; in half of the cases nothing does."""
    what = rng.choice(["nothing", "fan", "pump", "drift"], p=[0.5, 0.2, 0.1, 0.2])
    early = float(rng.uniform(60.0, minutes * 60.0 * 0.4))
    return Events(
        early if what == "fan" else None,
        float(rng.uniform(0.75, 1.3)),
        early if what == "pump" else None,
        float(rng.uniform(-3.0, 3.0)) if what == "drift" else 0.0,
        RoomFrom.SENSOR if what == "drift" or rng.random() < 0.4 else RoomFrom.TYPED,
    )


def run(
    machine: Machine,
    events: Events,
    minutes: float,
    rng: np.random.Generator,
    room_c: float,
    shift_k: float = 0.0,
    off_k: float | None = None,
) -> tuple[LoadSpan, float, float]:
    """Step a run; return its span, the final temperature at the end's room, and the resistance at the end.

    `shift_k` is put on every temperature: what differs from run to run. `off_k` is by how much the thermometer in the
    room is always off, drawn if left out.
    """
    count = int(minutes * 60.0 / _STEP_S)
    masses = np.full(4, room_c) + shift_k
    hot, power, rooms, fans, clock = (np.empty(count) for _ in range(5))
    share = 1.0
    resistances = machine.resistances.copy()
    watts = room = 0.0
    for number in range(count):
        at = number * _STEP_S
        room = room_c + shift_k + events.drift_k_per_h * at / 3600.0
        resistances = machine.resistances.copy()
        if events.fan_s is not None and at >= events.fan_s:
            resistances[2] *= 1.0 / events.fan_factor
        if events.pump_s is not None and at >= events.pump_s:
            resistances[1] += 0.12
        watts = machine.watts * share * (1.0 + machine.leakage * (masses[0] - 60.0))
        share = max(0.3, share - 0.01) if masses[0] > _LIMIT_C - 1.0 else min(1.0, share + 0.002)
        flows = np.append((masses - np.append(masses[1:], room)) / resistances, 0.0)
        masses = masses + _STEP_S * (np.append([watts], flows[:3]) - flows[:4]) / machine.capacities
        hot[number], power[number], rooms[number], clock[number] = masses[0], watts, room, 4.5 * share
        fans[number] = 900.0 * (events.fan_factor if events.fan_s is not None and at >= events.fan_s else 1.0)
    every = int(1.0 / _STEP_S)
    times = np.arange(count, dtype=np.float64)[::every] * _STEP_S
    length = len(times)
    slow = np.empty(length)
    slow[0] = rng.standard_normal()
    keep = np.exp(-1.0 / 12.0)
    for number in range(1, length):
        slow[number] = keep * slow[number - 1] + np.sqrt(1.0 - keep**2) * rng.standard_normal()
    seen = hot[::every] + machine.slow_noise * slow + machine.noise * rng.standard_normal(length)
    seen = np.round(seen / machine.step_k) * machine.step_k
    if events.room_from is RoomFrom.SENSOR:
        always = float(rng.normal(0.0, 0.3)) if off_k is None else off_k
        measured = rooms[::every] - shift_k + always + 0.05 * rng.standard_normal(length)
        place = Room(measured, RoomFrom.SENSOR)
    else:
        place = Room(np.array([room_c + rng.normal(0.0, 0.7)]), RoomFrom.TYPED)
    span = LoadSpan(
        load="matrix",
        part="processor",
        kind=PartKind.PROCESSOR,
        times=times,
        hot=seen,
        start_c=room_c,
        room=place,
        power=power[::every] * (1.0 + 0.005 * rng.standard_normal(length)),
        clock=clock[::every],
        fans=(("CPU fan", fans[::every] + 5.0 * rng.standard_normal(length)),),
        limit_c=_LIMIT_C,
        power_limit_w=machine.watts * 1.5,
    )
    whole = float(resistances.sum())
    final = room + whole * watts
    if share > 0.999:  # the leakage at the final temperature, by its own straight line
        base = machine.watts
        final = (room + whole * base * (1.0 - 60.0 * machine.leakage)) / (1.0 - whole * base * machine.leakage)
    return span, final, whole


@dataclass(slots=True)
class _Kept:
    """How often the truth was inside."""

    name: str
    inside: int = 0
    all: int = 0

    def take(self, low: float, truth: float, high: float) -> None:
        self.all += 1
        self.inside += low <= truth <= high

    def line(self) -> str:
        return f"{self.name}: {self.inside} of {self.all}, {100.0 * self.inside / max(self.all, 1):.1f} %"


def bands(cases: int, seed: int) -> None:
    """Print how often the bands hold."""
    rng = np.random.default_rng(seed)
    final, resistance = _Kept("final temperature in its 90 % band"), _Kept("resistance in its 90 % band")
    pumps = _Kept("pump that stopped found")
    for _ in range(cases):
        minutes = float(rng.uniform(12.0, 40.0))
        machine, events = draw_machine(rng), draw_events(rng, minutes)
        span, ends, whole = run(machine, events, minutes, rng, float(rng.uniform(17.0, 32.0)))
        heat = analyse(span)
        if heat is None:
            final.take(1.0, 0.0, 1.0)
            continue
        if events.pump_s is not None:
            pumps.all += 1
            pumps.inside += heat.broken is not None
        if float(np.nanmin(span.clock if span.clock is not None else [1.0])) >= 4.49:
            final.take(heat.plateau.low, ends, heat.plateau.high)
        if heat.resistance is not None:
            resistance.take(heat.resistance.low, whole, heat.resistance.high)
    for each in (final, resistance, pumps):
        print(each.line())


def predictions(cases: int, seed: int) -> None:
    """Print how far the prediction is off after one third of the time until the plateau is found."""
    rng = np.random.default_rng(seed + 1)
    near, held = _Kept("predicted within 2 K after a third of the way"), _Kept("early 90 % band held the final one")
    calm = Events(None, 1.0, None, 0.0, RoomFrom.TYPED)
    for _ in range(cases):
        span, ends, _whole = run(draw_machine(rng), calm, 50.0, rng, float(rng.uniform(17.0, 32.0)))
        found = next((cut for cut in range(240, len(span.times), 60) if _reached(span, cut)), len(span.times))
        heat = analyse(_first(span, max(found // 3, 40)))
        if heat is None or ends > _LIMIT_C - 2.0:
            continue
        near.take(ends - 2.0, heat.plateau.value, ends + 2.0)
        held.take(heat.plateau.low, ends, heat.plateau.high)
    print(near.line())
    print(held.line())


def _first(span: LoadSpan, count: int) -> LoadSpan:
    """Return the first readings of a span."""
    assert span.power is not None and span.clock is not None
    return LoadSpan(
        load=span.load,
        part=span.part,
        kind=span.kind,
        times=span.times[:count],
        hot=span.hot[:count],
        start_c=span.start_c,
        room=span.room,
        power=span.power[:count],
        clock=span.clock[:count],
        fans=tuple((name, speed[:count]) for name, speed in span.fans),
        limit_c=span.limit_c,
        power_limit_w=span.power_limit_w,
    )


def _reached(span: LoadSpan, count: int) -> bool:
    heat = analyse(_first(span, count))
    return heat is not None and heat.reached


def changes(cases: int, seed: int) -> None:
    """Print how often a change of 1 K is found between three runs and three, and how often none is called one."""
    rng = np.random.default_rng(seed + 2)
    found, called = _Kept("change of 1 K found"), _Kept("untouched machine called changed")
    calm = Events(None, 1.0, None, 0.0, RoomFrom.SENSOR)
    for case in range(cases):
        machine = draw_machine(rng)
        changes_k = 1.0 if case % 2 else 0.0
        groups: list[list[SpanHeat]] = [[], []]
        off_k = float(rng.normal(0.0, 0.3))
        for number in range(6):
            resistances = machine.resistances.copy()
            if number >= 3:
                resistances[2] -= changes_k / machine.watts
            other = Machine(
                resistances,
                machine.capacities,
                machine.watts,
                machine.leakage,
                machine.noise,
                machine.slow_noise,
                machine.step_k,
            )
            room_c, shift_k = 22.0 + float(rng.normal(0.0, 1.0)), float(rng.normal(0.0, 0.2))
            span, _, _ = run(other, calm, 22.0, rng, room_c, shift_k, off_k)
            heat = analyse(span)
            if heat is not None:
                groups[number // 3].append(heat)
        if not groups[0] or not groups[1]:
            continue
        change = changed(Group("before", tuple(groups[0])), Group("after", tuple(groups[1])))
        kept = found if changes_k else called
        kept.all += 1
        kept.inside += change.real
    print(found.line())
    print(called.line())


def main() -> None:
    """Print all figures."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--cases", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", choices=("bands", "predictions", "changes"))
    options = parser.parse_args()
    fewer = max(options.cases // 5, 2)
    for part, cases in ((bands, options.cases), (predictions, fewer), (changes, fewer)):
        if options.only in (None, part.__name__):
            part(cases, options.seed)


if __name__ == "__main__":
    main()
