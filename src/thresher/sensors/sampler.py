"""Taking readings: every channel once a tick, each failure told with its reason."""

import math
import time
from dataclasses import replace

from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.errors import SourceUnavailable
from thresher.model.port import System
from thresher.sensors.discovery import Discovery
from thresher.sensors.probes import Probe, implausible

_REOPEN_EVERY = 15
"""Ticks between attempts to open a source again that has gone, for devices that come back."""


def _why_not(quantity: Quantity, value: float) -> str | None:
    return "the device does not tell it" if math.isnan(value) else implausible(quantity, value)


class Sampler:
    """Reads all channels of a machine on demand; `sample` never raises for a source that fails."""

    def __init__(self, system: System, discovery: Discovery) -> None:
        """Keep the probes open until `close`."""
        self._system = system
        self._probes = list(discovery.probes)
        self._failing: dict[int, int] = {}
        self.channels: tuple[Channel, ...] = discovery.channels

    def sample(self, late: int = 0) -> Tick:
        """Read everything now. `late` is how many ticks were missed before this one."""
        begun = time.thread_time()
        at = self._system.now()
        values: list[float | None] = []
        missing: dict[int, str] = {}
        for number, probe in enumerate(self._probes):
            first = len(values)
            readings, reason = self._read(number, probe, at)
            for offset, channel in enumerate(probe.channels):
                value = readings[offset] if reason is None else None
                why = reason if value is None else _why_not(channel.quantity, value)
                values.append(None if why else value)
                if why:
                    missing[first + offset] = why
        cost = time.thread_time() - begun
        return Tick(at, self._system.wall(), tuple(values), missing, late, cost)

    def _read(self, number: int, probe: Probe, at: float) -> tuple[tuple[float, ...], str | None]:
        try:
            content = probe.source.read()
            self._failing.pop(number, None)
            return tuple(probe.parse(content, at)), None
        except SourceUnavailable as error:
            self._reopen_sometimes(number, probe)
            return (), error.reason
        except ValueError as error:
            return (), str(error)

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
        """Close every source."""
        for probe in self._probes:
            probe.source.close()
