"""Discs in optical drives: which kind it is, its tracks and size, and how fast and how whole it reads.

Layouts by MMC-6 (4.7 profiles, 6.5 configuration, 6.26 contents), SBC-4 (5.16 capacity) and ECMA-119 (8.4 name).
"""

from contextlib import suppress
from dataclasses import dataclass

from thresher.drives.fields import check_length
from thresher.model.drive_commands import MOST_DISC_BLOCKS, DrivePort, OpticalCommand, Refused
from thresher.model.errors import SourceUnavailable

NOT_READY, MEDIUM_ERROR, HARDWARE_ERROR = 0x2, 0x3, 0x4
"""Sense keys (SPC-5, table 49)."""
NO_DISC, BECOMING_READY = 0x3A, 0x04
"""Additional sense codes of a drive that is not ready."""
_VOLUME = 16
_PLACES = 40
_RUN_BLOCKS = 8 * MOST_DISC_BLOCKS

_KINDS: tuple[tuple[range, str, float], ...] = (
    (range(0x08, 0x0B), "CD", 0.15),
    (range(0x10, 0x2F), "DVD", 1.385),
    (range(0x40, 0x44), "Blu-ray", 4.496),
)
"""Profiles by kind, and the rate at single speed in MB/s."""


@dataclass(frozen=True, slots=True)
class Disc:
    """A disc: its kind, its name, tracks, blocks, and the rate at single speed in MB/s (None for an unknown kind).

    `music` says that its first track is sound, which is read in another way than data.
    """

    kind: str
    name: str
    tracks: int
    music: bool
    blocks: int
    single_mb_s: float | None


@dataclass(frozen=True, slots=True)
class PlaceRead:
    """One place of a disc: the rate in MB/s, or why it could not be read."""

    mb_s: float
    trouble: SourceUnavailable | None = None


def kind_of(configuration: bytes) -> tuple[str, float | None]:
    """Return the kind of a disc by the current profile, and its single speed. Raises DamagedPage."""
    check_length(configuration, 8, "configuration")
    profile = int.from_bytes(configuration[6:8], "big")
    return next(
        ((name, rate) for profiles, name, rate in _KINDS if profile in profiles), (f"profile {profile:04X}h", None)
    )


def blocks_of(capacity: bytes) -> int:
    """Return how many blocks a disc has. Raises DamagedPage."""
    check_length(capacity, 8, "capacity")
    return int.from_bytes(capacity[:4], "big") + 1


def tracks_of(contents: bytes) -> tuple[int, bool]:
    """Return how many tracks a disc lists, and whether the first is sound. Raises DamagedPage."""
    check_length(contents, 4, "contents")
    count = max(0, contents[3] - contents[2] + 1) if contents[2] else 0
    if count:
        check_length(contents, 12, "contents")
    return count, bool(count) and not contents[5] & 0x04  # control of the first descriptor: bit 2 marks data


def volume_name(block: bytes) -> str:
    """Return the name in a volume descriptor, empty when this is none."""
    if block[1:6] != b"CD001":
        return ""
    return block[40:72].decode("ascii", "replace").strip(" \0")


def read_structure(port: DrivePort) -> Disc:
    """Ask a drive what disc is in it. Raises SourceUnavailable, Refused with `NOT_READY` when there is none."""
    port.optical(OpticalCommand.READY)
    blocks = blocks_of(port.optical(OpticalCommand.CAPACITY))
    kind, single = kind_of(port.optical(OpticalCommand.CONFIGURATION))
    tracks, music = tracks_of(port.optical(OpticalCommand.CONTENTS))
    name = ""
    if not music and blocks > _VOLUME:
        with suppress(Refused):  # a place that cannot be read is found by reading the places
            name = volume_name(port.read_disc(_VOLUME, 1))
    return Disc(kind, name, tracks, music, blocks, single)


def places(blocks: int) -> list[int]:
    """Return the first blocks of the places that are read: evenly over the disc, with its first and its last run."""
    last = max(0, blocks - _RUN_BLOCKS)
    return sorted({round(last * number / (_PLACES - 1)) for number in range(_PLACES)})


def read_place(port: DrivePort, disc: Disc, first: int) -> PlaceRead:
    """Read one place, timed by the drive's own clock."""
    begun, came = port.clock(), 0
    for block in range(first, min(disc.blocks, first + _RUN_BLOCKS), MOST_DISC_BLOCKS):
        try:
            came += len(port.read_disc(block, min(MOST_DISC_BLOCKS, disc.blocks - block)))
        except SourceUnavailable as error:
            return PlaceRead(0.0, error)
    seconds = port.clock() - begun
    return PlaceRead(came / 1e6 / seconds if seconds > 0 else 0.0)
