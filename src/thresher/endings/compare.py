"""What several ends of one machine have in common: load, time after the start, temperature, rail, cold or warm."""

from collections import Counter
from collections.abc import Sequence

from thresher.model.endings import OF_THE_MACHINE, MachineEnding, span_text

_COLD_S = 600.0
"""A machine that has been up for less is still warming up."""
_ALIKE_TIMES = 0.35
"""Spread of times, as a share of their mean, below which they count as alike."""
_ALIKE_K = 6.0
_FEWEST = 2


def compare(endings: Sequence[MachineEnding]) -> tuple[str, ...]:
    """Return what the machine's own ends have in common and what not, in sentences; none for fewer than two."""
    mine = [each for each in endings if each.is_evidence]
    if len(mine) < _FEWEST:
        return ()
    return tuple(
        sentence
        for sentence in (_kinds(mine), _loads(mine), _times(mine), _temperatures(mine), _warmth(mine), _rails(mine))
        if sentence
    )


def _kinds(mine: Sequence[MachineEnding]) -> str:
    counts = Counter(each.kind for each in mine)
    named = ", ".join(f"{count} × {kind.value}" for kind, count in counts.most_common())
    whole = [kind for kind in counts if kind in OF_THE_MACHINE]
    return f"Ended {len(mine)} times: {named}" + (", always in the same way" if len(whole) == len(counts) == 1 else "")


def _loads(mine: Sequence[MachineEnding]) -> str:
    names = [frozenset(each.load_names) for each in mine]
    if not any(names):
        return "Each time without a load: what the loads strain is not the cause"
    common = frozenset.intersection(*names)
    if common:
        return f"Each time under {' and '.join(sorted(common))}"
    loaded = [each for each in names if each]
    if len(loaded) == len(names):
        return "Each time under another load: something that all of them strain, such as the supply, or none of them"
    return f"{len(loaded)} of {len(names)} times under load"


def _times(mine: Sequence[MachineEnding]) -> str:
    times = [each.loaded_s for each in mine if each.loaded_s > 0]
    if len(times) < _FEWEST:
        return ""
    mean = sum(times) / len(times)
    low, high = min(times), max(times)
    if high - low <= _ALIKE_TIMES * mean:
        return (
            f"After much the same time under load, {span_text(low)} to {span_text(high)}: something warms up or fills"
        )
    return f"After {span_text(low)} to {span_text(high)} under load, no pattern: about {60.0 * 60.0 / mean:.1f} an hour"


def _temperatures(mine: Sequence[MachineEnding]) -> str:
    known = [each.temperature_c for each in mine if each.temperature_c is not None]
    if len(known) < _FEWEST:
        return ""
    low, high = min(known), max(known)
    words = "at much the same processor temperature" if high - low <= _ALIKE_K else "at any processor temperature"
    return f"{words.capitalize()}, {low:.0f} to {high:.0f} °C"


def _warmth(mine: Sequence[MachineEnding]) -> str:
    cold = sum(each.up_s < _COLD_S for each in mine)
    if cold == len(mine):
        return f"Always cold, within {_COLD_S / 60.0:.0f} min of the start"
    if cold == 0:
        return f"Only warm, {_COLD_S / 60.0:.0f} min or more after the start"
    return f"{cold} of {len(mine)} times cold, within {_COLD_S / 60.0:.0f} min of the start"


def _rails(mine: Sequence[MachineEnding]) -> str:
    rails = Counter(each.weakest_rail.partition(" at ")[0] for each in mine if each.weakest_rail)
    if not rails:
        return ""
    name, count = rails.most_common(1)[0]
    if count < _FEWEST:
        return ""
    last = next(each.weakest_rail for each in reversed(mine) if each.weakest_rail.startswith(name))
    return f"The rail nearest its limit was {name} {count} times of {len(mine)}, at last {last}"
