"""How the stick is laid out, and what has to be done so that it keeps jobs.

The image has two partitions in an MBR and less than 900 MB. Jobs have a third one that begins at 2 GiB on every stick,
so that a newer image, written over an older one, leaves them where they are: its table then lacks the third line, and
the file system is found again by its name at that place.
"""

from dataclasses import dataclass
from enum import StrEnum

import msgspec

from thresher.model.errors import InputError, InputFault

JOBS_LABEL = "THRESHER-JOBS"
JOBS_NUMBER = 3
JOBS_START = 2 << 30
"""Where the partition for jobs begins, in bytes."""
LEAST_JOBS = 256 << 20
"""What it needs at least, in bytes: the black box, a day of readings, and room to move."""


class JobsState(StrEnum):
    """What there is for jobs on a stick."""

    READY = "ready"
    LOST_ENTRY = "entry lost"
    NONE = "none"
    NO_ROOM = "no room"
    FOREIGN = "foreign"


class _Partition(msgspec.Struct, frozen=True):
    node: str
    start: int
    size: int
    type: str = ""


class _Table(msgspec.Struct, frozen=True):
    label: str = ""
    device: str = ""
    sectorsize: int = 512
    partitions: tuple[_Partition, ...] = ()


class _Answer(msgspec.Struct, frozen=True):
    partitiontable: _Table


@dataclass(frozen=True, slots=True)
class Layout:
    """What a stick holds: its state for jobs, the partition's device where it has one, and its bytes."""

    state: JobsState
    device: str = ""
    size: int = 0


def read_layout(table: str, stick_bytes: int, label_there: str) -> Layout:
    """Return what sfdisk's table (`--json`) says of a stick, with the file system's name at `JOBS_START`.

    Raises InputError where the table cannot be read or is of another kind than the image's.
    """
    try:
        found = msgspec.json.decode(table.encode(), type=_Answer).partitiontable
    except msgspec.DecodeError as error:
        raise InputError("the stick's partition table", [InputFault("sfdisk", str(error))]) from error
    if found.label != "dos":
        fault = InputFault("kind", f"expected an MBR, found {found.label or 'none'}; the image was changed")
        raise InputError("the stick's partition table", [fault])
    room = stick_bytes - JOBS_START
    for each in found.partitions:
        if each.start * found.sectorsize == JOBS_START:
            state = JobsState.READY if label_there == JOBS_LABEL else JobsState.FOREIGN
            return Layout(state, each.node, each.size * found.sectorsize)
        if each.start * found.sectorsize > JOBS_START or (each.start + each.size) * found.sectorsize > JOBS_START:
            return Layout(JobsState.FOREIGN, each.node, each.size * found.sectorsize)
    if label_there == JOBS_LABEL:
        return Layout(JobsState.LOST_ENTRY, size=max(0, room))
    return Layout(JobsState.NONE if room >= LEAST_JOBS else JobsState.NO_ROOM, size=max(0, room))


def entry_for_jobs(sector_bytes: int = 512) -> str:
    """Return the line that sfdisk appends to the table for jobs: Linux, to the stick's end."""
    return f"start={JOBS_START // sector_bytes}, type=83\n"


def partition_name(drive: str, number: int) -> str:
    """Return the device of a partition as the kernel names it: a p where the drive's own name ends in a digit."""
    return f"{drive}p{number}" if drive[-1:].isdigit() else f"{drive}{number}"
