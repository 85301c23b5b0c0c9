"""Which channels the black box keeps: those that a crash would be read from, the most telling first."""

from collections.abc import Sequence

from thresher.model.channels import Channel, Quantity
from thresher.model.parts import PartKind
from thresher.sensors.discovery import Discovery
from thresher.sensors.host import MAINS
from thresher.sensors.probes import Probe

MOST_VITAL = 60
_BOARD = (PartKind.BOARD, PartKind.COOLING, PartKind.POWER, PartKind.MEMORY, PartKind.GRAPHICS)
_ORDER: tuple[tuple[Quantity, tuple[PartKind, ...], int], ...] = (
    (Quantity.TEMPERATURE, (PartKind.PROCESSOR,), 12),
    (Quantity.VOLTAGE, (PartKind.POWER,), 8),
    (Quantity.VOLTAGE, (PartKind.PROCESSOR, PartKind.BOARD, PartKind.MEMORY, PartKind.GRAPHICS), 6),
    (Quantity.POWER, (PartKind.PROCESSOR, PartKind.GRAPHICS, PartKind.POWER), 4),
    (Quantity.CURRENT, (PartKind.PROCESSOR, PartKind.POWER), 3),
    (Quantity.CHARGE, (PartKind.BATTERY,), 2),
    (Quantity.TEMPERATURE, _BOARD, 10),
    (Quantity.CLOCK, (PartKind.PROCESSOR,), 8),
    (Quantity.FAN, (PartKind.COOLING,), 5),
)


def vital_channels(channels: Sequence[Channel]) -> list[int]:
    """Return the indexes of the channels to keep, in the order of the channels."""
    chosen = [index for index, each in enumerate(channels) if each.key.startswith(MAINS) or each.key == "stat/use"]
    for quantity, kinds, most in _ORDER:
        chosen += [index for index, each in enumerate(channels) if each.quantity is quantity and each.kind in kinds][
            :most
        ]
    return sorted(dict.fromkeys(chosen).keys())[:MOST_VITAL]


def vital_probes(discovery: Discovery) -> tuple[Probe, ...]:
    """Return the probes whose channels are to be kept, all of them read from cheap files of the kernel.

    Drives are left out: each reading of a drive's temperature is a command to the drive."""
    wanted = {discovery.channels[index].key for index in vital_channels(discovery.channels)}
    return tuple(
        probe
        for probe in discovery.probes
        if any(each.key in wanted for each in probe.channels) and len(probe.channels) <= _MOST_OF_ONE
    )


_MOST_OF_ONE = 8
"""A source of more channels (`/proc/stat` of many CPUs) costs too much for ten readings a second."""
