"""Putting a machine's parts together from what its kernel and firmware report."""

import re

from thresher.inventory.built_in import read_built_in
from thresher.inventory.devices import (
    battery_doubts,
    drive_doubts,
    read_drives,
    read_fans,
    read_graphics,
    read_others,
    read_supplies,
    read_usb_controllers,
)
from thresher.inventory.identity import SECRET_FACTS, read_identity
from thresher.inventory.memory import DMI, memory_devices, memory_doubts, read_ecc, read_memory, slot_names
from thresher.inventory.memory_map import read_memory_map
from thresher.inventory.names import Lookup, NoNames
from thresher.inventory.processor import processor_doubts, read_cpus, read_processor
from thresher.inventory.smbios import Described, Structure, describe, walk
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Doubt, Fact, Inventory, Part, PartKind
from thresher.model.port import System, SystemKind, optional_text

_BOARD_TITLES = ("system", "chassis", "firmware", "processor socket", "slot", "on-board device", "memory array")


def read_inventory(system: System, lookup: Lookup | None = None) -> Inventory:
    """Read which parts the machine has, named by the hardware database that `lookup` asks.

    What cannot be found out is in `unknown` with the reason.
    """
    lookup = lookup or NoNames()
    unknown: list[Fact] = []
    cpus = read_cpus(system, unknown)
    structures = _read_structures(system, unknown)
    described = [each for structure in structures if (each := describe(structure))]
    devices = memory_devices(structures)
    graphics, graphics_doubts = read_graphics(system, lookup)
    ecc = read_ecc(system, devices, unknown)
    built_in = read_built_in(system)
    listed = [Fact(each.kind.value, each.name, each.source) for each in built_in]
    parts = [
        read_processor(system, cpus, unknown),
        *read_memory(system, devices, unknown),
        _board(system, described, [*ecc, *read_usb_controllers(system, lookup), *listed]),
        *read_drives(system),
        *graphics,
        *read_others(system, unknown, lookup),
        Part("cooling", PartKind.COOLING, "Cooling", "", tuple(read_fans(system))),
        _power_supply(described, read_supplies(system)),
    ]
    doubts = [
        *processor_doubts(system),
        *memory_doubts(system, devices),
        *graphics_doubts,
        *drive_doubts(parts),
        *battery_doubts(system),
        *_firmware_doubts(described),
    ]
    empty = tuple(slot for slot, device in zip(slot_names(devices), devices, strict=True) if device.size_mib == 0)
    simulated = system.kind is SystemKind.SIMULATED
    unnamed = [part for part in parts if part.name.startswith("Graphics 0x")]
    if unnamed and lookup.reason:
        unknown.append(Fact("names of graphics cards", lookup.reason, unnamed[0].facts[0].source))
    identity = read_identity(system, structures)
    memory_map = read_memory_map(structures)
    return Inventory(
        system.name,
        simulated,
        tuple(parts),
        cpus,
        tuple(unknown),
        empty,
        tuple(doubts),
        identity,
        memory_map,
        built_in,
    )


def _read_structures(system: System, unknown: list[Fact]) -> list[Structure]:
    try:
        table = system.read(DMI)
    except SourceUnavailable as error:
        unknown.append(Fact("board and memory modules", f"firmware tables: {error.reason}", DMI))
        return []
    oddities: list[str] = []
    structures = list(walk(table, oddities))
    unknown += [Fact("firmware tables", oddity, DMI) for oddity in oddities]
    return structures


def _board(system: System, described: list[Described], more: list[Fact]) -> Part:
    facts: list[Fact] = []
    name = "Board"
    for each in described:
        if each.title == "board":
            name = " ".join(filter(None, (each.get("maker"), each.get("name")))) or name
            facts += [Fact(fact.name, fact.value, DMI) for fact in each.facts if fact.name in ("version", "serial")]
        elif each.title in _BOARD_TITLES:
            words = ", ".join(f"{fact.name} {fact.value}" for fact in each.facts if fact.name not in SECRET_FACTS)
            if words:
                facts.append(Fact(each.title, words, DMI))
            # by itself, so that it can be masked
            facts += [Fact(f"{each.title} serial", f.value, DMI) for f in each.facts if f.name in SECRET_FACTS]
    if name == "Board":  # boards without firmware tables are named by their device tree
        name = _board_name(system) or name
    return Part("board", PartKind.BOARD, name, "", (*facts, *more))


def _board_name(system: System) -> str:
    model = optional_text(system, "/proc/device-tree/model").strip("\0 ")
    if model:
        return model
    listed = re.search(r"^Model\s*:\s*(.+)$", optional_text(system, "/proc/cpuinfo"), re.MULTILINE)
    return listed[1].strip() if listed else ""


def _power_supply(described: list[Described], supplies: list[Fact]) -> Part:
    for each in described:
        if each.title == "power supply" and each.facts:
            name = " ".join(filter(None, (each.get("maker"), each.get("name")))) or "Power supply"
            facts = tuple(Fact(fact.name, fact.value, DMI) for fact in each.facts)
            return Part("power supply", PartKind.POWER, name, each.get("place"), (*facts, *supplies))
    return Part("power supply", PartKind.POWER, "Power supply", "", tuple(supplies))


def _firmware_doubts(described: list[Described]) -> list[Doubt]:
    for each in described:
        if each.title == "firmware" and each.facts and not each.get("date"):
            detail = "the firmware reports no date; its settings may have been lost with the board's battery"
            return [Doubt("S-110", "board", PartKind.BOARD, "Firmware date unset", detail)]
    return []
