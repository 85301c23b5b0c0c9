"""Whether readings can be true while loads run: temperatures that jump, or do not move while others rise.

At idle little moves and little can be judged; under load a broken sensor gives itself away.
"""

from dataclasses import dataclass, field

from thresher.model.channels import Channel, Quantity, SensorDoubt, Tick
from thresher.model.parts import PartKind
from thresher.sensors.sanity import UNCONNECTED_C

_DIE_JUMP_K, _JUMP_K = 45.0, 15.0
"""What a die does within a second when a load comes or goes, and what anything with more mass never does."""
_JUMPS, _WITHIN_S, _LONGEST_STEP_S = 3, 120.0, 2.5
_OTHERS_ROSE_K = 10.0
_STILL_FOR_S = 30.0


_HOT_FROM_START_C = {
    PartKind.PROCESSOR: 115.0,
    PartKind.GRAPHICS: 115.0,
    PartKind.DRIVE: 95.0,
    PartKind.MEMORY: 100.0,
    PartKind.BATTERY: 80.0,
}
_OTHERS_HOT_C = 110.0
"""Temperatures at which such a part would have switched itself or the machine off; the makers' judgement."""
_LOOKS, _STEADY_K = 3, 1.5
_WANDERS_K = 25.0
_WHOLE = ("Tdie", "Package", "Tctl")
"""Names of sensors that stand for a whole processor, the one to be trusted first."""


def _word(channel: Channel) -> str:
    return channel.name.split(" ")[0]


def _stands_for_all(channel: Channel) -> bool:
    return _word(channel) in _WHOLE


@dataclass(slots=True)
class _Seen:
    """What a temperature has done: its last reading, its jumps, its lowest and highest since it was watched."""

    at: float
    value: float
    low: float
    high: float
    since: float
    jumps: list[float] = field(default_factory=list)
    looks: int = 1


class RunningSanity:
    """Watches the temperatures of one machine; each doubt is reported once."""

    def __init__(self, channels: tuple[Channel, ...]) -> None:
        """Nothing has been seen yet."""
        self._watched = {
            index: channel for index, channel in enumerate(channels) if channel.quantity is Quantity.TEMPERATURE
        }
        whole = [i for i, each in self._watched.items() if each.kind is PartKind.PROCESSOR and _stands_for_all(each)]
        if len({_word(channels[index]) for index in whole}) < len(whole):
            whole = []  # several processors: their temperatures need not agree
        self._twins = sorted(whole, key=lambda i: (_WHOLE.index(_word(channels[i])), i))
        self._distances: dict[int, tuple[float, float]] = {}
        self._seen: dict[int, _Seen] = {}
        self._doubted: set[int] = set()

    def look(self, tick: Tick) -> list[SensorDoubt]:
        """Take a tick in and return new doubts."""
        doubts = []
        for index, channel in self._watched.items():
            value = tick.values[index]
            if value is None or index in self._doubted:
                continue
            doubt = self._jumping(index, channel, tick.at, value) or self._impossible(index, channel, value)
            if doubt is not None:
                self._doubted.add(index)
                doubts.append(doubt)
        return doubts + self._still(tick) + self._apart(tick)

    def _impossible(self, index: int, channel: Channel, value: float) -> SensorDoubt | None:
        """Doubt a temperature that no such part survives, or the end of a converter's range, if it does not move."""
        seen = self._seen[index]
        if seen.looks != _LOOKS or seen.high - seen.low >= _STEADY_K:
            return None
        hottest = _HOT_FROM_START_C.get(channel.kind, _OTHERS_HOT_C)
        if value < hottest and value not in UNCONNECTED_C:
            return None
        why = "the end of a converter's range" if value in UNCONNECTED_C else f"no {channel.kind.value} gets that hot"
        detail = f"{value:.4g} °C since the bench was opened, without moving: {why}"
        return SensorDoubt("X-830", channel.key, "Temperature that cannot be", detail)

    def _jumping(self, index: int, channel: Channel, at: float, value: float) -> SensorDoubt | None:
        seen = self._seen.get(index)
        if seen is None:
            self._seen[index] = _Seen(at, value, value, value, at)
            return None
        step, most = abs(value - seen.value), _DIE_JUMP_K if channel.kind is PartKind.PROCESSOR else _JUMP_K
        if step > most and at - seen.at <= _LONGEST_STEP_S:
            seen.jumps = [*(each for each in seen.jumps if at - each <= _WITHIN_S), at]
        before = seen.value
        seen.looks += 1
        seen.at, seen.value = at, value
        seen.low, seen.high = min(seen.low, value), max(seen.high, value)
        if len(seen.jumps) < _JUMPS:
            return None
        last = f"last {before:.0f} to {value:.0f} °C"
        detail = f"{_JUMPS} times by more than {most:.0f} K from one reading to the next, {last}"
        return SensorDoubt("X-837", channel.key, "Reading that jumps", detail)

    def _apart(self, tick: Tick) -> list[SensorDoubt]:
        """Return twins whose distance does not stay: a constant one is an offset, one that wanders is a broken sensor.

        Only sensors that stand for a whole processor are compared; what is beside it may well lag behind.
        """
        values = {index: value for index in self._twins if (value := tick.values[index]) is not None}
        reference = next((index for index in self._twins if index in values), None)
        doubts = []
        for index, value in values.items():
            if reference is None or index == reference or index in self._doubted:
                continue
            apart = value - values[reference]
            low, high = self._distances.get(index, (apart, apart))
            self._distances[index] = low, high = min(low, apart), max(high, apart)
            if high - low > _WANDERS_K:
                self._doubted.add(index)
                channel, twin = self._watched[index], self._watched[reference]
                detail = f"from {low:+.0f} to {high:+.0f} K beside {twin.name} since it is watched"
                doubts.append(SensorDoubt("X-832", channel.key, "Twins disagree", detail, twin.key))
        return doubts

    def _still(self, tick: Tick) -> list[SensorDoubt]:
        chips: dict[str, dict[int, _Seen]] = {}
        for index, channel in self._watched.items():
            if channel.kind is PartKind.PROCESSOR and not channel.distrust and index in self._seen:
                chips.setdefault(channel.chip, {})[index] = self._seen[index]
        return [doubt for mine in chips.values() for doubt in self._still_in(mine, tick.at)]

    def _still_in(self, mine: dict[int, _Seen], at: float) -> list[SensorDoubt]:
        """Return the temperatures of one chip that stop while most of its others rise."""
        rose = [seen.high - seen.low for seen in mine.values()]
        if len(rose) < 2 or sorted(rose)[len(rose) // 2] < _OTHERS_ROSE_K:
            return []
        doubts = []
        for index, seen in mine.items():
            if seen.high == seen.low and at - seen.since >= _STILL_FOR_S and index not in self._doubted:
                self._doubted.add(index)
                detail = f"always {seen.value:g} °C while others of the processor rose by {max(rose):.0f} K"
                title = "Temperature that does not follow the load"
                doubts.append(SensorDoubt("X-838", self._watched[index].key, title, detail))
        return doubts
