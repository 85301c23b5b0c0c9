"""Channels of the running system: processor time, memory, pressure, drives, batteries.

Kernel documents filesystems/proc, accounting/psi, admin-guide/iostats, ABI/testing/sysfs-class-power.
"""

from collections.abc import Iterator

from thresher.model.channels import Channel, Quantity
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.model.port import System, optional_text
from thresher.sensors.probes import Probe, cpu_use, disk_use, memory_used, pressure, scaled, try_probe

_SUPPLY = "/sys/class/power_supply"
MAINS = "mains/"
"""How the keys of the channels begin that say whether mains is connected."""


def find(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield what the running system reports of its own load."""
    yield from _processor_time(system, inventory, unknown)
    used = Channel("meminfo/used", "Memory in use", Quantity.MEMORY, PartKind.MEMORY, "/proc/meminfo")
    yield from try_probe(system, used, memory_used, unknown)
    yield from _pressure(system, unknown)
    yield from _drives(system, inventory, unknown)
    yield from _batteries(system, unknown)
    yield from _mains(system, unknown)


def _mains(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield whether mains is connected, on machines that report it."""
    for name in system.list(_SUPPLY):
        folder = f"{_SUPPLY}/{name}"
        if optional_text(system, f"{folder}/type") == "Mains" and "online" in system.list(folder):
            channel = Channel(f"{MAINS}{name}", f"Mains {name}", Quantity.FLAG, PartKind.POWER, f"{folder}/online")
            yield from try_probe(system, channel, scaled(1.0), unknown)


def _processor_time(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    names = (
        ("use", "Processor use"),
        ("user", "Processor, programs"),
        ("system", "Processor, kernel"),
        ("steal", "Taken by the host"),
    )
    whole = [Channel(f"stat/{key}", name, Quantity.USE, PartKind.PROCESSOR, "/proc/stat") for key, name in names]
    listed = optional_text(system, "/proc/stat")
    ordered = sorted(inventory.cpus, key=lambda cpu: cpu.cpu)
    numbered = [cpu for number, cpu in enumerate(ordered) if cpu.cpu == number]
    count = len(numbered) if all(f"\ncpu{cpu.cpu} " in listed for cpu in numbered) else 0
    kind, path = PartKind.PROCESSOR, "/proc/stat"
    each = [
        Channel(f"stat/cpu{cpu.cpu}", f"CPU {cpu.cpu} use", Quantity.USE, kind, path, (), cpu.core)
        for cpu in numbered[:count]
    ]
    yield from try_probe(system, (*whole, *each), cpu_use(count), unknown)


def _pressure(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    kinds = (("cpu", PartKind.PROCESSOR), ("memory", PartKind.MEMORY), ("io", PartKind.DRIVE))
    there = system.list("/proc/pressure")
    if not there:
        unknown.append(Fact("pressure", "the kernel keeps no pressure stall information (psi=1)", "/proc/pressure"))
    for name, kind in kinds if there else ():
        path = f"/proc/pressure/{name}"
        some = Channel(f"pressure/{name}/some", f"Stalled on {name}", Quantity.PRESSURE, kind, path)
        full = Channel(f"pressure/{name}/full", f"All stalled on {name}", Quantity.PRESSURE, kind, path)
        yield from try_probe(system, (some, full), pressure, unknown)


def _drives(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    path = "/proc/diskstats"
    listed = optional_text(system, path)
    for part in inventory.parts_of(PartKind.DRIVE):
        if f" {part.place} " not in listed:
            continue
        channels = (
            Channel(f"disk/{part.place}/read", f"{part.place} read", Quantity.RATE, PartKind.DRIVE, path),
            Channel(f"disk/{part.place}/written", f"{part.place} written", Quantity.RATE, PartKind.DRIVE, path),
            Channel(f"disk/{part.place}/latency", f"{part.place} latency", Quantity.LATENCY, PartKind.DRIVE, path),
        )
        yield from try_probe(system, channels, disk_use(part.place), unknown)


_BATTERY = (
    ("capacity", "charge", Quantity.CHARGE, 1.0),
    ("power_now", "power", Quantity.POWER, 1e6),
    ("current_now", "current", Quantity.CURRENT, 1e6),
    ("voltage_now", "voltage", Quantity.VOLTAGE, 1e6),
    ("temp", "temperature", Quantity.TEMPERATURE, 10.0),
)
"""Units by ABI/testing/sysfs-class-power: per cent, microwatts, microamperes, microvolts, tenths of a degree."""


def _batteries(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    for name in system.list(_SUPPLY):
        folder = f"{_SUPPLY}/{name}"
        if optional_text(system, f"{folder}/type") != "Battery" or optional_text(system, f"{folder}/scope") == "Device":
            continue
        files = system.list(folder)
        for file, word, quantity, divisor in _BATTERY:
            if file in files:
                channel = Channel(
                    f"battery/{name}/{word}", f"{name} {word}", quantity, PartKind.BATTERY, f"{folder}/{file}"
                )
                yield from try_probe(system, channel, scaled(divisor), unknown)
