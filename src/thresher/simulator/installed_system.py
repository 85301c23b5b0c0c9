"""The installed system of a simulated machine: a folder as its drive would show it, with event logs.

Ordinary days of a small office with their harmless events, and what the machine's faults would have left in them. The
files have the other system's own formats, so they are read like those of a customer's drive.
"""

import struct
import uuid
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from thresher.simulator.event_log_writer import Event, write_log
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.scenario import Scenario

_DAYS = 90
_DAY_S = 86400.0
_W = "Microsoft-Windows-"
_ENDS = (
    *(FaultKind.SAGGING_SUPPLY, FaultKind.RESETS, FaultKind.SWITCHES_OFF, FaultKind.BOARD_CUTS),
    *(FaultKind.CRASHING_CORE, FaultKind.CRASHING_MEMORY, FaultKind.CRASHING_SYSTEM, FaultKind.FREEZES),
)
_CORES = (
    *(FaultKind.WEAK_CORE, FaultKind.CACHE_BIT, FaultKind.WEAK_VECTOR_UNIT),
    *(FaultKind.UNDERVOLT, FaultKind.OVERCLOCK),
)
_HEAT = (FaultKind.CLOGGED_HEATSINK, FaultKind.DRY_PASTE, FaultKind.DEAD_FAN, FaultKind.OVERHEATS)
_CELLS = (FaultKind.CELL_STUCK, FaultKind.CELL_TRANSITION, FaultKind.CELL_COUPLED, FaultKind.RETENTION)
_DRIVES = (FaultKind.DRIVE_SURFACE, FaultKind.DRIVE_ELECTRONICS, FaultKind.DRIVE_WORN)
_LINKS = (FaultKind.DRIVE_CABLE, FaultKind.DRIVE_PORT)
_CARDS = (FaultKind.GRAPHICS_HANGS, FaultKind.CARD_CORE, FaultKind.CARD_MEMORY, FaultKind.CARD_PLUG)
_BEGAN_DAY = 55
"""When the faults began to show."""


def write_installed_system(scenario: Scenario, folder: Path, now: float) -> Path:
    """Write the drive of a machine as its own system left it, up to a Unix time, and return its folder."""
    logs = folder / "Windows/System32/winevt/Logs"
    logs.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(scenario.seed)
    start = now - _DAYS * _DAY_S - now % _DAY_S
    events = [event for day in range(_DAYS) for event in _day(scenario, rng, start, day)]
    (logs / "System.evtx").write_bytes(write_log(sorted(events, key=lambda each: each.at)))
    return folder


def _day(scenario: Scenario, rng: np.random.Generator, start: float, day: int) -> Iterator[Event]:
    begin = start + day * _DAY_S + 8 * 3600.0 + float(rng.uniform(0, 1800))
    if day % 7 == 6:
        return
    end = begin + float(rng.uniform(7.0, 9.5)) * 3600.0
    kinds = {fault.kind for fault in scenario.faults} if day >= _BEGAN_DAY else set()
    yield from _morning(begin, day, rng)
    broken = bool(kinds.intersection(_ENDS)) and rng.random() < 0.3
    yield from _trouble(kinds, begin, end, rng)
    if broken:
        again = begin + float(rng.uniform(1.0, 6.0)) * 3600.0
        yield Event(f"{_W}Kernel-General", 12, again)
        yield Event(f"{_W}Kernel-Power", 41, again + 4, _NO_CODE, 1)
        yield Event("EventLog", 6008, again + 6, ("14:03:22", "", "", "", ""), 2)
    yield Event("EventLog", 6006, end)
    yield Event(f"{_W}Kernel-General", 13, end + 3)


def _morning(begin: float, day: int, rng: np.random.Generator) -> Iterator[Event]:
    yield Event(f"{_W}Kernel-General", 12, begin)
    yield Event("EventLog", 6005, begin + 4)
    yield Event(f"{_W}Kernel-Processor-Power", 55, begin + 5, (("Number", "0"),))
    for _ in range(int(rng.integers(2, 6))):
        yield Event(f"{_W}DistributedCOM", 10016, begin + float(rng.uniform(20, 9000)), ("machine-default",), 3)
    if rng.random() < 0.3:
        yield Event(f"{_W}DNS-Client", 1014, begin + 900, (("QueryName", "mail.harbour.example"),), 3)
    if day % 14 == 3:
        yield Event(f"{_W}WindowsUpdateClient", 19, begin + 1200, (("updateTitle", "Monthly update"),))
    if day == _BEGAN_DAY - 2:
        yield Event(f"{_W}UserPnp", 20001, begin + 600, (("DeviceDescription", "Petrel label printer"),))


