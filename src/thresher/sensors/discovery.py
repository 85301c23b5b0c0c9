"""Finding the channels of a machine.

Sources: kernel documents hwmon/sysfs-interface (names, units, limits), ABI/testing/sysfs-devices-system-cpu
(cpufreq, throttling), power/powercap. Limits that no device gives are in `limits`.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.model.port import System, optional_number, optional_text
from thresher.sensors.limits import load_limits, rail_limits, with_known_limits
from thresher.sensors.probes import Parse, Probe, cpu_use, energy_to_power, memory_used, scaled

_HWMON = "/sys/class/hwmon"
_CPU = "/sys/devices/system/cpu"
_POWERCAP = "/sys/class/powercap"

_CHIP_KINDS: dict[PartKind, frozenset[str]] = {
    PartKind.PROCESSOR: frozenset({"coretemp", "k10temp", "k8temp", "fam15h_power", "zenpower", "cpu_thermal"}),
    PartKind.GRAPHICS: frozenset({"amdgpu", "radeon", "nouveau", "i915", "xe"}),
    PartKind.DRIVE: frozenset({"nvme", "drivetemp"}),
    PartKind.MEMORY: frozenset({"jc42", "spd5118"}),
}

_ATTRIBUTES: dict[str, tuple[Quantity, float]] = {
    "temp": (Quantity.TEMPERATURE, 1000.0),
    "in": (Quantity.VOLTAGE, 1000.0),
    "fan": (Quantity.FAN, 1.0),
    "power": (Quantity.POWER, 1e6),
    "curr": (Quantity.CURRENT, 1000.0),
}


@dataclass(frozen=True, slots=True)
class Discovery:
    """All probes of a machine, and what could not be had and why."""

    probes: tuple[Probe, ...]
    unknown: tuple[Fact, ...]

    @property
    def channels(self) -> tuple[Channel, ...]:
        """Every channel, in the order of the probes."""
        return tuple(channel for probe in self.probes for channel in probe.channels)


def discover(system: System, inventory: Inventory) -> Discovery:
    """Find every channel of the machine. A source that cannot be read is told in `unknown`."""
    unknown: list[Fact] = []
    probes: list[Probe] = []
    for found in (
        _hwmon(system, inventory, unknown),
        _clocks(system, inventory, unknown),
        _powercap(system, unknown),
        _throttling(system, inventory, unknown),
        _proc(system, unknown),
    ):
        probes += found
    known = load_limits()
    limited = (
        replace(probe, channels=tuple(with_known_limits(channel, known) for channel in probe.channels))
        for probe in probes
    )
    return Discovery(tuple(limited), tuple(unknown))


def _try_probe(
    system: System, channel: Channel | tuple[Channel, ...], parse: Parse, unknown: list[Fact], path: str = ""
) -> Iterator[Probe]:
    channels = channel if isinstance(channel, tuple) else (channel,)
    try:
        yield Probe(system.open(path or channels[0].source), channels, parse)
    except SourceUnavailable as error:
        unknown.append(Fact(channels[0].name, error.reason, error.path))


def _hwmon(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    chips = system.list(_HWMON)
    if not chips:
        unknown.append(Fact("temperatures, voltages, fans", _no_sensors_reason(system), _HWMON))
    for chip in chips:
        folder = f"{_HWMON}/{chip}"
        chip_name = optional_text(system, f"{folder}/name") or chip
        device = system.resolve(f"{folder}/device").rpartition("/")[2]
        for file in sorted(system.list(folder), key=_natural):
            match = re.fullmatch(r"(temp|in|fan|power|curr)(\d+)_(input|average)", file)
            if match and not (file == f"power{match[2]}_input" and f"power{match[2]}_average" in system.list(folder)):
                channel = _hwmon_channel(system, inventory, folder, chip_name, device, match)
                yield from _try_probe(system, channel, scaled(_ATTRIBUTES[match[1]][1]), unknown)


def _no_sensors_reason(system: System) -> str:
    flags = optional_text(system, "/proc/cpuinfo")
    if re.search(r"^flags\s*:.*\bhypervisor\b", flags, re.MULTILINE):
        return "this virtual machine has no temperature, voltage or fan sensors; loads and the kernel log still work"
    return "no sensor driver is loaded; the board's or processor's hwmon module would change that"


def _natural(name: str) -> list[str | int]:
    return [int(piece) if piece.isdigit() else piece for piece in re.split(r"(\d+)", name)]


def _hwmon_channel(
    system: System, inventory: Inventory, folder: str, chip: str, device: str, match: re.Match[str]
) -> Channel:
    stem = f"{match[1]}{match[2]}"
    quantity, divisor = _ATTRIBUTES[match[1]]
    label = optional_text(system, f"{folder}/{stem}_label")
    kind = next((kind for kind, chips in _CHIP_KINDS.items() if chip in chips), PartKind.BOARD)
    core = _core_of(inventory, device, label) if kind is PartKind.PROCESSOR else None
    limits = list(_hwmon_limits(system, folder, stem, divisor))
    rail = rail_limits(label) if quantity is Quantity.VOLTAGE else ()
    if rail:
        limits += rail
        kind = PartKind.POWER
    if quantity is Quantity.FAN and kind is PartKind.BOARD:
        kind = PartKind.COOLING
    return Channel(
        key=f"{chip}/{device}/{stem}",
        name=label or f"{chip} {stem}",
        quantity=quantity,
        kind=kind,
        source=f"{folder}/{match[0]}",
        limits=tuple(limits),
        core=core,
    )


def _core_of(inventory: Inventory, device: str, label: str) -> int | None:
    """Return the core that a label names; with several packages the device tells which (hwmon/coretemp)."""
    named = re.fullmatch(r"Core (\d+)", label)
    if not named:
        return None
    packages = {cpu.package for cpu in inventory.cpus}
    if len(packages) <= 1:
        return int(named[1])
    package = re.fullmatch(r"coretemp\.(\d+)", device)
    return inventory.core_at(int(package[1]), int(named[1])) if package else None


def _hwmon_limits(system: System, folder: str, stem: str, divisor: float) -> Iterator[Limit]:
    sides = [("crit", LimitSide.BELOW), ("lcrit", LimitSide.ABOVE)]
    if stem.startswith("temp") and optional_number(system, f"{folder}/{stem}_crit") is None:
        sides.append(("max", LimitSide.BELOW))
    for suffix, side in sides:
        value = optional_number(system, f"{folder}/{stem}_{suffix}")
        if value:  # drivers write 0 where the chip holds no limit
            yield Limit(value / divisor, side, f"read from the chip ({stem}_{suffix})")


def _clocks(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    seen: set[tuple[int, int]] = set()
    found = False
    for cpu in inventory.cpus:
        folder = f"{_CPU}/cpu{cpu.cpu}/cpufreq"
        if (cpu.package, cpu.core) in seen or "scaling_cur_freq" not in system.list(folder):
            continue
        seen.add((cpu.package, cpu.core))
        found = True
        base = optional_number(system, f"{folder}/base_frequency")
        limits = (Limit(base / 1e6, LimitSide.ABOVE, "base clock (base_frequency)"),) if base else ()
        channel = Channel(
            f"cpufreq/cpu{cpu.cpu}", f"Core {cpu.core} clock", Quantity.CLOCK, PartKind.PROCESSOR,
            f"{folder}/scaling_cur_freq", limits, cpu.core,
        )  # fmt: skip
        yield from _try_probe(system, channel, scaled(1e6), unknown)
    if not found:
        unknown.append(
            Fact("processor clocks", "no cpufreq driver; a virtual machine has none", f"{_CPU}/cpu*/cpufreq")
        )


def _powercap(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    zones = [zone for zone in system.list(_POWERCAP) if re.fullmatch(r"[a-z-]+:\d+(:\d+)*", zone)]
    if not zones:
        unknown.append(Fact("processor power", "no powercap zones; a virtual machine has none", _POWERCAP))
    for zone in zones:
        folder = f"{_POWERCAP}/{zone}"
        name = optional_text(system, f"{folder}/name") or zone
        limit_uw = optional_number(system, f"{folder}/constraint_0_power_limit_uw")
        limits = (Limit(limit_uw / 1e6, LimitSide.BELOW, "long-term power limit (powercap)"),) if limit_uw else ()
        wraps = optional_number(system, f"{folder}/max_energy_range_uj")
        title = "Package power" if name.startswith("package") else f"{name} power"
        channel = Channel(f"powercap/{zone}", title, Quantity.POWER, PartKind.PROCESSOR, f"{folder}/energy_uj", limits)
        yield from _try_probe(system, channel, energy_to_power(int(wraps) if wraps else None), unknown)


def _throttling(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    seen: set[int] = set()
    for cpu in inventory.cpus:
        path = f"{_CPU}/cpu{cpu.cpu}/thermal_throttle/package_throttle_count"
        if cpu.package in seen or not system.list(path.rpartition("/")[0]):
            continue
        seen.add(cpu.package)
        channel = Channel(
            f"throttle/package{cpu.package}", f"Package {cpu.package} throttled", Quantity.THROTTLE,
            PartKind.PROCESSOR, path,
        )  # fmt: skip
        yield from _try_probe(system, channel, scaled(1.0), unknown)


def _proc(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    use = Channel("stat/use", "Processor use", Quantity.USE, PartKind.PROCESSOR, "/proc/stat")
    steal = Channel("stat/steal", "Taken by the host", Quantity.USE, PartKind.PROCESSOR, "/proc/stat")
    yield from _try_probe(system, (use, steal), cpu_use(), unknown)
    used = Channel("meminfo/used", "Memory in use", Quantity.MEMORY, PartKind.MEMORY, "/proc/meminfo")
    yield from _try_probe(system, used, memory_used, unknown)
