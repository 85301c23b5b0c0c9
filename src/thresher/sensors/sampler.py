"""Taking readings: every channel once a tick, each failure reported with its reason."""

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.errors import SourceUnavailable
from thresher.model.port import System
from thresher.sensors.discovery import Discovery
from thresher.sensors.probes import Probe, implausible
from thresher.sensors.readers import DEADLINE_S, LATE, Readers

_REOPEN_EVERY = 15
"""Ticks between attempts to open a source again that has gone, for devices that come back."""


_SLOW_S, _SLOW_SHARE = 0.02, 0.02
"""A source that takes longer than this is read so seldom that it takes no more than this share of the time."""
_SLOW_TIMES = 3
"""Reads in a row that make a source slow; a single long one may be the scheduler's doing."""


_Reading = tuple[tuple[float, ...], str | None, float]
_STILL_LATE: _Reading = ((), LATE, 0.0)


@dataclass(frozen=True, slots=True)
class _Held:
    """The last values of a slow source, when they were read, and until when they stand."""

    at: float
    until: float
    values: tuple[float, ...]


def _why_not(quantity: Quantity, value: float) -> str | None:
    return "not reported by the device" if math.isnan(value) else implausible(quantity, value)


class Sampler:
    """Reads all channels of a machine on demand; `sample` never raises for a source that fails."""

    def __init__(
        self,
        system: System,
        discovery: Discovery,
        stopwatch: Callable[[], float] = time.monotonic,
        deadline_s: float = DEADLINE_S,
    ) -> None:
        """Keep the probes open until `close`; `stopwatch` gives the seconds that a read takes.

        `deadline_s` is how long a tick waits for a source on this computer; a simulated machine's files always answer.
        """
        self._stopwatch = stopwatch
        self._readers: Readers[_Reading] | None = Readers(deadline_s) if not system.pacing.paced else None
        self._system = system
        self._probes = list(discovery.probes)
        self._failing: dict[int, int] = {}
        self._held: dict[int, _Held] = {}
        self._slow_reads: dict[int, int] = {}
        self.slow: dict[int, float] = {}
        self.channels: tuple[Channel, ...] = discovery.channels

    def sample(self, late: int = 0) -> Tick:
        """Read everything now. `late` is how many ticks were missed before this one."""
        begun = time.thread_time()
        at = self._system.now()
        numbers = range(len(self._probes))
        if self._readers is None:
            found = {number: self._read(number, at) for number in numbers}
        else:
            found = self._readers.read(numbers, lambda number: self._read(number, at))
        values: list[float | None] = []
        missing: dict[int, str] = {}
        ages: dict[int, float] = {}
        for number, probe in enumerate(self._probes):
            first = len(values)
            readings, reason, spent = found.get(number, _STILL_LATE)
            begun -= spent if self._readers is not None else 0.0
            held = self._held.get(number)
            for offset, channel in enumerate(probe.channels):
                if held is not None and held.at < at:
                    ages[first + offset] = at - held.at
                value = readings[offset] if reason is None else None
                why = reason if value is None else _why_not(channel.quantity, value)
                values.append(None if why else value)
                if why:
                    missing[first + offset] = why
        cost = time.thread_time() - begun
        return Tick(at, self._system.wall(), tuple(values), missing, late, cost, ages)

    @property
    def late_channels(self) -> frozenset[str]:
        """Names of the channels whose source has not answered yet."""
        late = self._readers.late if self._readers is not None else frozenset()
        return frozenset(channel.name for number in late for channel in self._probes[number].channels)

    def _read(self, number: int, at: float) -> "_Reading":
        """Read one source; return its values, why there are none, and the processor time that it took in seconds."""
        probe, spent = self._probes[number], time.thread_time()
        values, reason = self._read_probe(number, probe, at)
        return values, reason, time.thread_time() - spent

    def _read_probe(self, number: int, probe: Probe, at: float) -> tuple[tuple[float, ...], str | None]:
        held = self._held.get(number)
        if held is not None and at < held.until:
            return held.values, None
        begun = self._stopwatch()
        try:
            content = probe.source.read()
            self._failing.pop(number, None)
            values = tuple(probe.parse(content, at))
            self._hold_slow(number, at, self._stopwatch() - begun, values)
            return values, None
        except SourceUnavailable as error:
            self._reopen_sometimes(number, probe)
            return (), error.reason
        except ValueError as error:
            return (), str(error)

    def _hold_slow(self, number: int, at: float, took_s: float, values: tuple[float, ...]) -> None:
        """Let a slow source rest, so that it takes no more than its share; its last reading stands meanwhile."""
        if took_s < _SLOW_S:
            self._held.pop(number, None)
            self._slow_reads.pop(number, None)
            return
        self._slow_reads[number] = self._slow_reads.get(number, 0) + 1
        if self._slow_reads[number] < _SLOW_TIMES:
            return
        period = took_s / _SLOW_SHARE
        self._held[number] = _Held(at, at + period, values)
        self.slow[number] = max(period, self.slow.get(number, 0.0))

    def slow_channels(self) -> list[tuple[str, float]]:
        """Return the channels of sources that were found slow, each with the seconds between its readings."""
        return [
            (channel.name, period) for number, period in self.slow.items() for channel in self._probes[number].channels
        ]

    def _reopen_sometimes(self, number: int, probe: Probe) -> None:
        failures = self._failing.get(number, 0) + 1
        self._failing[number] = failures
        if failures % _REOPEN_EVERY:
            return
        try:
            source = probe.reopen() if probe.reopen is not None else self._system.open(probe.source.path)
        except SourceUnavailable:
            return
        probe.source.close()
        self._probes[number] = replace(probe, source=source)

    def close(self) -> None:
        """Close every source; one whose read has not returned is left to the end of the process."""
        late = self._readers.late if self._readers is not None else frozenset()
        if self._readers is not None:
            self._readers.close()
        for number, probe in enumerate(self._probes):
            if number not in late:
                probe.source.close()
