"""Channels of the kernel's thermal zones that no hwmon chip mirrors: processors of small boards, phones, tablets.

Kernel document driver-api/thermal/sysfs-api: `type`, `temp` in thousandths of a degree, trip points by type
(`passive`: the kernel lowers clocks there; `hot`; `critical`: it switches the machine off).
"""

import re
from collections.abc import Iterator

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.parts import Fact, PartKind
from thresher.model.port import System, optional_number, optional_text
from thresher.sensors.probes import Probe, scaled, try_probe

FOLDER = "/sys/class/thermal"
_HWMON = "/sys/class/hwmon"
_TRIPS = (
    ("passive", "the kernel lowers clocks there"),
    ("hot", "hot trip point"),
    ("critical", "the kernel switches off there"),
)
"""In the order in which they are reached."""
_PROCESSOR = re.compile(r"cpu|soc|core|cluster|pkg|package|tsens|big|little|thermal-fan-est", re.IGNORECASE)
_GRAPHICS = re.compile(r"gpu", re.IGNORECASE)
_BATTERY = re.compile(r"bat|charger", re.IGNORECASE)
_NETWORK = re.compile(r"wifi|iwl|wlan|modem", re.IGNORECASE)
_HIGHEST_C = 200.0


def kind_of_zone(name: str) -> PartKind:
    """Return what a zone belongs to, by its type."""
    for pattern, kind in ((_GRAPHICS, PartKind.GRAPHICS), (_BATTERY, PartKind.BATTERY), (_NETWORK, PartKind.NETWORK)):
        if pattern.search(name):
            return kind
    return PartKind.PROCESSOR if _PROCESSOR.search(name) else PartKind.BOARD


def find(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield the temperature of every zone that is not among the hwmon chips already."""
    mirrored = {_plain(optional_text(system, f"{_HWMON}/{chip}/name")) for chip in system.list(_HWMON)}
    for zone in sorted(system.list(FOLDER)):
        folder = f"{FOLDER}/{zone}"
        name = optional_text(system, f"{folder}/type")
        if not re.fullmatch(r"thermal_zone\d+", zone) or not name or _plain(name) in mirrored:
            continue
        if name in ("x86_pkg_temp", "INT3400 Thermal"):
            continue  # the package as its own chip reports it, and a zone without a sensor
        channel = Channel(
            f"zone/{zone}/temp",
            name,
            Quantity.TEMPERATURE,
            kind_of_zone(name),
            f"{folder}/temp",
            tuple(_limits(system, folder)),
        )
        yield from try_probe(system, channel, scaled(1000.0), unknown)


def _limits(system: System, folder: str) -> Iterator[Limit]:
    trips: dict[str, float] = {}
    for file in system.list(folder):
        match = re.fullmatch(r"trip_point_(\d+)_type", file)
        value = optional_number(system, f"{folder}/trip_point_{match[1]}_temp") if match else None
        if match and value is not None and 0 < value / 1000 < _HIGHEST_C:
            kind = optional_text(system, f"{folder}/{file}")
            trips[kind] = min(value / 1000, trips.get(kind, _HIGHEST_C))
    for kind, words in _TRIPS:
        if kind in trips:
            yield Limit(trips[kind], LimitSide.BELOW, f"{kind} trip point: {words}")


def _plain(name: str) -> str:
    return name.replace("-", "_").lower()
