"""Putting a machine's parts together from what its kernel and firmware tell."""

import re

from thresher.inventory.smbios import MEMORY_DEVICE, Structure, memory_device, walk
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Inventory, LogicalCpu, Part, PartKind
from thresher.model.port import System, SystemKind, read_text

_CPU = "/sys/devices/system/cpu"
_DMI = "/sys/firmware/dmi/tables/DMI"
_FILLERS = re.compile(r"(?i)^(|to be filled by o\.?e\.?m\.?|default string|not specified|unknown|none|system .*)$")
_GIB = 1 << 30


def read_inventory(system: System) -> Inventory:
    """Read which parts the machine has. What cannot be found out is in `unknown` with the reason."""
    unknown: list[Fact] = []
    cpus = _read_cpus(system, unknown)
    structures = _read_structures(system, unknown)
    parts = [_processor(system, cpus, unknown), *_memory(system, structures, unknown), _board(structures)]
    parts += _drives(system)
    parts += _graphics(system)
    parts.append(Part("cooling", PartKind.COOLING, "Cooling"))
    parts.append(Part("power supply", PartKind.POWER, "Power supply"))
    slots = [memory_device(structure) for structure in structures if structure.kind == MEMORY_DEVICE]
    empty = tuple(device.slot for device in slots if device.size_mib == 0 and device.slot)
    return Inventory(system.name, system.kind is SystemKind.BENCH_MODEL, tuple(parts), cpus, tuple(unknown), empty)


def _optional(system: System, path: str) -> str:
    try:
        return read_text(system, path)
    except SourceUnavailable:
        return ""


def _read_cpus(system: System, unknown: list[Fact]) -> tuple[LogicalCpu, ...]:
    found = []
    for name in system.list(_CPU):
        match = re.fullmatch(r"cpu(\d+)", name)
        core = _optional(system, f"{_CPU}/{name}/topology/core_id") if match else ""
        if match and re.fullmatch(r"\d+", core):
            package = _optional(system, f"{_CPU}/{name}/topology/physical_package_id")
            found.append(LogicalCpu(int(match[1]), int(core), int(package) if package.isdigit() else 0))
    if not found:
        unknown.append(Fact("cores and threads", "the kernel gives no topology; each CPU is taken for a core", _CPU))
        numbers = re.findall(r"^processor\s*:\s*(\d+)", _optional(system, "/proc/cpuinfo"), re.MULTILINE)
        found = [LogicalCpu(int(number), int(number), 0) for number in numbers]
    return tuple(sorted(found, key=lambda cpu: cpu.cpu))


def _read_structures(system: System, unknown: list[Fact]) -> list[Structure]:
    try:
        table = system.read(_DMI)
    except SourceUnavailable as error:
        unknown.append(Fact("board and memory modules", f"firmware tables: {error.reason}", _DMI))
        return []
    oddities: list[str] = []
    structures = list(walk(table, oddities))
    unknown += [Fact("firmware tables", oddity, _DMI) for oddity in oddities]
    return structures


def _processor(system: System, cpus: tuple[LogicalCpu, ...], unknown: list[Fact]) -> Part:
    text = _optional(system, "/proc/cpuinfo")
    if not text:
        unknown.append(Fact("processor", "not there", "/proc/cpuinfo"))
    names = {
        "vendor_id": "maker", "cpu family": "family", "model": "model", "stepping": "stepping",
        "microcode": "microcode",
    }  # fmt: skip
    facts = []
    for key, title in names.items():
        match = re.search(rf"^{key}\s*:\s*(.+)$", text, re.MULTILINE)
        if match:
            facts.append(Fact(title, match[1].strip(), "/proc/cpuinfo"))
    cores = len({(cpu.package, cpu.core) for cpu in cpus})
    facts.append(Fact("cores and threads", f"{cores} cores, {len(cpus)} threads", f"{_CPU}/cpu*/topology"))
    folder = f"{_CPU}/cpu{cpus[0].cpu if cpus else 0}"
    for file, title in (("base_frequency", "base clock"), ("cpuinfo_max_freq", "highest clock")):
        khz = _optional(system, f"{folder}/cpufreq/{file}")
        if khz.isdigit():
            facts.append(Fact(title, f"{int(khz) / 1e6:.2f} GHz", f"{folder}/cpufreq/{file}"))
    facts += _caches(system, folder)
    name = re.search(r"^(?:model name|Model)\s*:\s*(.+)$", text, re.MULTILINE)
    return Part("processor", PartKind.PROCESSOR, name[1].strip() if name else "Processor", "socket", tuple(facts))


