"""Where an installed system keeps its event logs, crash dumps, journals and kernel logs."""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from thresher.model.regular_file import is_folder, is_link, read_regular

_EVENT_LOGS = (
    "system.evtx",
    "application.evtx",
    "microsoft-windows-kernel-whea%4errors.evtx",
    "microsoft-windows-kernel-whea%4operational.evtx",
    "microsoft-windows-kernel-pnp%4configuration.evtx",
    "microsoft-windows-memorydiagnostics-results%4debug.evtx",
    "microsoft-windows-ntfs%4operational.evtx",
    "microsoft-windows-storage-storport%4operational.evtx",
    "microsoft-windows-userpnp%4deviceinstall.evtx",
    "microsoft-windows-kernel-power%4thermal-operational.evtx",
)
_LINUX_LOGS = ("kern.log", "syslog", "messages", "dmesg")
_MOST_FILES = 60
_MOST_ENTRIES = 20_000


class FileKind(StrEnum):
    """How a file is read."""

    EVENT_LOG = "event-log"
    DUMP = "dump"
    JOURNAL = "journal"
    TEXT_LOG = "text-log"


@dataclass(frozen=True, slots=True)
class LogFile:
    """A file to be read, and how."""

    path: Path
    kind: FileKind


@dataclass(frozen=True, slots=True)
class InstalledSystem:
    """A system that is installed on a file system: what it is, its name where it says one, and its files."""

    what: str
    folder: Path
    files: tuple[LogFile, ...]


def find_systems(root: Path) -> list[InstalledSystem]:
    """Return what is installed below the folder of a file system; links are not followed."""
    found = []
    windows = _inside(root, "windows")
    if windows is not None and _inside(windows, "system32") is not None:
        found.append(
            InstalledSystem("the other common desktop system", root, tuple(_event_logs(windows))[:_MOST_FILES])
        )
    log = _inside(root, "var", "log")
    if log is not None and _is_folder(log):
        found.append(InstalledSystem(_linux_name(root), root, tuple(_linux_files(log))[:_MOST_FILES]))
    return found


def _event_logs(windows: Path) -> Iterator[LogFile]:
    folder = _inside(windows, "system32", "winevt", "logs")
    if folder is not None:
        there = {path.name.lower(): path for path in _listed(folder)}
        yield from (LogFile(there[name], FileKind.EVENT_LOG) for name in _EVENT_LOGS if name in there)
    dumps = _inside(windows, "minidump")
    if dumps is not None:
        small = sorted((path for path in _listed(dumps) if path.suffix.lower() == ".dmp"), reverse=True)
        yield from (LogFile(path, FileKind.DUMP) for path in small[:30])
    whole = _inside(windows, "memory.dmp")
    if whole is not None:
        yield LogFile(whole, FileKind.DUMP)


def _linux_files(log: Path) -> Iterator[LogFile]:
    journal = _inside(log, "journal")
    if journal is not None and _is_folder(journal):
        for machine in _listed(journal):
            if _is_folder(machine) and any(path.suffix == ".journal" for path in _listed(machine)):
                yield LogFile(machine, FileKind.JOURNAL)
    for path in sorted(_listed(log)):
        if path.name.partition(".")[0] in {name.partition(".")[0] for name in _LINUX_LOGS} and _is_text(path.name):
            yield LogFile(path, FileKind.TEXT_LOG)


def _is_text(name: str) -> bool:
    return any(name == each or name.startswith(f"{each}.") for each in _LINUX_LOGS) and not name.endswith(
        (".xz", ".bz2")
    )


def _linux_name(root: Path) -> str:
    # the usual file of /etc is a link to the other one
    for place in (("etc", "os-release"), ("usr", "lib", "os-release")):
        path = _inside(root, *place)
        try:
            text = read_regular(path, 4096).decode("utf-8", "replace") if path is not None else ""
        except OSError:
            continue
        for line in text.splitlines():
            if line.startswith("PRETTY_NAME="):
                return line.partition("=")[2].strip("\"'")[:80] or "Linux"
    return "Linux"


def _inside(folder: Path, *names: str) -> Path | None:
    """Return what lies in a folder by names in whatever case: its own system does not distinguish, the driver does."""
    for name in names:
        here = next((path for path in _listed(folder) if path.name.lower() == name), None)
        if here is None:
            return None
        folder = here
    return folder


def _listed(folder: Path) -> list[Path]:
    """Return what is in a folder, nothing for one that cannot be read, without following links out of it."""
    try:
        entries = []
        for number, path in enumerate(folder.iterdir()):
            if number >= _MOST_ENTRIES:
                break
            if not is_link(path):
                entries.append(path)
        return entries
    except OSError:
        return []


def _is_folder(path: Path) -> bool:
    return is_folder(path) and not is_link(path)
