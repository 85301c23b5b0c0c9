"""Which module a physical address belongs to, where the firmware's address map decides it.

SMBIOS section 7.21 (type 20): the addresses of a module, and whether it shares them with others by interleaving. The
kernel's error-detection drivers decode addresses of errors that the hardware saw; for an address of one's own there
is only this map.
"""

from dataclasses import dataclass

from thresher.inventory.memory import memory_devices, slot_names
from thresher.inventory.smbios import MEMORY_DEVICE, Structure
from thresher.model.parts import AddressRange, Inventory, PartKind

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
