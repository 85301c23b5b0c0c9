"""Whether readings can be true while loads run: temperatures that jump, or stand still while others rise.

At idle little moves and little can be told; under load a broken sensor gives itself away.
"""

from dataclasses import dataclass, field

from thresher.model.channels import Channel, Quantity, SensorDoubt, Tick
from thresher.model.parts import PartKind

_DIE_JUMP_K, _JUMP_K = 45.0, 15.0
"""What a die does within a second when a load comes or goes, and what anything with more mass never does."""
_JUMPS, _WITHIN_S, _LONGEST_STEP_S = 3, 120.0, 2.5
_OTHERS_ROSE_K = 10.0
_STILL_FOR_S = 30.0


@dataclass(slots=True)
class _Seen:
    """What a temperature has done: its last reading, its jumps, its lowest and highest since it was watched."""

    at: float
    value: float
    low: float
    high: float
    since: float
    jumps: list[float] = field(default_factory=list)


class RunningSanity:
    """Watches the temperatures of one machine; each doubt is told once."""

    def __init__(self, channels: tuple[Channel, ...]) -> None:
        """Nothing has been seen yet."""
        self._watched = {
            index: channel for index, channel in enumerate(channels) if channel.quantity is Quantity.TEMPERATURE
        }
        self._seen: dict[int, _Seen] = {}
        self._told: set[int] = set()

    def look(self, tick: Tick) -> list[SensorDoubt]:
        """Take a tick in and return new doubts."""
        doubts = []
        for index, channel in self._watched.items():
            value = tick.values[index]
            if value is None or index in self._told:
                continue
            doubt = self._jumping(index, channel, tick.at, value)
            if doubt is not None:
                self._told.add(index)
                doubts.append(doubt)
        return doubts + self._still(tick)

    def _jumping(self, index: int, channel: Channel, at: float, value: float) -> SensorDoubt | None:
        seen = self._seen.get(index)
        if seen is None:
            self._seen[index] = _Seen(at, value, value, value, at)
            return None
        step, most = abs(value - seen.value), _DIE_JUMP_K if channel.kind is PartKind.PROCESSOR else _JUMP_K
        if step > most and at - seen.at <= _LONGEST_STEP_S:
            seen.jumps = [*(each for each in seen.jumps if at - each <= _WITHIN_S), at]
        before = seen.value
        seen.at, seen.value = at, value
        seen.low, seen.high = min(seen.low, value), max(seen.high, value)
        if len(seen.jumps) < _JUMPS:
            return None
        last = f"last {before:.0f} to {value:.0f} °C"
        detail = f"{_JUMPS} times by more than {most:.0f} K from one reading to the next, {last}"
        return SensorDoubt("X-837", channel.key, "Reading that jumps", detail)

    def _still(self, tick: Tick) -> list[SensorDoubt]:
        mine = {
            index: self._seen[index]
            for index, channel in self._watched.items()
            if channel.kind is PartKind.PROCESSOR and not channel.distrust and index in self._seen
        }
        rose = [seen.high - seen.low for seen in mine.values()]
        if len(rose) < 2 or sorted(rose)[len(rose) // 2] < _OTHERS_ROSE_K:
            return []
        doubts = []
        for index, seen in mine.items():
            if seen.high == seen.low and tick.at - seen.since >= _STILL_FOR_S and index not in self._told:
                self._told.add(index)
                detail = f"always {seen.value:g} °C while others of the processor rose by {max(rose):.0f} K"
                title = "Temperature that does not follow the load"
                doubts.append(SensorDoubt("X-838", self._watched[index].key, title, detail))
        return doubts
