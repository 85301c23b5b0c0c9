"""Which file lies at a place of a drive: partition by sysfs, mount by mountinfo, file by its extent map (FIEMAP).

Kernel documents filesystems/fiemap, ABI/stable/sysfs-block. Files are opened for reading only, and none is read.
"""

import fcntl
import os
import re
import struct
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from thresher.machine.files import list_names, read_once
from thresher.model.errors import SourceUnavailable

_FIEMAP = 0xC020660B
_EXTENTS = 256
_HEADER, _EXTENT = struct.Struct("<QQIIII"), struct.Struct("<QQQ16xI12x")
_LAST, _NOT_IN_PLACE = 0x1, 0x2 | 0x4 | 0x8 | 0x200
"""Extent flags: the last one; and places that are unknown, not written yet, encoded, or inside metadata."""
_KNOWN = {"ext2", "ext3", "ext4", "xfs", "f2fs"}
"""File systems whose extents are bytes of the partition; others (btrfs) answer with addresses of their own."""


@dataclass(frozen=True, slots=True)
class Place:
    """What is at a place of a drive: the partition with the byte in it, where it is mounted, and the file."""

    partition: str = ""
    offset: int = 0
    mount: str = ""
    file_system: str = ""
    file: str = ""
    why_no_file: str = ""


def partition_at(disk: str, offset: int, sysfs: Path = Path("/sys/block")) -> tuple[str, int]:
    """Return the partition of a disk that a byte lies in and its byte there; the disk itself where none does."""
    folder = sysfs / disk
    for name in list_names(folder):
        if not name.startswith(disk):
            continue
        start, size = (_number(folder / name / file) for file in ("start", "size"))
        if start is not None and size is not None and start * 512 <= offset < (start + size) * 512:
            return name, offset - start * 512
    return disk, offset


def _number(path: Path) -> int | None:
    try:
        text = read_once(str(path), path).decode("ascii", "replace").strip()
    except SourceUnavailable:
        return None
    return int(text) if text.isdecimal() else None


def mount_of(device: str, mountinfo: str) -> tuple[str, str]:
    """Return where a device number (`8:1`) is mounted, and its file system; empty where it is not."""
    for line in mountinfo.splitlines():
        head, _, tail = line.partition(" - ")
        words, rest = head.split(), tail.split()
        if len(words) > 4 and words[2] == device and rest and words[3] == "/":
            return re.sub(r"\\([0-7]{3})", lambda found: chr(int(found[1], 8)), words[4]), rest[0]
    return "", ""


def extents(path: str) -> Iterator[tuple[int, int]]:
    """Yield the extents of a file as bytes of its partition and length. Raises OSError."""
    handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        begin = 0
        while True:
            asked = bytearray(_HEADER.size + _EXTENTS * _EXTENT.size)
            _HEADER.pack_into(asked, 0, begin, 0xFFFF_FFFF_FFFF_FFFF - begin, 0, 0, _EXTENTS, 0)
            fcntl.ioctl(handle, _FIEMAP, asked)
            count = _HEADER.unpack_from(asked)[3]
            for number in range(count):
                logical, physical, length, flags = _EXTENT.unpack_from(asked, _HEADER.size + number * _EXTENT.size)
                if not flags & _NOT_IN_PLACE:
                    yield physical, length
                begin = logical + length
                if flags & _LAST:
                    return
            if not count:
                return
    finally:
        os.close(handle)


def files_at(
    mount: str,
    offsets: Sequence[int],
    seconds: float,
    extents_of: Callable[[str], Iterator[tuple[int, int]]] = extents,
) -> tuple[tuple[str, str], ...]:
    """Return for bytes of the partition that is mounted there the file that holds each, and why there is none.

    All of them are looked for in one pass over the files, of so many seconds at most: the drive may be failing.
    Files that cannot be opened are passed over.
    """
    until = time.monotonic() + seconds
    found: dict[int, str] = {}
    passed_over, why = 0, "no file there: free space or the file system's own data"
    for path in _files_of(mount):
        if time.monotonic() > until:
            why = f"not found in {seconds:.0f} s"
            break
        try:
            for start, length in extents_of(path):
                found |= {offset: path for offset in offsets if start <= offset < start + length}
        except OSError:
            passed_over += 1
        if len(found) == len(set(offsets)):
            break
    why += f"; {passed_over} files could not be asked" if passed_over else ""
    return tuple((found[offset], "") if offset in found else ("", why) for offset in offsets)


def _files_of(mount: str) -> Iterator[str]:
    """Yield the paths of everything on one file system that is no folder."""
    try:
        device = Path(mount).stat().st_dev
    except OSError:
        return
    for folder, folders, names in os.walk(mount):
        folders[:] = [name for name in folders if _on_device(f"{folder}/{name}", device)]
        yield from (f"{folder}/{name}" for name in names)


def _on_device(path: str, device: int) -> bool:
    try:
        return os.lstat(path).st_dev == device
    except OSError:
        return False


def places_on(disk: str, offsets: Sequence[int], seconds: float) -> tuple[Place, ...]:
    """Return what is at bytes of a disk of this computer, in their order, looking for files at most so many seconds."""
    at = [partition_at(disk, offset) for offset in offsets]
    places: dict[tuple[str, int], Place] = {}
    for partition in dict.fromkeys(name for name, _ in at):
        inside = [offset for name, offset in at if name == partition]
        places |= {(partition, place.offset): place for place in _places_in(partition, inside, seconds)}
    return tuple(places[each] for each in at)


def _places_in(partition: str, inside: Sequence[int], seconds: float) -> Iterator[Place]:
    """Yield what is at bytes of one partition."""
    mount = kind = why = ""
    try:
        number = read_once("dev", Path("/sys/class/block") / partition / "dev").decode().strip()
        mountinfo = read_once("mountinfo", Path("/proc/self/mountinfo")).decode("utf-8", "replace")
        mount, kind = mount_of(number, mountinfo)
    except SourceUnavailable as error:
        why = error.reason
    if not why and not mount:
        why = "it is not mounted here, or inside a volume of its own"
    elif not why and kind not in _KNOWN:
        why = f"{kind} does not report where its files are"
    files = [("", why)] * len(inside) if why else files_at(mount, inside, seconds)
    for offset, (file, why_not) in zip(inside, files, strict=True):
        yield Place(partition, offset, mount, kind, file, why_not)