_NO_CODE = (("BugcheckCode", "0"), ("PowerButtonTimestamp", "0"), ("SleepInProgress", "0"))


def _trouble(kinds: set[FaultKind], begin: float, end: float, rng: np.random.Generator) -> Iterator[Event]:
    at = float(rng.uniform(begin + 1800, end - 600))
    if kinds.intersection(_CORES) and rng.random() < 0.6:
        yield Event(f"{_W}WHEA-Logger", 19, at, (("ErrorSource", "1"), ("RawData", _cache_record(at).hex())), 3)
    if kinds.intersection(_HEAT) and rng.random() < 0.6:
        data = (("Number", "0"), ("CapDurationInSeconds", "62"))
        yield Event(f"{_W}Kernel-Processor-Power", 37, at, data, 3)
    if FaultKind.OVERHEATS in kinds and rng.random() < 0.2:
        yield Event(f"{_W}Kernel-Power", 86, at, (("ThermalZoneDeviceInstance", "TZ00"),), 1)
    if kinds.intersection(_CELLS) and rng.random() < 0.4:
        number = "0x0000001a" if rng.random() < 0.6 else "0x00000050"
        text = f"{number} (0x0000000000041792, 0xffffd80000001008, 0x0000000000000010, 0x0000000000000000)"
        yield Event("BugCheck", 1001, at, (("param1", text),), 2)
    if kinds.intersection(_DRIVES) and rng.random() < 0.7:
        yield Event("disk", 7, at, ("\\Device\\Harddisk0\\DR0",), 2)
        yield Event("disk", 153, at + 9, ("\\Device\\Harddisk0\\DR0",), 3)
    if kinds.intersection(_LINKS) and rng.random() < 0.7:
        yield Event("storahci", 129, at, ("\\Device\\RaidPort0",), 3)
    if kinds.intersection(_CARDS) and rng.random() < 0.5:
        yield Event("Display", 4101, at, ("petrelkmd",), 3)
    if FaultKind.FILE_SYSTEM in kinds and rng.random() < 0.3:
        yield Event("Ntfs", 55, at, (("DriveName", "C:"),), 2)
    if FaultKind.PANICS in kinds and rng.random() < 0.3:
        yield Event("BugCheck", 1001, at, (("param1", "0x00000101 (0x18, 0x0, 0xffff9b81e4f5a180, 0x5)"),), 2)


def _cache_record(at: float) -> bytes:
    """Return a corrected cache error of one core as firmware records it (UEFI Specification, appendix N.2.4.2)."""
    registers = struct.pack("<4Q", 0, 0x9400004000040150, 0, 0)  # control, status, address, other
    context = struct.pack("<HHIQ", 1, len(registers), 0x404, 0) + registers
    # one error and one context: bits 2 to 7 and 8 to 13 of the valid bits
    info = _CACHE_CHECK.bytes_le + struct.pack("<6Q", 1, 0x1F, 0, 0, 0, 0)
    body = struct.pack("<QQ", 0b11 | 1 << 2 | 1 << 8, 2) + bytes(48) + info + context
    head = struct.pack("<4sHIHIII", b"CPER", 0x0210, 0xFFFFFFFF, 1, 2, 0, 128 + 72 + len(body)) + bytes(8)
    head = head.ljust(128, b"\0")
    section = struct.pack("<IIHBBI", 200, len(body), 0x0300, 0, 0, 1) + _X64.bytes_le
    section += bytes(16) + struct.pack("<I", 2)
    return head + section.ljust(72, b"\0") + body


_CACHE_CHECK = uuid.UUID("a55701f5-e3ef-43de-ac72-249b573fad2c")
_X64 = uuid.UUID("dc3ea0b0-a144-4797-b95b-53fa242b6e1d")
