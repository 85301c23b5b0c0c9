"""Finding every channel of a machine, and what could not be read and why."""

from collections import Counter
from dataclasses import dataclass, replace

from thresher.model.channels import Channel, Quantity
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.model.port import System, SystemKind
from thresher.sensors import graphics, host, hwmon, nvml, processor, zones
from thresher.sensors.limits import load_limits, with_known_limits
from thresher.sensors.probes import Probe


@dataclass(frozen=True, slots=True)
class Discovery:
    """All probes of a machine, and what could not be read and why."""

    probes: tuple[Probe, ...]
    unknown: tuple[Fact, ...]

    @property
    def channels(self) -> tuple[Channel, ...]:
        """Every channel, in the order of the probes."""
        return tuple(channel for probe in self.probes for channel in probe.channels)


def discover(system: System, inventory: Inventory) -> Discovery:
    """Find every channel of the machine. A source that cannot be read is reported in `unknown`."""
    unknown: list[Fact] = []
    probes = [
        *hwmon.find(system, inventory, unknown),
        *zones.find(system, unknown),
        *processor.find_clocks(system, inventory, unknown),
        *processor.find_energy(system, unknown),
        *processor.find_throttling(system, inventory, unknown),
        *processor.find_reasons(system, inventory, unknown),
        *host.find(system, inventory, unknown),
        *graphics.find(system, unknown),
    ]
    if system.kind is SystemKind.LIVE:
        probes += nvml.find(inventory, unknown)
    unknown += _silent_cards(inventory, probes)
    known = load_limits()
    names = Counter(channel.name for probe in probes for channel in probe.channels)
    finished = (
        replace(probe, channels=tuple(with_known_limits(_distinct(each, names), known) for each in probe.channels))
        for probe in probes
    )
    return Discovery(tuple(finished), tuple(unknown))


def _silent_cards(inventory: Inventory, probes: list[Probe]) -> list[Fact]:
    """Return the graphics cards that report no temperature, where a card beside them may hide that."""
    reporting = {
        channel.place
        for probe in probes
        for channel in probe.channels
        if channel.kind is PartKind.GRAPHICS and channel.quantity is Quantity.TEMPERATURE
    }
    return [
        Fact(f"temperature of {part.name}", f"its driver ({part.fact('driver') or 'none'}) reports none", part.place)
        for part in inventory.parts_of(PartKind.GRAPHICS)
        if part.place not in reporting and (reporting or part.fact("driver") != "none")
    ]


def _distinct(channel: Channel, names: Counter[str]) -> Channel:
    """Return the channel under a name of its own: several chips of one name are distinguished by their device."""
    if names[channel.name] == 1:
        return channel
    return replace(channel, name=f"{channel.name} ({channel.key.split('/')[-2]})")
