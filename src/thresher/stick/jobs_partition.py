"""The partition for jobs on the stick: found, made after asking, mounted. Root only, through the system's own tools."""

from dataclasses import dataclass
from pathlib import Path

from thresher.machine.system_tools import Tools, run_tool, tried
from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_there
from thresher.stick.layout import (
    JOBS_LABEL,
    JOBS_NUMBER,
    JOBS_START,
    JobsState,
    Layout,
    entry_for_jobs,
    partition_name,
    read_layout,
)

MEDIUM = "/run/live/medium"
"""Where live-boot mounts what it started from (live-boot(7))."""
MOUNT_OPTIONS = "noatime,nodev,nosuid,errors=remount-ro"


@dataclass(frozen=True, slots=True)
class Stick:
    """The drive that the machine was started from, such as /dev/sdb, and what it holds for jobs."""

    drive: str
    layout: Layout


def medium_of(mounts: str, at: str = MEDIUM) -> str | None:
    """Return the device of the running stick from the table of mounts, None where everything is in memory."""
    for line in mounts.splitlines():
        fields = line.split()
        if len(fields) >= 3 and fields[1] == at and fields[0].startswith("/dev/"):
            return fields[0]
    return None


def drive_of(partition: str, blocks: Path = Path("/sys/class/block")) -> str | None:
    """Return the drive that a partition lies on, None for a disc or what is no partition."""
    entry = blocks / Path(partition).resolve().name
    if not is_there(entry / "partition"):
        return None
    return f"/dev/{entry.resolve().parent.name}"


def look_at(drive: str, tools: Tools = run_tool) -> Stick:
    """Return what a stick holds for jobs. Raises EnvironmentFault or InputError."""
    size = int(tools(["blockdev", "--getsize64", drive]).strip() or 0)
    table = tools(["sfdisk", "--json", drive])
    command = ["blkid", "--probe", "--offset", str(JOBS_START), "--match-tag", "LABEL", "--output", "value", drive]
    label = tried(lambda: tools(command)) if size > JOBS_START else ""
    return Stick(drive, read_layout(table, size, label.strip()))


def make_ready(stick: Stick, tools: Tools = run_tool) -> str:
    """Return the device for jobs, ready to be mounted: the line of the table put back where a newer image took it.

    Raises EnvironmentFault where there is none.
    """
    if stick.layout.state is JobsState.LOST_ENTRY:
        _append(stick.drive, tools)
    elif stick.layout.state is not JobsState.READY:
        raise EnvironmentFault(f"opening jobs on {stick.drive}", f"there are none: {stick.layout.state}", "Make them.")
    return _writable(stick.drive, tools)


def create(stick: Stick, tools: Tools = run_tool) -> str:
    """Make the partition for jobs in what is free of the stick and return its device. Raises EnvironmentFault."""
    if stick.layout.state is not JobsState.NONE:
        raise EnvironmentFault(
            f"making room for jobs on {stick.drive}",
            f"it cannot be made there: {stick.layout.state}",
            "A stick of 4 GB or more that holds nothing but the image has room.",
        )
    _append(stick.drive, tools)
    device = _writable(stick.drive, tools)
    # all tables at once, since what is left for later would be written during a test; few inodes and a small journal,
    # so that a slow stick of any size takes seconds
    options = ["-T", "largefile", "-J", "size=32", "-E", "lazy_itable_init=0,lazy_journal_init=0"]
    try:
        tools(["mkfs.ext4", "-q", "-F", "-L", JOBS_LABEL, "-m0", *options, device])
    except EnvironmentFault:
        _remove(stick.drive, tools)  # an entry without a file system could not be used the next time
        raise
    return device


def mount(device: str, at: Path, tools: Tools = run_tool) -> None:
    """Mount the partition for jobs, after its file system was mended from its log. Raises EnvironmentFault."""
    tried(lambda: tools(["e2fsck", "-p", device]))  # ends with 1 when it has mended something
    tools(["mount", "-t", "ext4", "-o", MOUNT_OPTIONS, device, str(at)])


def _append(drive: str, tools: Tools) -> None:
    tools(["blockdev", "--setrw", drive])
    # the table in use is the kernel's: it is told of the one new line, the partitions that are mounted stay
    tools(["sfdisk", "--append", "--no-reread", "--no-tell-kernel", "--force", "--quiet", drive], entry_for_jobs())
    tried(lambda: tools(["partx", "--add", "--nr", str(JOBS_NUMBER), drive]))
    tried(lambda: tools(["udevadm", "settle", "--timeout=20"]))  # its name appears


def _remove(drive: str, tools: Tools) -> None:
    number = str(JOBS_NUMBER)
    tried(lambda: tools(["partx", "--delete", "--nr", number, drive]))
    tried(lambda: tools(["sfdisk", "--delete", "--no-reread", "--no-tell-kernel", "--force", "--quiet", drive, number]))


def _writable(drive: str, tools: Tools) -> str:
    device = partition_name(drive, JOBS_NUMBER)
    tools(["blockdev", "--setrw", drive])
    tools(["blockdev", "--setrw", device])
    return device
