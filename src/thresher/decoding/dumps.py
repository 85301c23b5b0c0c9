"""Crash dumps of the customer's other system on drives that are mounted here; only their headers are read."""

from dataclasses import dataclass

from thresher.codes.stop_codes import HEADER_BYTES, Stop, read_dump_header
from thresher.model.errors import InputError, SourceUnavailable
from thresher.model.port import System, optional_text

MOUNTS = "/proc/mounts"
_FILE_SYSTEMS = frozenset({"ntfs", "ntfs3", "fuseblk", "exfat", "vfat"})
_FOLDERS = ("Windows/Minidump", "WINDOWS/Minidump")
_WHOLE = ("Windows/MEMORY.DMP", "WINDOWS/MEMORY.DMP")
_MOST = 50


@dataclass(frozen=True, slots=True)
class FoundDump:
    """A dump and what its header says, or why it could not be read."""

    path: str
    stop: Stop | None
    trouble: str = ""


def find_dumps(system: System) -> list[FoundDump]:
    """Return the dumps on mounted drives of another system, by their paths."""
    paths: list[str] = []
    for mount in mounted(optional_text(system, MOUNTS)):
        for folder in _FOLDERS:
            here = f"{mount.rstrip('/')}/{folder}"
            paths += [f"{here}/{name}" for name in system.list(here) if name.lower().endswith(".dmp")]
        for whole in _WHOLE:
            folder, _, name = f"{mount.rstrip('/')}/{whole}".rpartition("/")
            if name in system.list(folder):
                paths.append(f"{folder}/{name}")
    return [_read(system, path) for path in dict.fromkeys(paths[:_MOST])]


def mounted(table: str) -> list[str]:
    """Return where file systems are mounted that another system may have written (proc(5): fields, octal escapes)."""
    places = []
    for line in table.splitlines():
        fields = line.split()
        if len(fields) >= 3 and fields[2] in _FILE_SYSTEMS:
            place = fields[1]
            for code, letter in (("\\040", " "), ("\\011", "\t"), ("\\134", "\\")):
                place = place.replace(code, letter)
            places.append(place)
    return places


def _read(system: System, path: str) -> FoundDump:
    try:
        return FoundDump(path, read_dump_header(system.read_start(path, HEADER_BYTES), path.rpartition("/")[2]))
    except SourceUnavailable as error:
        return FoundDump(path, None, error.reason)
    except InputError as error:
        return FoundDump(path, None, "; ".join(fault.message for fault in error.faults))
