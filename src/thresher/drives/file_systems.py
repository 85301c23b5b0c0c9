"""What file systems and arrays count themselves: ext4, btrfs, md and the device mapper in sysfs.

Nothing is checked by writing. Kernel documents ABI/testing/sysfs-fs-ext4, filesystems/btrfs, admin-guide/md.
"""

import re
from dataclasses import dataclass

from thresher.model.findings import FindingKind, Severity
from thresher.model.port import System, optional_number, optional_text

_EXT4, _BTRFS, _BLOCK = "/sys/fs/ext4", "/sys/fs/btrfs", "/sys/block"
_BTRFS_WORDS = {
    "read_errs": "reads failed",
    "write_errs": "writes failed",
    "flush_errs": "flushes failed",
    "corruption_errs": "blocks did not match their check sum",
    "generation_errs": "blocks were older than they should be",
}
_BY_THE_DRIVE = ("read_errs", "write_errs", "flush_errs")


@dataclass(frozen=True, slots=True)
class FileSystemSign:
    """What a file system, an array or a volume reports: the device, a fault code, words, and where it was read.

    `kind` is what it is evidence of; `severity` is a note for what may be all right.
    """

    device: str
    code: str
    words: str
    source: str
    kind: FindingKind
    severity: Severity = Severity.WARNING


def read_file_systems(system: System) -> tuple[FileSystemSign, ...]:
    """Return everything that file systems and arrays count which should be nothing."""
    return (*_ext4(system), *_btrfs(system), *_arrays(system), *_mapped(system))


def _ext4(system: System) -> list[FileSystemSign]:
    found = []
    for device in system.list(_EXT4):
        path = f"{_EXT4}/{device}/errors_count"
        count = optional_number(system, path)
        if not count:
            continue
        where = optional_text(system, f"{_EXT4}/{device}/last_error_func")
        block = optional_number(system, f"{_EXT4}/{device}/last_error_block")
        last = f", the last in {where}" if where else ""
        at = f" at block {block}" if block else ""
        words = f"ext4 has counted {count} errors since it was checked last{last}{at}"
        found.append(FileSystemSign(device, "D-350", words, path, FindingKind.FILE_SYSTEM))
    return found


def _btrfs(system: System) -> list[FileSystemSign]:
    found = []
    for volume in system.list(_BTRFS):
        devices = system.list(f"{_BTRFS}/{volume}/devices")
        for number in system.list(f"{_BTRFS}/{volume}/devinfo"):
            path = f"{_BTRFS}/{volume}/devinfo/{number}/error_stats"
            counts = dict(re.findall(r"^(\w+)\s+(\d+)$", optional_text(system, path), re.MULTILINE))
            counted = {name: int(value) for name, value in counts.items() if name in _BTRFS_WORDS and int(value)}
            if not counted:
                continue
            # sysfs does not say which device has which number; with one device there is no doubt
            device = devices[0] if len(devices) == 1 else ", ".join(devices)
            failed = any(name in _BY_THE_DRIVE for name in counted)
            words = "; ".join(f"{value} {_BTRFS_WORDS[name]}" for name, value in counted.items())
            code = "D-312" if failed else "D-352"
            kind = FindingKind.DRIVE_FAILED if failed else FindingKind.FILE_SYSTEM
            found.append(FileSystemSign(device, code, f"btrfs, device {number}: {words}", path, kind))
    return found


def _arrays(system: System) -> list[FileSystemSign]:
    found = []
    for name in system.list(_BLOCK):
        if not re.fullmatch(r"md\d+|md_\w+", name):
            continue
        folder = f"{_BLOCK}/{name}/md"
        for member in [each for each in system.list(folder) if each.startswith("dev-")]:
            device = member.removeprefix("dev-")
            state = optional_text(system, f"{folder}/{member}/state")
            errors = optional_number(system, f"{folder}/{member}/errors")
            if "faulty" in state.split(","):
                words = f"{name} has put {device} out of use"
                found.append(
                    FileSystemSign(device, "D-360", words, f"{folder}/{member}/state", FindingKind.DRIVE_FAILED)
                )
            elif errors:
                words = f"{name} has corrected {errors} reads of {device}"
                found.append(
                    FileSystemSign(device, "D-312", words, f"{folder}/{member}/errors", FindingKind.DRIVE_FAILED)
                )
        mismatch = optional_number(system, f"{folder}/mismatch_cnt")
        if mismatch:
            words = f"the copies of {name} differ in {mismatch} sectors"
            found.append(FileSystemSign(name, "D-352", words, f"{folder}/mismatch_cnt", FindingKind.FILE_SYSTEM))
        missing = optional_number(system, f"{folder}/degraded")
        if missing:
            words = f"{name} runs with {missing} drive{'s' if missing > 1 else ''} missing"
            found.append(FileSystemSign(name, "D-360", words, f"{folder}/degraded", FindingKind.DRIVE_FAILED))
    return found


def _mapped(system: System) -> list[FileSystemSign]:
    """Volumes of the device mapper that hold requests back (ABI/testing/sysfs-block-dm)."""
    found = []
    for device in system.list(_BLOCK):
        if re.fullmatch(r"dm-\d+", device) and optional_number(system, f"{_BLOCK}/{device}/dm/suspended"):
            name = optional_text(system, f"{_BLOCK}/{device}/dm/name") or device
            below = ", ".join(system.list(f"{_BLOCK}/{device}/slaves")) or device
            words = f"the volume {name} is suspended: every request to it waits"
            source = f"{_BLOCK}/{device}/dm/suspended"
            # while a volume is being changed that is as it should be
            found.append(FileSystemSign(below, "D-361", words, source, FindingKind.DRIVE_STALL, Severity.NOTE))
    return found


def disk_of(device: str) -> str:
    """Return the disk of a partition by its name: sda2 is on sda, nvme0n1p2 on nvme0n1; others are their own."""
    match = re.fullmatch(r"((?:nvme\d+n\d+|mmcblk\d+|md\d+))p\d+|(sd[a-z]+)\d+", device)
    return (match[1] or match[2]) if match is not None else device
