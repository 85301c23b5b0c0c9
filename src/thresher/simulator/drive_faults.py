"""Faults of a scenario that are in a drive, its cable or its port: what they do to the drive, and what is logged.

Log lines are in the kernel's own forms: block/blk-core.c, drivers/ata/libata-eh.c, drivers/nvme/host/pci.c,
fs/ext4/super.c.
"""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import DriveSpec

_ERROR, _WARNING = 3, 4
_SECTOR = 512

Line = tuple[int, str]
"""The level of a line of the log, and the line."""


def spoilt(spec: DriveSpec, faults: tuple[Fault, ...]) -> DriveSpec:
    """Return a drive as the faults that are in it have left it."""
    for fault in faults:
        if fault.kind in _SPOILS and (fault.drive or spec.name) == spec.name:
            spec = _SPOILS[fault.kind](spec, fault)
    return spec


def _lost_sectors(spec: DriveSpec, fault: Fault) -> DriveSpec:
    rng = np.random.default_rng(int(fault.at * 1e6))
    count = int(np.clip(round(fault.strength * 0.8), 1, 24))
    lost = sorted(int(each) for each in rng.integers(4096, spec.size_bytes // _SECTOR, count))
    known = 0 if spec.name.startswith("sd") else count
    pending = (*spec.pending, *lost)
    return replace(spec, pending=pending, media_errors=spec.media_errors + known, decays=fault.strength / 4)


def _bad_electronics(spec: DriveSpec, fault: Fault) -> DriveSpec:
    share = fault.strength * 8e-4
    return replace(spec, flips=share, lies=share / 2, stalls=share / 3)


def _worn(spec: DriveSpec, fault: Fault) -> DriveSpec:
    return replace(spec, used=100 + int(fault.strength), spare=max(1, 9 - int(fault.strength)))


def _damaged_transfers(spec: DriveSpec, fault: Fault) -> DriveSpec:
    return replace(spec, link_crc=spec.link_crc + 12 + int(fault.strength * 20))


_SPOILS: dict[FaultKind, Callable[[DriveSpec, Fault], DriveSpec]] = {
    FaultKind.DRIVE_SURFACE: _lost_sectors,
    FaultKind.DRIVE_ELECTRONICS: _bad_electronics,
    FaultKind.DRIVE_WORN: _worn,
    FaultKind.DRIVE_CABLE: _damaged_transfers,
    FaultKind.DRIVE_PORT: _damaged_transfers,
}
LINK_FAULTS = (FaultKind.DRIVE_CABLE, FaultKind.DRIVE_PORT)
DRIVE_FAULTS = (*_SPOILS, FaultKind.FILE_SYSTEM)


# ---- what the kernel logs


def _surface(rng: np.random.Generator, drive: str) -> Line:
    sector = int(rng.integers(1 << 12, 1 << 30))
    return _ERROR, (
        f"critical medium error, dev {drive}, sector {sector} op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 0"
    )


def _cable(rng: np.random.Generator, _drive: str) -> Line:
    if rng.random() < 0.2:
        return _WARNING, "ata1.00: qc timeout after 10000 msecs (cmd 0xec)"
    return _ERROR, "ata1.00: error: { ICRC ABRT }"


def _port(rng: np.random.Generator, _drive: str) -> Line:
    if rng.random() < 0.3:
        return _ERROR, "ata1: COMRESET failed (errno=-16)"
    return _ERROR, "ata1.00: error: { ICRC ABRT }"


def _electronics(rng: np.random.Generator, drive: str) -> Line:
    sort = rng.random()
    if sort < 0.3:
        sector = int(rng.integers(1 << 12, 1 << 30))
        return _ERROR, (f"I/O error, dev {drive}, sector {sector} op 0x1:(WRITE) flags 0x8800 phys_seg 1 prio class 2")
    if sort < 0.5:
        return _file_system(rng, drive)
    if drive.startswith("nvme"):
        return _WARNING, f"nvme {drive[:5]}: I/O {int(rng.integers(1, 900))} QID 3 timeout, aborting"
    return _WARNING, "ata1.00: qc timeout after 10000 msecs (cmd 0xec)"


def _file_system(rng: np.random.Generator, drive: str) -> Line:
    part = f"{drive}p2" if drive.startswith("nvme") else f"{drive}2"
    inode = int(rng.integers(11, 1 << 20))
    return _ERROR, (
        f"EXT4-fs error (device {part}): ext4_find_entry:1663: inode #{inode}: comm cron: reading directory lblock 0"
    )


DRIVE_LINES: dict[FaultKind, Callable[[np.random.Generator, str], Line]] = {
    FaultKind.DRIVE_SURFACE: _surface,
    FaultKind.DRIVE_CABLE: _cable,
    FaultKind.DRIVE_PORT: _port,
    FaultKind.DRIVE_ELECTRONICS: _electronics,
    FaultKind.FILE_SYSTEM: _file_system,
}