def _caches(system: System, cpu_folder: str) -> list[Fact]:
    facts = []
    for index in system.list(f"{cpu_folder}/cache"):
        folder = f"{cpu_folder}/cache/{index}"
        level, size = _optional(system, f"{folder}/level"), _optional(system, f"{folder}/size")
        kind = _optional(system, f"{folder}/type")
        if level and size and kind != "Instruction":
            facts.append(Fact(f"level {level} cache", size, folder))
    return facts


def cache_bytes(inventory: Inventory, level: int) -> int | None:
    """Return the size of the data or unified cache of a level, or None when the kernel does not tell."""
    units = {"K": 1 << 10, "M": 1 << 20, "G": 1 << 30}
    for part in inventory.parts_of(PartKind.PROCESSOR):
        for fact in part.facts:
            match = re.fullmatch(r"(\d+)([KMG])", fact.value)
            if fact.name == f"level {level} cache" and match:
                return int(match[1]) * units[match[2]]
    return None


def _memory(system: System, structures: list[Structure], unknown: list[Fact]) -> list[Part]:
    parts: list[Part] = []
    for structure in structures:
        if structure.kind != MEMORY_DEVICE:
            continue
        device = memory_device(structure)
        slot = device.slot or f"slot {len(parts) + 1}"
        if not device.size_mib:
            continue
        words = [device.maker, device.part_number]
        name = " ".join(word for word in words if not _FILLERS.match(word)) or "Memory module"
        speeds = [("rated speed", device.rated_mts), ("configured speed", device.configured_mts)]
        facts = [Fact("size", f"{device.size_mib / 1024:g} GiB", _DMI), Fact("kind", device.kind or "not told", _DMI)]
        facts += [Fact(title, f"{speed} MT/s", _DMI) for title, speed in speeds if speed]
        parts.append(Part(f"memory {slot}", PartKind.MEMORY, name, slot, tuple(facts)))
    total = re.search(r"^MemTotal:\s*(\d+) kB", _optional(system, "/proc/meminfo"), re.MULTILINE)
    if not parts and total:
        fact = Fact("size", f"{int(total[1]) / (1 << 20):.1f} GiB", "/proc/meminfo")
        parts.append(Part("memory", PartKind.MEMORY, "Memory (modules not told)", "", (fact,)))
    if not total:
        unknown.append(Fact("memory size", "MemTotal is not there", "/proc/meminfo"))
    return parts


def _board(structures: list[Structure]) -> Part:
    facts: list[Fact] = []
    name = "Board"
    for structure in structures:
        if structure.kind == 0:
            for offset, title in ((0x04, "firmware maker"), (0x05, "firmware version"), (0x08, "firmware date")):
                if not _FILLERS.match(structure.text(offset)):
                    facts.append(Fact(title, structure.text(offset), _DMI))
        if structure.kind == 2:
            words = [structure.text(0x04), structure.text(0x05)]
            name = " ".join(word for word in words if not _FILLERS.match(word)) or name
    return Part("board", PartKind.BOARD, name, "", tuple(facts))


def _drives(system: System) -> list[Part]:
    parts = []
    for name in system.list("/sys/block"):
        folder = f"/sys/block/{name}"
        if "device" not in system.list(folder) and not name.startswith("vd"):
            continue  # loop, ram, dm: no hardware behind them
        sectors = _optional(system, f"{folder}/size")
        facts = []
        if sectors.isdigit():
            facts.append(Fact("size", f"{int(sectors) * 512 / 1e9:.0f} GB", f"{folder}/size"))
        for file, title in (("serial", "serial"), ("firmware_rev", "firmware"), ("rev", "firmware")):
            value = _optional(system, f"{folder}/device/{file}")
            if value:
                facts.append(Fact(title, value, f"{folder}/device/{file}"))
        model = _optional(system, f"{folder}/device/model") or "Drive"
        parts.append(Part(f"drive {name}", PartKind.DRIVE, model, name, tuple(facts)))
    return parts


def _graphics(system: System) -> list[Part]:
    parts = []
    for card in system.list("/sys/class/drm"):
        if not re.fullmatch(r"card\d+", card):
            continue
        folder = f"/sys/class/drm/{card}/device"
        numbers = f"{_optional(system, f'{folder}/vendor')} {_optional(system, f'{folder}/device')}".strip()
        name = _optional(system, f"{folder}/product_name") or f"Graphics {numbers}"
        memory = _optional(system, f"{folder}/mem_info_vram_total")
        facts = [Fact("PCI vendor and device", numbers, folder)]
        if memory.isdigit():
            facts.append(Fact("memory", f"{int(memory) / _GIB:g} GiB", f"{folder}/mem_info_vram_total"))
        parts.append(Part(f"graphics {card}", PartKind.GRAPHICS, name, card, tuple(facts)))
    return parts
