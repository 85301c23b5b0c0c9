"""Channels of the processor: clocks as set and as counted, throttling, energy counters.

Kernel documents ABI/testing/sysfs-devices-system-cpu (cpufreq, thermal_throttle), power/powercap.
"""

import re
from collections.abc import Iterator
from functools import partial

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Inventory, LogicalCpu, PartKind
from thresher.model.port import System, is_virtual, optional_number, optional_text
from thresher.sensors.probes import Probe, effective_clocks, energy_to_power, register_bits, scaled, try_probe

_CPU = "/sys/devices/system/cpu"
_POWERCAP = "/sys/class/powercap"


def _one_a_core(inventory: Inventory) -> list[LogicalCpu]:
    """Return the first logical CPU of each core."""
    seen: dict[tuple[int, int], LogicalCpu] = {}
    for cpu in inventory.cpus:
        seen.setdefault((cpu.package, cpu.core), cpu)
    return list(seen.values())


def find_clocks(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield the clocks of the cores: counted where the counters are available, and as the kernel sets them.

    The base clock is the lower limit of the counted clock, which hides neither boost nor throttling, else of the set
    one.
    """
    cpus = _one_a_core(inventory)
    limits = {cpu.cpu: _base_limit(system, cpu.cpu) for cpu in cpus}
    counted = list(_counted(system, cpus, limits, unknown))
    yield from counted
    have = {channel.core for probe in counted for channel in probe.channels}
    found = False
    for cpu in cpus:
        folder = f"{_CPU}/cpu{cpu.cpu}/cpufreq"
        if "scaling_cur_freq" not in system.list(folder):
            continue
        found = True
        channel = Channel(
            f"cpufreq/cpu{cpu.cpu}",
            f"Core {cpu.core} clock",
            Quantity.CLOCK,
            PartKind.PROCESSOR,
            f"{folder}/scaling_cur_freq",
            () if cpu.core in have else limits[cpu.cpu],
            cpu.core,
        )
        yield from try_probe(system, channel, scaled(1e6), unknown)
    if not found:
        unknown.append(Fact("processor clocks", _none_here(system, "no cpufreq driver"), f"{_CPU}/cpu*/cpufreq"))


def _none_here(system: System, reason: str) -> str:
    return f"{reason}; a virtual machine has none" if is_virtual(system) else f"{reason} for this processor"


def _base_limit(system: System, cpu: int) -> tuple[Limit, ...]:
    base = optional_number(system, f"{_CPU}/cpu{cpu}/cpufreq/base_frequency")
    return (Limit(base / 1e6, LimitSide.ABOVE, "base clock (base_frequency)"),) if base else ()


def _counted(
    system: System, cpus: list[LogicalCpu], limits: dict[int, tuple[Limit, ...]], unknown: list[Fact]
) -> Iterator[Probe]:
    for cpu in cpus:
        try:
            source = system.open_counters(cpu.cpu)
        except SourceUnavailable as error:
            # one reason stands for all cores
            unknown.append(Fact("clocks as counted by the processor", error.reason, error.path))
            return
        clock = Channel(
            f"counters/cpu{cpu.cpu}/clock",
            f"Core {cpu.core} counted clock",
            Quantity.CLOCK,
            PartKind.PROCESSOR,
            source.path,
            limits[cpu.cpu],
            cpu.core,
        )
        awake = Channel(
            f"counters/cpu{cpu.cpu}/awake",
            f"Core {cpu.core} awake",
            Quantity.USE,
            PartKind.PROCESSOR,
            source.path,
            (),
            cpu.core,
        )
        yield Probe(source, (clock, awake), effective_clocks(), partial(system.open_counters, cpu.cpu))


def find_energy(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield the power of every powercap zone: packages, their cores and uncore, memory, the whole platform."""
    zones = [zone for zone in system.list(_POWERCAP) if re.fullmatch(r"[a-z-]+:\d+(:\d+)*", zone)]
    if not zones:
        unknown.append(Fact("processor power", _none_here(system, "no powercap zones"), _POWERCAP))
    names = {zone: optional_text(system, f"{_POWERCAP}/{zone}/name") or zone for zone in zones}
    packages = sum(name.startswith("package") for name in names.values())
    for zone, name in names.items():
        folder = f"{_POWERCAP}/{zone}"
        limit_uw = optional_number(system, f"{folder}/constraint_0_power_limit_uw")
        limits = (Limit(limit_uw / 1e6, LimitSide.BELOW, "long-term power limit (powercap)"),) if limit_uw else ()
        wraps = optional_number(system, f"{folder}/max_energy_range_uj")
        package = re.fullmatch(r"package-(\d+)", name)
        title = f"{name} power" if not package else f"Package {package[1]} power" if packages > 1 else "Package power"
        if not package and packages > 1:
            title = f"{title}, zone {zone.partition(':')[2]}"
        kind = PartKind.MEMORY if name == "dram" else PartKind.PROCESSOR
        channel = Channel(f"powercap/{zone}", title, Quantity.POWER, kind, f"{folder}/energy_uj", limits)
        yield from try_probe(system, channel, energy_to_power(int(wraps) if wraps else None), unknown)


_COUNTERS = (
    ("throttle_count", "throttled", Quantity.THROTTLE, 1.0),
    ("throttle_total_time_ms", "throttled for", Quantity.THROTTLE_TIME, 1000.0),
    ("power_limit_count", "power limited", Quantity.THROTTLE, 1.0),
)
"""Counters by package and core under `thermal_throttle`; older kernels count power limits there too."""


def find_throttling(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield how often and how long packages and cores were throttled."""
    packages: set[int] = set()
    for cpu in _one_a_core(inventory):
        folder = f"{_CPU}/cpu{cpu.cpu}/thermal_throttle"
        files = system.list(folder)
        for scope in ("package", "core"):
            if scope == "package" and cpu.package in packages:
                continue
            number = cpu.package if scope == "package" else cpu.core
            core = cpu.core if scope == "core" else None
            for suffix, words, quantity, divisor in _COUNTERS:
                file = f"{scope}_{suffix}"
                if file in files:
                    channel = Channel(
                        f"throttle/{scope}{number}/{suffix}",
                        f"{scope.capitalize()} {number} {words}",
                        quantity,
                        PartKind.PROCESSOR,
                        f"{folder}/{file}",
                        (),
                        core,
                    )
                    yield from try_probe(system, channel, scaled(divisor), unknown)
        if files:
            packages.add(cpu.package)


_PACKAGE_STATUS, _CORE_STATUS = 0x1B1, 0x19C
_PACKAGE_BITS = ((0, "heat"), (2, "prochot"), (4, "critical heat"), (10, "power limit"))
_CORE_BITS = ((12, "current limit"), (14, "another part's limit"))
"""IA32_PACKAGE_THERM_STATUS and IA32_THERM_STATUS (processor manuals of the vendor, "thermal management")."""


def find_reasons(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield what a processor says holds its clock down, by its own status registers, a package at a time.

    Only one vendor documents these registers; for others nothing is asked and nothing is reported.
    """
    if "GenuineIntel" not in optional_text(system, "/proc/cpuinfo"):
        return
    packages: set[int] = set()
    for cpu in _one_a_core(inventory):
        if cpu.package in packages:
            continue
        packages.add(cpu.package)
        for number, bits in ((_PACKAGE_STATUS, _PACKAGE_BITS), (_CORE_STATUS, _CORE_BITS)):
            try:
                source = system.open_register(cpu.cpu, number)
            except SourceUnavailable as error:
                unknown.append(Fact("what holds the processor's clock down", error.reason, error.path))
                return
            channels = tuple(
                Channel(
                    f"status/package{cpu.package}/{word}",
                    f"Package {cpu.package} held by {word}",
                    Quantity.FLAG,
                    PartKind.PROCESSOR,
                    f"{source.path}, register {number:#x} bit {bit}",
                )
                for bit, word in bits
            )
            parse = register_bits(tuple(bit for bit, _ in bits))
            yield Probe(source, channels, parse, partial(system.open_register, cpu.cpu, number))
