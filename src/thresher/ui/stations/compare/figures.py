"""The figures beside the large one, as they read: each of the earlier run, an arrow, and of the later one."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.compare.comparison import Comparison, RunHeat
from thresher.heat.throttling import Cause

Value = Callable[[RunHeat], float | None]


@dataclass(frozen=True, slots=True)
class Figure:
    """A row: its name, what it was and is, and a small line below."""

    name: str
    words: str
    small: str


def figures_of(found: Comparison) -> list[Figure]:
    """Return the figures of a comparison's two runs, or of its only one."""
    difference = found.difference
    last = found.runs[difference.second if difference is not None else -1]
    first = found.runs[difference.first] if difference is not None else None
    rows = [
        _figure("Resistance", first, last, _resistance, 2, "K/W", "die to room"),
        _figure("Plateau", first, last, lambda run: run.plateau.value, 1, "°C", _room_words(first, last)),
        _figure(
            "Clock held", first, last, lambda run: run.clock, 2, last.clock_unit, _gain(first, last, _clock, "clock")
        ),
        Figure(
            "Throttled by heat", _from_to([_throttled(run) for run in _both(first, last)]), _lost_words(first, last)
        ),
        _figure("Work done", first, last, lambda run: run.work, 0, "beats/s", _gain(first, last, _work, "work")),
    ]
    for name, _ in last.fans[:1]:
        small = "average on the plateau"
        rows.append(_figure(name, first, last, lambda run, name=name: dict(run.fans).get(name), 0, "rpm", small))  # type: ignore[misc]
    if last.throttles_in_room_c is not None:
        hot = f"{last.throttles_in_room_c.value:.0f} °C"
        rows.append(Figure("Throttles in a room of", hot, "with this load and cooler"))
    if last.time_constants:
        constants = ", ".join(f"{constant.value:.0f} s" for constant, _ in last.time_constants)
        rows.append(Figure("Time constants", constants, "how fast each stage warms up"))
    return [row for row in rows if row is not None]


def _both(first: RunHeat | None, last: RunHeat) -> list[RunHeat]:
    return [last] if first is None else [first, last]


def _from_to(values: list[str]) -> str:
    return " → ".join(values if len(set(values)) > 1 else values[-1:])


def _figure(
    name: str, first: RunHeat | None, last: RunHeat, value: Value, digits: int, unit: str, small: str
) -> Figure | None:
    known = [value(run) for run in _both(first, last)]
    if known[-1] is None:
        return None
    words = ["–" if each is None else f"{each:,.{digits}f}" for each in known]
    return Figure(name, f"{_from_to(words)} {unit}", small)


def _resistance(run: RunHeat) -> float | None:
    return run.resistance.value if run.resistance is not None else None


def _clock(run: RunHeat) -> float | None:
    return run.clock


def _work(run: RunHeat) -> float | None:
    return run.work


def _throttled(run: RunHeat) -> str:
    seconds = sum(each.seconds for each in run.throttling if each.cause is Cause.HEAT)
    return f"{seconds / 60:.0f} min" if seconds >= 60 else f"{seconds:.0f} s"


def _lost_words(first: RunHeat | None, last: RunHeat) -> str:
    lost = [
        sum(each.work_lost or 0.0 for each in run.throttling if each.cause is Cause.HEAT) for run in _both(first, last)
    ]
    if not any(lost):
        return "no work lost"
    return f"{_from_to([f'{each * 100:.1f}' for each in lost])} % of the work lost"


def _room_words(first: RunHeat | None, last: RunHeat) -> str:
    if last.room_c is None:
        return "room unknown"
    if first is None or first.room_c is None or abs(first.room_c - last.room_c) < 0.05:
        return f"as measured, room {last.room_c:.1f} °C, {last.room_from.value}"
    return f"as measured, room {first.room_c:.1f} → {last.room_c:.1f} °C"


def _gain(first: RunHeat | None, last: RunHeat, value: Value, what: str) -> str:
    before = value(first) if first is not None else None
    after = value(last)
    if not before or not after:
        return "on the plateau"
    share = (after - before) / before
    return f"{share * 100:+.1f} % {what}" if abs(share) >= 0.0005 else f"the same {what}"
