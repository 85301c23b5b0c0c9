"""The alarm and fault bits of monitoring chips (kernel document hwmon/sysfs-interface, "Alarms").

An alarm that is set from the start often means no more than that nobody set the chip's own limits for this board; one
that comes on is news. A fault bit says that the sensor itself does not work.
"""

import re
from dataclasses import dataclass

from thresher.model.errors import SourceUnavailable
from thresher.model.port import Source, System, optional_number, optional_text
from thresher.sensors.hwmon import FOLDER, voltage_limits_set
from thresher.sensors.readers import DEADLINE_S, Readers

_BIT = re.compile(r"((?:temp|in|fan|curr|power|intrusion)\d+)_((?:\w+_)?alarm|fault)")
LOOK_EVERY_S = 5.0
_FULL_SCALE = 127_000
"""The end of the range of 8-bit converters in thousandths of a degree, which chips have as a limit from the start."""


@dataclass(frozen=True, slots=True)
class AlarmBit:
    """A bit: the channel it belongs to, what it is called, whether it is the sensor's own fault, and its file.

    `limits_set` is whether somebody has set the chip's limits of this channel, so that its alarm means something.
    """

    channel: str
    name: str
    fault: bool
    path: str
    limits_set: bool = True


@dataclass(frozen=True, slots=True)
class AlarmChange:
    """A bit that came on or went off; `first` when it was found so at the first look."""

    bit: AlarmBit
    on: bool
    first: bool


def find_alarms(system: System) -> tuple[AlarmBit, ...]:
    """Return all alarm and fault bits of all chips."""
    bits = []
    for chip in system.list(FOLDER):
        folder = f"{FOLDER}/{chip}"
        name = optional_text(system, f"{folder}/name") or chip
        device = system.resolve(f"{folder}/device").rpartition("/")[2]
        for file in system.list(folder):
            match = _BIT.fullmatch(file)
            if match:
                label = optional_text(system, f"{folder}/{match[1]}_label") or f"{name} {match[1]}"
                kind = match[2].removesuffix("alarm").rstrip("_").replace("_", " ")
                words = f"{label}, {kind or 'limit'}" if match[2] != "fault" else label
                known = _limits_set(system, f"{folder}/{match[1]}", match[1])
                key = f"{name}/{device}/{match[1]}"
                bits.append(AlarmBit(key, words, match[2] == "fault", f"{folder}/{file}", known))
    return tuple(bits)


def _limits_set(system: System, stem: str, channel: str) -> bool:
    if channel.startswith("in") and not channel.startswith("intrusion"):
        return voltage_limits_set(system, stem)
    limits = [optional_number(system, f"{stem}_{suffix}") for suffix in ("min", "max", "crit")]
    given = [limit for limit in limits if limit is not None]
    return not given or any(0 < limit < _FULL_SCALE for limit in given)


class AlarmReader:
    """Looks at all bits every few seconds: they are many and change seldom."""

    def __init__(self, system: System, bits: tuple[AlarmBit, ...]) -> None:
        """Open the bits; one that cannot be opened has no alarm to give."""
        self._sources: list[tuple[AlarmBit, Source]] = []
        for bit in bits:
            try:
                self._sources.append((bit, system.open(bit.path)))
            except SourceUnavailable:
                continue  # the channel beside it says why the chip cannot be read
        self._on: dict[AlarmBit, bool] = {}
        self._readers: Readers[bool | None] | None = None if system.pacing.paced else Readers(DEADLINE_S)
        self._looked_at: float | None = None

    def look(self, at: float) -> list[AlarmChange]:
        """Return what has changed since the last look, nothing while it is not yet time."""
        if self._looked_at is not None and at - self._looked_at < LOOK_EVERY_S:
            return []
        first = self._looked_at is None
        self._looked_at = at
        changes = []
        for number, on in sorted(self._read_all().items()):
            bit = self._sources[number][0]
            if on is None:
                continue  # as above
            if on != self._on.get(bit, False):
                changes.append(AlarmChange(bit, on, first))
            self._on[bit] = on
        return changes

    def _read_all(self) -> "dict[int, bool | None]":
        numbers = range(len(self._sources))
        if self._readers is None:
            return {number: self._read(number) for number in numbers}
        return self._readers.read(numbers, self._read)

    def _read(self, number: int) -> bool | None:
        try:
            return self._sources[number][1].read().strip() == b"1"
        except SourceUnavailable:
            return None

    def close(self) -> None:
        """Close every bit; one whose read has not returned is left to the end of the process."""
        late = self._readers.late if self._readers is not None else frozenset()
        if self._readers is not None:
            self._readers.close()
        for number, (_, source) in enumerate(self._sources):
            if number not in late:
                source.close()
