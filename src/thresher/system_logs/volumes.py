"""The file systems of this machine's drives, as what another system may have left: found, named, opened read only.

Options that keep a file system's own log from being replayed: Linux kernel documentation, filesystems/ext4 ("noload"),
xfs ("norecovery"), btrfs ("rescue=nologreplay"), f2fs ("norecovery"); the drivers of NTFS, FAT and exFAT replay nothing
on a read-only mount. The device is set read only before, so that the kernel refuses what an option would forget.
"""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.machine.system_tools import Tools, run_tool, tried
from thresher.model.errors import EnvironmentFault, InputError, InputFault

_OPTIONS = {
    "ntfs": ("ntfs3", "ro"),
    "vfat": ("vfat", "ro"),
    "exfat": ("exfat", "ro"),
    "ext4": ("ext4", "ro,noload"),
    "ext3": ("ext4", "ro,noload"),
    "ext2": ("ext4", "ro"),
    "xfs": ("xfs", "ro,norecovery"),
    "btrfs": ("btrfs", "ro,rescue=nologreplay"),
    "f2fs": ("f2fs", "ro,norecovery"),
}
"""By the kind that blkid names: the kernel's driver, and its options."""
_LOCKED = {
    "BitLocker": "encrypted (BitLocker); left alone",
    "crypto_LUKS": "encrypted (LUKS); left alone",
    "LVM2_member": "part of a volume group, which is not put together",
    "linux_raid_member": "part of an array, which is not put together",
    "isw_raid_member": "part of an array of the firmware, which is not put together",
    "ddf_raid_member": "part of an array of the firmware, which is not put together",
    "zfs_member": "part of a ZFS pool, which is not put together",
    "apfs": "a file system that is not read here (APFS)",
}
_NOTHING_TO_READ = ("swap", "iso9660", "udf", "squashfs")
_LABELS = ("THRESHER", "THRESHEREFI", "THRESHER-JOBS")
_OF_THIS_SYSTEM = ("/boot", "/home", "/usr", "/var", "/opt", "/srv", "/snap", "[SWAP]")
_MARKS = ("nodev", "nosuid", "noexec")


@dataclass(frozen=True, slots=True)
class Volume:
    """A file system: device, kind, name, bytes, the drive's model, where mounted, and why it is not read (`locked`)."""

    device: str
    file_system: str
    label: str
    size: int
    model: str
    mounted: str = ""
    locked: str = ""

    @property
    def words(self) -> str:
        """What a person reads."""
        name = f"{self.label}, " if self.label else ""
        model = f", {self.model}" if self.model else ""
        running = ", the system that is running" if self.running else ""
        return f"{self.device}: {name}{self.size / 1e9:.1f} GB, {self.file_system}{model}{running}"

    @property
    def running(self) -> bool:
        """Whether it belongs to the system that Thresher runs on: on a bench computer that is not the customer's."""
        return self.mounted == "/" or self.mounted.startswith(_OF_THIS_SYSTEM)


class _Device(msgspec.Struct, frozen=True):
    path: str
    fstype: str | None = None
    label: str | None = None
    size: int = 0
    model: str | None = None
    mountpoint: str | None = None
    children: tuple["_Device", ...] = ()


class _Listing(msgspec.Struct, frozen=True):
    blockdevices: tuple[_Device, ...] = ()


def parse_volumes(listing: str) -> list[Volume]:
    """Return the file systems that `lsblk --json --bytes` lists, without this program's own. Raises InputError."""
    try:
        found = msgspec.json.decode(listing.encode(), type=_Listing)
    except msgspec.DecodeError as error:
        raise InputError("the list of drives", [InputFault("lsblk", str(error))]) from error
    return [volume for drive in found.blockdevices for volume in _volumes_of(drive, (drive.model or "").strip())]


def _volumes_of(device: _Device, model: str) -> Iterator[Volume]:
    kind = device.fstype or ""
    if kind and kind not in _NOTHING_TO_READ and device.label not in _LABELS:
        locked = _LOCKED.get(kind, "" if kind in _OPTIONS else f"a file system that is not read here ({kind})")
        mounted = device.mountpoint or ""
        yield Volume(device.path, kind, device.label or "", device.size, model, mounted, locked)
    for child in device.children:
        yield from _volumes_of(child, model)


def find_volumes(tools: Tools = run_tool) -> list[Volume]:
    """Return the file systems of this machine's drives. Raises EnvironmentFault or InputError."""
    columns = "PATH,FSTYPE,LABEL,SIZE,MODEL,MOUNTPOINT"
    return parse_volumes(tools(["lsblk", "--json", "--bytes", "--output", columns]))


@contextmanager
def opened(volume: Volume, tools: Tools = run_tool, root: bool | None = None) -> Iterator[Path]:
    """Yield the folder of a file system: where it is mounted already, else mounted read only until the end.

    Raises EnvironmentFault for one that is locked, that does not mount, or that only root may mount.
    """
    opening = f"opening {volume.device}"
    if volume.locked:
        raise EnvironmentFault(opening, volume.locked, "Open it on its own system.")
    if volume.mounted:
        yield Path(volume.mounted)
        return
    if not (os.geteuid() == 0 if root is None else root):
        next_step = "Mount it read only, or start Thresher as root or from a stick."
        raise EnvironmentFault(opening, "only root may mount it", next_step)
    driver, options = _OPTIONS[volume.file_system]
    folder = Path(tempfile.mkdtemp(prefix="thresher-logs-"))
    try:
        was_read_only = tools(["blockdev", "--getro", volume.device]).strip() == "1"
        tools(["blockdev", "--setro", volume.device])
        tools(["mount", "-t", driver, "-o", ",".join((options, *_MARKS)), volume.device, str(folder)])
        try:
            yield folder
        finally:
            tried(lambda: tools(["umount", "--lazy", str(folder)]))
            if not was_read_only:
                tried(lambda: tools(["blockdev", "--setrw", volume.device]))
    finally:
        with suppress(OSError):  # still in use: it is an empty folder for temporary files
            folder.rmdir()
