"""What a drive answers to the commands of the closed lists, and who serves them.

The lists themselves are in `thresher.privileged.drive_lists`, which the access helper shares. Optical drives have their
own list here: whoever sits at a machine may use its optical drive without more rights. Source: Multi-Media Commands 6
(MMC-6), SCSI Block Commands 4 (SBC-4).
"""

import time
from dataclasses import dataclass
from enum import Enum
from typing import Protocol

import numpy as np
import numpy.typing as npt

from thresher.model.errors import SourceUnavailable
from thresher.privileged.drive_lists import SECTOR, AtaCommand, NvmeCommand, ScsiCommand

__all__ = ["SECTOR", "AtaCommand", "NvmeCommand", "ScsiCommand"]


@dataclass(frozen=True, slots=True)
class CommandBlock:
    """A SCSI command that reads: its descriptor block, and the bytes that come at most."""

    block: bytes
    length: int = 0


class OpticalCommand(Enum):
    """What an optical drive may be asked (MMC-6, chapter 6)."""

    READY = CommandBlock(bytes((0x00, 0, 0, 0, 0, 0)))
    CAPACITY = CommandBlock(bytes((0x25, 0, 0, 0, 0, 0, 0, 0, 0, 0)), 8)
    CONFIGURATION = CommandBlock(bytes((0x46, 0x02, 0, 0, 0, 0, 0, 0, 8, 0)), 8)
    CONTENTS = CommandBlock(bytes((0x43, 0, 0, 0, 0, 0, 0, 0x03, 0x24, 0)), 804)


DISC_BLOCK = 2048
"""Bytes of a block of a data disc (MMC-6, 4.2.3.8)."""
MOST_DISC_BLOCKS = 32
"""Blocks of one reading: what every drive and bridge can send at once."""


def disc_read(block: int, count: int) -> CommandBlock:
    """Return READ (10) of at most `MOST_DISC_BLOCKS` blocks of a disc (SBC-4, 5.11)."""
    if not (0 <= block < 1 << 32 and 1 <= count <= MOST_DISC_BLOCKS):
        raise ValueError(f"no such blocks: {count} from {block}")
    descriptor = bytes((0x28, 0)) + block.to_bytes(4, "big") + bytes((0,)) + count.to_bytes(2, "big") + bytes((0,))
    return CommandBlock(descriptor, count * DISC_BLOCK)


@dataclass(frozen=True, slots=True)
class AtaAnswer:
    """The data of an ATA command, and the LBA registers that it returned where they were asked for."""

    data: bytes = b""
    lba: int | None = None


class Refused(SourceUnavailable):
    """A command that a SCSI device ended with sense data (SPC-5, 4.5): key, additional code and its qualifier."""

    def __init__(self, path: str, words: str, key: int, code: int, qualifier: int) -> None:
        """Name the device, the command, and what the device said."""
        super().__init__(path, f"{words}: the drive refuses it (sense {key:X}/{code:02X}/{qualifier:02X})")
        self.words, self.key, self.code, self.qualifier = words, key, code, qualifier


class NoAnswer(SourceUnavailable):
    """A drive that did not answer in time: a finding, not a missing right."""


class BlockSource(Protocol):
    """The blocks of a drive, for reading only: its size and its logical sector in bytes."""

    size: int
    sector: int

    def read_at(self, offset: int, length: int) -> int:
        """Read past every cache and return how many bytes came. Raises OSError. It may take minutes."""
        ...

    def clock(self) -> float:
        """Return the seconds by which its reads are timed."""
        ...

    def rest(self, offset: int, length: int) -> None:
        """Let the time of a block pass as far as reading has not: a simulated drive's reads take only a part of it."""
        ...

    def close(self) -> None:
        """Close it."""
        ...


class ScratchSource(Protocol):
    """The scratch file as it is used: all offsets and lengths are whole blocks. Raises OSError; may take minutes."""

    def write_at(self, offset: int, words: npt.NDArray[np.uint64]) -> None:
        """Write a block."""
        ...

    def read_at(self, offset: int, into: npt.NDArray[np.uint64]) -> int:
        """Read a block past the page cache and return how many bytes came."""
        ...

    def rest(self, length: int) -> None:
        """Let the time pass of what a request stands for beyond itself: of a simulated drive only."""
        ...

    def flush(self) -> None:
        """Bring everything written to the medium, and forget it in the page cache."""
        ...

    def clock(self) -> float:
        """Return the seconds by which all of it is timed."""
        ...


class DrivePort(Protocol):
    """One drive that can be asked. Every call may take seconds: never on the engine's or the window's thread.

    The protocol is narrow on purpose: only commands of the closed lists pass, so that whoever serves it, also a helper
    with more rights, can do nothing else.
    """

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Ask an ATA drive. Raises SourceUnavailable with the reason, NoAnswer where it did not answer in time."""
        ...

    def nvme(self, command: NvmeCommand) -> bytes:
        """Ask an NVMe drive. Raises as `ata`."""
        ...

    def scsi(self, command: ScsiCommand) -> bytes:
        """Ask a SCSI drive, or a bridge that passes no ATA commands. Raises as `ata`."""
        ...

    def optical(self, command: OpticalCommand) -> bytes:
        """Ask an optical drive. Raises as `ata`, and Refused with what the drive said."""
        ...

    def read_disc(self, block: int, count: int) -> bytes:
        """Read blocks of the disc in an optical drive, `MOST_DISC_BLOCKS` at most. Raises as `optical`."""
        ...

    def clock(self) -> float:
        """Return the seconds by which its reading is timed."""
        return time.perf_counter()

    def close(self) -> None:
        """Close the drive."""
        ...
