"""Memory: what firmware says is installed against what the kernel counts, ECC, channels, speeds.

SMBIOS sections 7.17 and 7.18; kernel documents filesystems/proc (meminfo) and driver-api/edac
(`/sys/devices/system/edac/mc`).
"""

import re

from thresher.inventory.smbios import MEMORY_DEVICE, MemoryDevice, Structure, memory_device
from thresher.model.parts import Doubt, Fact, Part, PartKind
from thresher.model.port import System, optional_number, optional_text

DMI = "/sys/firmware/dmi/tables/DMI"
_EDAC = "/sys/devices/system/edac/mc"
_MEMINFO = "/proc/meminfo"
_RESERVED_SHARE = 0.10
"""Firmware, graphics and the kernel keep some memory for themselves; more than this missing is a finding."""
_RESERVED_GIB = 1.5


def memory_devices(structures: list[Structure]) -> list[MemoryDevice]:
    """Return all memory slots, in the board's order."""
    return [memory_device(structure) for structure in structures if structure.kind == MEMORY_DEVICE]


def slot_names(devices: list[MemoryDevice]) -> list[str]:
    """Return what each slot is called, each by a name of its own.

    Where the board names several slots alike, the bank distinguishes them; numbers do where nothing else does.
    """
    names = [device.slot or f"slot {index + 1}" for index, device in enumerate(devices)]
    alike = {name for name in names if names.count(name) > 1}
    names = [
        f"{device.bank} {name}" if name in alike and device.bank else name
        for name, device in zip(names, devices, strict=True)
    ]
    return [f"{name}, slot {index + 1}" if names.count(name) > 1 else name for index, name in enumerate(names)]


def counted_gib(system: System) -> float | None:
    """Return the memory that the kernel counts as its own, in GiB."""
    total = re.search(r"^MemTotal:\s*(\d+) kB", optional_text(system, _MEMINFO), re.MULTILINE)
    return int(total[1]) / (1 << 20) if total else None


def read_memory(system: System, devices: list[MemoryDevice], unknown: list[Fact]) -> list[Part]:
    """Return the modules installed; one part for all when the firmware does not distinguish them."""
    parts = []
    for slot, device in zip(slot_names(devices), devices, strict=True):
        if not device.size_mib:
            continue
        name = " ".join(word for word in (device.maker, device.part_number) if word) or "Memory module"
        parts.append(Part(f"memory {slot}", PartKind.MEMORY, name, slot, tuple(_module_facts(device))))
    counted = counted_gib(system)
    if counted is None:
        unknown.append(Fact("memory size", "MemTotal is not there", _MEMINFO))
    elif not parts:
        facts = (Fact("size", f"{counted:.1f} GiB", _MEMINFO), *_ecc_facts(system))
        parts.append(Part("memory", PartKind.MEMORY, "Memory (modules unknown)", "", facts))
    return parts


def _module_facts(device: MemoryDevice) -> list[Fact]:
    assert device.size_mib is not None
    facts = [("size", f"{device.size_mib / 1024:g} GiB"), ("kind", " ".join(filter(None, (device.kind, device.form))))]
    facts += [
        (title, f"{speed} MT/s")
        for title, speed in (("rated speed", device.rated_mts), ("configured speed", device.configured_mts))
        if speed
    ]
    facts += [
        (title, f"{volts:g} V")
        for title, volts in (("lowest voltage", device.rated_v), ("configured voltage", device.configured_v))
        if volts
    ]
    if device.has_check_bits:
        facts.append(("check bits", f"{device.total_bits} bits for {device.data_bits} of data"))
    if device.bank:
        facts.append(("bank", device.bank))
    if device.serial:
        facts.append(("serial", device.serial))
    return [Fact(name, value, DMI) for name, value in facts if value]


def _ecc_facts(system: System) -> list[Fact]:
    controllers = [name for name in system.list(_EDAC) if re.fullmatch(r"mc\d+", name)]
    return [
        Fact("error-correcting controller", optional_text(system, f"{_EDAC}/{name}/mc_name") or name, f"{_EDAC}/{name}")
        for name in controllers
    ]


