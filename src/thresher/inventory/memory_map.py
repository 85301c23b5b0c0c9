"""Which module a physical address belongs to, where the firmware's address map decides it.

SMBIOS section 7.21 (type 20): the addresses of a module, and whether it shares them with others by interleaving. The
kernel's error-detection drivers decode addresses of errors that the hardware saw; for an address of one's own there
is only this map.
"""

import re
from dataclasses import dataclass

from thresher.inventory.memory import memory_devices, slot_names
from thresher.inventory.smbios import MEMORY_DEVICE, Structure
from thresher.model.parts import AddressRange, Inventory, PartKind
from thresher.model.port import System, optional_text

MAPPED_DEVICE = 20
_WIDE = 0xFFFFFFFF


@dataclass(frozen=True, slots=True)
class _Mapped:
    device: int
    low: int
    high: int
    interleaved: bool


def read_memory_map(structures: list[Structure]) -> tuple[AddressRange, ...]:
    """Return the ranges of all modules that firmware maps, in its order."""
    slots = [each for each in structures if each.kind == MEMORY_DEVICE]
    handles = [structure.handle for structure in slots]
    names = dict(zip(handles, slot_names(memory_devices(structures)), strict=True))
    mapped = [found for each in structures if each.kind == MAPPED_DEVICE and (found := _mapped(each))]
    return tuple(
        AddressRange(names[each.device], each.low, each.high, each.interleaved)
        for each in mapped
        if each.device in names
    )


def _mapped(structure: Structure) -> _Mapped | None:
    start, end = structure.number(0x04, 4), structure.number(0x08, 4)
    device, position = structure.number(0x0C, 2), structure.number(0x11, 1)
    if start is None or end is None or device is None:
        return None
    low, high = start * 1024, end * 1024 + 1023
    if start == _WIDE and end == _WIDE:
        wide_low, wide_high = structure.number(0x13, 8), structure.number(0x1B, 8)
        if wide_low is None or wide_high is None:
            return None
        low, high = wide_low, wide_high
    # position 0 is not interleaved, 255 unknown: only the former says that the module has the range for itself
    return _Mapped(device, low, high, position != 0) if low <= high else None


_FIRMWARE_MAP = "/sys/firmware/memmap"
_LOW = 1 << 20
_MIB = 1 << 20


def kept_memory(system: System) -> str:
    """Return in words how much memory no check can test: reserved by firmware, or used by kernel and boot loader.

    Kernel documentation, ABI/testing/sysfs-firmware-memmap: the map as firmware gave it, before anything took of it.
    Empty where the kernel does not show it.
    """
    ranges = [_range(system, f"{_FIRMWARE_MAP}/{name}") for name in system.list(_FIRMWARE_MAP)]
    usable = [(low, high) for low, high, kind in ranges if kind == "System RAM"]
    total = re.search(r"MemTotal:\s+(\d+) kB", optional_text(system, "/proc/meminfo"))
    if not usable or total is None or not all(kind for _, _, kind in ranges):
        return ""
    top = max(high for _, high in usable)
    # beyond the last memory lie only windows of devices
    firmware = sum(high + 1 - low for low, high, kind in ranges if kind in _FIRMWARE_KEEPS and high <= top)
    mapped = sum(high + 1 - low for low, high in usable)
    kernel = max(0, mapped - int(total[1]) * 1024)
    lowest = sum(min(high + 1, _LOW) - low for low, high in usable if low < _LOW)
    return (
        f"not testable: {_size(firmware)} reserved by firmware, {_size(kernel)} used by kernel and boot loader"
        f" ({_size(lowest)} of it below 1 MiB)"
    )


def _size(count: int) -> str:
    return f"{count / _MIB:.0f} MiB" if count >= _MIB else f"{count // 1024} KiB"


_FIRMWARE_KEEPS = ("Reserved", "ACPI Tables", "ACPI Non-volatile Storage", "reserved")


def _range(system: System, folder: str) -> tuple[int, int, str]:
    try:
        low = int(optional_text(system, f"{folder}/start").strip(), 16)
        high = int(optional_text(system, f"{folder}/end").strip(), 16)
    except ValueError:
        return 0, 0, ""
    return low, high, optional_text(system, f"{folder}/type").strip()


def slot_of(inventory: Inventory, address: int) -> str:
    """Return the slot of a physical address, empty where nothing decides it."""
    fitted = [part for part in inventory.parts if part.kind is PartKind.MEMORY and part.place]
    if len(fitted) == 1:
        return fitted[0].place
    mine = [each for each in inventory.memory_map if each.low <= address <= each.high]
    return mine[0].slot if len(mine) == 1 and not mine[0].interleaved else ""


def why_no_slot(inventory: Inventory) -> str:
    """Say why an address cannot be assigned to a slot."""
    if not inventory.memory_map:
        return "the firmware reports no module addresses; test one module at a time"
    if any(each.interleaved for each in inventory.memory_map):
        return "the modules share their addresses in turn (interleaved), so an address belongs to no single one"
    return "no module claims this address"
