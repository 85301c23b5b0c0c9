"""Everything that the access helper may do: files, folders, devices, registers, commands, and the right for each.

A request is carried out only when it matches something here to the last character. `docs/security.md` gives the reason
for each entry.
"""

import re
from dataclasses import dataclass
from enum import StrEnum

BUS_NAME = "org.thresher.Access1"
OBJECT = "/org/thresher/Access1"
INTERFACE = "org.thresher.Access1"
RESTART_UNIT = "thresher-go-on.service"
RESTART_GROUP = f"/system.slice/{RESTART_UNIT}"
"""The control group of a run that goes on after a crash: what was allowed before the crash is allowed to it."""
LONGEST = 512
"""Characters that an argument may have."""


class Right(StrEnum):
    """What a person is asked for: one polkit action each, and `all` for every one of them at once."""

    READ = "read"
    DRIVES = "drives"
    CONTENTS = "contents"
    MEMORY = "memory"
    WATCHDOG = "watchdog"
    RESTART = "restart"

    @property
    def action(self) -> str:
        """The polkit action."""
        return f"{BUS_NAME}.{self.value}"


ASK_ALL = f"{BUS_NAME}.all"


class Refused(Exception):
    """Why a request is not carried out, in a sentence for a person."""


class NotOnTheList(Refused):
    """The request asks for something that is not on the list."""


@dataclass(frozen=True, slots=True)
class FileEntry:
    """Files that are opened for reading and handed over, by the form of their path."""

    name: str
    path: re.Pattern[str]


_NAME = r"[A-Za-z0-9][A-Za-z0-9._:-]{0,63}"
FILES = (
    FileEntry("firmware tables", re.compile(r"/sys/firmware/dmi/tables/(?:DMI|smbios_entry_point)")),
    FileEntry("serial numbers", re.compile(r"/sys/class/dmi/id/(?:(?:product|board|chassis)_serial|product_uuid)")),
    FileEntry("firmware records", re.compile(r"/sys/firmware/acpi/tables/(?:data/)?[A-Z0-9]{4}\d{0,2}")),
    FileEntry("energy counters", re.compile(r"/sys/class/powercap/[a-z-]{1,32}(?::\d{1,3}){1,3}/energy_uj")),
    FileEntry("kernel log", re.compile(r"/dev/kmsg")),
    FileEntry("the kernel's last words", re.compile(rf"/sys/fs/pstore/{_NAME}")),
    FileEntry("the kernel's last words", re.compile(rf"/var/lib/systemd/pstore(?:/{_NAME}){{1,3}}")),
)
FOLDERS = re.compile(rf"/sys/fs/pstore|/var/lib/systemd/pstore(?:/{_NAME}){{0,2}}")
"""Folders whose names are given; they hold nothing but the kernel's last words."""

DRIVE = re.compile(r"/dev/(?:sd[a-z]{1,3}|nvme\d{1,3})")
"""Devices that are sent commands: a whole disk, or the controller of an NVMe drive."""
WHOLE_DRIVE = re.compile(r"/dev/(sd[a-z]{1,3}|nvme\d{1,3}n\d{1,3}|mmcblk\d{1,2})")
"""Devices whose contents are handed over for reading: whole drives, never a partition, loop or mapped device."""
WATCHDOG = re.compile(r"/dev/watchdog\d{1,2}")
WATCHDOG_S = (10, 600)

REGISTERS = (0x10, 0xE7, 0xE8, 0x19C, 0x1B1)
"""IA32_TIME_STAMP_COUNTER, IA32_MPERF, IA32_APERF, IA32_THERM_STATUS, IA32_PACKAGE_THERM_STATUS (processor manuals,
model-specific registers): clocks that were really reached, and what holds them down."""
MOST_CPUS = 1024

TRACED = (
    "mce/mce_record",
    "ras/mc_event",
    "ras/aer_event",
    "ras/extlog_mem_event",
    "ras/arm_event",
    "ras/memory_failure_event",
)
"""Events that report hardware errors with all their registers (kernel document trace/events); which of them exist
depends on the kernel."""


def checked(words: str, value: object, form: re.Pattern[str]) -> str:
    """Return a path that has the form of an entry, to the last character. Raises NotOnTheList."""
    if not isinstance(value, str) or len(value) > LONGEST or form.fullmatch(value) is None:
        raise NotOnTheList(f"{words}: {shown(value)} is not on the list of what may be opened")
    return value


def file_entry(path: object) -> FileEntry:
    """Return the entry of a file. Raises NotOnTheList."""
    for entry in FILES:
        if isinstance(path, str) and len(path) <= LONGEST and entry.path.fullmatch(path):
            return entry
    raise NotOnTheList(f"{shown(path)} is not on the list of what may be opened")


def is_listed(path: str) -> bool:
    """Whether the helper may open a file at all."""
    return any(entry.path.fullmatch(path) for entry in FILES)


def shown(value: object) -> str:
    """Return an argument as it can stand in a log: short, and without control characters."""
    return repr(value)[:120]