def read_ecc(system: System, devices: list[MemoryDevice], unknown: list[Fact]) -> list[Fact]:
    """Return the ECC controllers that the kernel watches; modules that could and no controller is reported."""
    facts = _ecc_facts(system) + _edac_counts(system)
    if not facts and any(device.has_check_bits for device in devices):
        reason = "the modules carry check bits, but no EDAC driver is loaded; corrected errors cannot be counted"
        unknown.append(Fact("memory error correction", reason, _EDAC))
    return facts


def memory_doubts(system: System, devices: list[MemoryDevice]) -> list[Doubt]:
    """Return what is not as it should be: memory missing, slow, on one channel, unlike."""
    fitted = [device for device in devices if device.size_mib]
    doubts = _missing(system, fitted)
    names = slot_names(devices)
    for slot, device in zip(names, devices, strict=True):
        if device.rated_mts and device.configured_mts and device.configured_mts < device.rated_mts * 0.97:
            detail = f"{device.configured_mts} of {device.rated_mts} MT/s; the memory profile is probably not set"
            doubts.append(_doubt("M-120", f"memory {slot}", "Memory slower than rated", detail))
    channels = {_channel(device) for device in devices} - {""}
    used = {_channel(device) for device in fitted} - {""}
    if len(fitted) >= 2 and len(channels) >= 2 and len(used) == 1:
        there, free = ", ".join(used), ", ".join(sorted(channels - used))
        detail = f"{len(fitted)} modules on channel {there}, none on {free}"
        doubts.append(_doubt("M-130", "memory", "All modules on one channel", detail))
    kinds = {(device.part_number, device.size_mib) for device in fitted}
    if len(kinds) > 1 and all(device.part_number for device in fitted):
        detail = ", ".join(f"{slot} {d.part_number}" for slot, d in zip(names, devices, strict=True) if d.size_mib)
        doubts.append(_doubt("M-140", "memory", "Unlike modules", detail))
    return doubts


def _doubt(code: str, part: str, title: str, detail: str) -> Doubt:
    return Doubt(code, part, PartKind.MEMORY, title, detail)


def least_gib(fitted: float) -> float:
    """Return how much of the memory that is fitted the kernel should have at least, in GiB."""
    return fitted - max(_RESERVED_GIB, fitted * _RESERVED_SHARE)


def _missing(system: System, fitted: list[MemoryDevice]) -> list[Doubt]:
    counted = counted_gib(system)
    reported = sum(device.size_mib or 0 for device in fitted) / 1024
    if counted is None or not reported or counted >= least_gib(reported):
        return []
    detail = f"{reported:g} GiB installed, the kernel counts {counted:.1f} GiB"
    return [_doubt("M-110", "memory", "Memory missing", detail)]


def _channel(device: MemoryDevice) -> str:
    """Return the channel that a slot is on, by its own name or else by its bank's; empty when neither says."""
    for name in (device.slot, device.bank):
        match = _CHANNEL.search(name)
        if match:
            channel = next(group for group in match.groups() if group).upper()
            controller = _CONTROLLER.search(name)
            return f"{controller[1]}/{channel}" if controller else channel
    return ""


_CHANNEL = re.compile(
    r"(?i)channel[\s_-]*([A-H0-9])|\bch(?:an)?[\s_-]?([A-H0-9])\b|dimm[_ ]?([A-H])\d?\b|^([A-H])\d$|_([A-H])\d"
)
_CONTROLLER = re.compile(r"(?i)(?:controller|node|cpu|p)[\s_-]?(\d)[\s_-]*(?=channel|ch)")


def _edac_counts(system: System) -> list[Fact]:
    """Return the corrected and uncorrected counts that the kernel keeps by controller, where there are any."""
    facts = []
    for name in system.list(_EDAC):
        for file, title in (("ce_count", "corrected errors"), ("ue_count", "uncorrected errors")):
            count = optional_number(system, f"{_EDAC}/{name}/{file}")
            if count:
                facts.append(Fact(f"{title}, {name}", str(count), f"{_EDAC}/{name}/{file}"))
    return facts
