"""Which file systems lie on which drive, and where a scratch file may be made on each.

By /proc/self/mountinfo (kernel document filesystems/proc, 3.5) and sysfs: partitions, device mapper, RAID.
"""

import os
import re
from dataclasses import dataclass
from pathlib import Path

from thresher.machine.files import list_names, read_once
from thresher.model.errors import SourceUnavailable
from thresher.model.regular_file import is_there

_MOUNTINFO = "/proc/self/mountinfo"
_RESERVE_SHARE, _RESERVE_SMALL, _RESERVE_LEAST = 0.05, 0.2, 1 << 30
"""Kept free on the file system, as the running system and the customer's programs need room meanwhile: 5 % and 1 GiB,
but of a small one, such as a stick, no more than a fifth."""
_NOT_FOR_SCRATCH = {"squashfs", "iso9660", "udf", "erofs", "overlay", "ntfs", "fuseblk", "hfsplus"}
"""Read-only kinds, and those whose drivers are not made for such work on a customer's data."""
_DEEPEST = 6


@dataclass(frozen=True, slots=True)
class Mount:
    """One mounted file system: where, which kind, and the drives that it lies on by their kernel names."""

    folder: str
    kind: str
    drives: tuple[str, ...]
    read_only: bool


@dataclass(frozen=True, slots=True)
class ScratchPlace:
    """A folder in which a scratch file may be made: the file system it is on, bytes that may be used, or why not."""

    folder: str
    mount: Mount
    room: int
    why_not: str = ""


def drives_under(device: str, sysfs: Path = Path("/sys"), depth: int = 0) -> tuple[str, ...]:
    """Return the disks that a block device (`sda2`, `dm-0`, `md0`) lies on, by their kernel names."""
    if depth > _DEEPEST:
        return ()
    folder = sysfs / "class" / "block" / device
    below = list_names(folder / "slaves")
    if below:
        found = (disk for name in below for disk in drives_under(name, sysfs, depth + 1))
        return tuple(dict.fromkeys(found))
    try:
        real = folder.resolve()
    except OSError:
        return ()
    if is_there(real / "partition"):
        return drives_under(real.parent.name, sysfs, depth + 1)
    return (device,) if is_there(real) else ()


def mounts(mountinfo: str, sysfs: Path = Path("/sys")) -> tuple[Mount, ...]:
    """Return the mounted file systems, also those on no drive; the newest mount of a folder counts."""
    found: dict[str, Mount] = {}
    for line in mountinfo.splitlines():
        head, _, tail = line.partition(" - ")
        words, rest = head.split(), tail.split()
        if len(words) < 6 or len(rest) < 3:
            continue
        folder = re.sub(r"\\([0-7]{3})", lambda octal: chr(int(octal[1], 8)), words[4])
        device = _device_of(words[2], rest[1], sysfs)
        drives = drives_under(device, sysfs) if device else ()
        options = {*words[5].split(","), *rest[2].split(",")}
        found[folder] = Mount(folder, rest[0], drives, "ro" in options)
    return tuple(found.values())


def _device_of(number: str, source: str, sysfs: Path) -> str:
    """Return the block device of a mount: by its number, for file systems over several devices by its source."""
    link = sysfs / "dev" / "block" / number
    if is_there(link):
        return link.resolve().name
    name = source.removeprefix("/dev/")
    if source.startswith("/dev/") and is_there(sysfs / "class" / "block" / name):
        return name
    if source.startswith("/dev/mapper/"):
        return next(
            (
                each
                for each in list_names(sysfs / "class" / "block")
                if _text(sysfs / "class" / "block" / each / "dm" / "name") == name.removeprefix("mapper/")
            ),
            "",
        )
    return ""


def _text(path: Path) -> str:
    try:
        return read_once(str(path), path).decode("utf-8", "replace").strip()
    except SourceUnavailable:
        return ""


def mounts_here() -> tuple[Mount, ...]:
    """Return the mounted file systems of this computer. Raises SourceUnavailable."""
    return mounts(read_once(_MOUNTINFO, Path(_MOUNTINFO)).decode("utf-8", "replace"))


def scratch_mounts() -> tuple[Mount, ...]:
    """Return the file systems on drives that take scratch files by their kind; none of them is asked for its room.

    Raises SourceUnavailable.
    """
    return tuple(each for each in mounts_here() if each.drives and _refused(each) is None)


def scratch_places(drive: str) -> tuple[ScratchPlace, ...]:
    """Return a place on each file system of a drive, the roomiest first, those that cannot be used last.

    Raises SourceUnavailable. It asks every file system: never on the engine's or the window's thread.
    """
    found = [_place_on(mount) for mount in mounts_here() if drive in mount.drives]
    return tuple(sorted(found, key=lambda place: (bool(place.why_not), -place.room)))


def place_of(folder: str) -> ScratchPlace:
    """Return the scratch place that a folder named by a person is. Raises SourceUnavailable."""
    wanted = os.path.realpath(folder)
    holding = [each for each in mounts_here() if wanted == each.folder or wanted.startswith(_slashed(each.folder))]
    if not holding:
        raise SourceUnavailable(folder, "it is on no drive of this computer")
    mount = max(holding, key=lambda each: len(each.folder))
    if not mount.drives:
        raise SourceUnavailable(folder, f"it is on no drive of this computer ({mount.kind})")
    return _usable(wanted, mount)


def _slashed(folder: str) -> str:
    return folder.rstrip("/") + "/"


def _place_on(mount: Mount) -> ScratchPlace:
    """Return the first folder of a file system that this user may write to."""
    if (why := _refused(mount)) is not None:
        return ScratchPlace(mount.folder, mount, 0, why)
    tried = (_slashed(mount.folder) + "var/tmp", mount.folder, str(Path.home()), "/var/tmp", "/tmp")  # noqa: S108 (looked at, and only a file of our own is made)
    try:
        device = Path(mount.folder).stat().st_dev
        for folder in tried:
            there = Path(folder)
            if is_there(there) and there.stat().st_dev == device and os.access(folder, os.W_OK | os.X_OK):
                return _usable(folder, mount)
    except OSError as error:
        return ScratchPlace(mount.folder, mount, 0, error.strerror or str(error))
    return ScratchPlace(mount.folder, mount, 0, "this user may write nowhere on it")


def _refused(mount: Mount) -> str | None:
    if mount.read_only:
        return "it is mounted read-only"
    if mount.kind in _NOT_FOR_SCRATCH:
        return f"{mount.kind} is not used for scratch files"
    return None


def _usable(folder: str, mount: Mount) -> ScratchPlace:
    if (why := _refused(mount)) is not None:
        return ScratchPlace(folder, mount, 0, why)
    try:
        if not os.access(folder, os.W_OK | os.X_OK):
            return ScratchPlace(folder, mount, 0, "this user may not write there")
        found = os.statvfs(folder)
    except OSError as error:
        return ScratchPlace(folder, mount, 0, error.strerror or str(error))
    free, total = found.f_bavail * found.f_frsize, found.f_blocks * found.f_frsize
    room = free - max(min(_RESERVE_LEAST, int(total * _RESERVE_SMALL)), int(total * _RESERVE_SHARE))
    if room < 64 << 20:
        return ScratchPlace(folder, mount, 0, f"only {free / (1 << 30):.1f} GiB are free, and a reserve stays free")
    return ScratchPlace(folder, mount, room)
