"""Every command that may be sent to a drive: a closed list of readings, and the drive's own self-tests.

Nothing here writes to the medium. What is not in these enumerations cannot be built, so it cannot leave the program.
Sources: ATA Command Set 4 (ACS-4), SCSI/ATA Translation 4 (SAT-4), NVM Express base specification 1.4.
"""

import time
from dataclasses import dataclass
from enum import Enum
from typing import Protocol

import numpy as np
import numpy.typing as npt

from thresher.model.errors import SourceUnavailable

SECTOR = 512
NO_NAMESPACE = 0xFFFF_FFFF


@dataclass(frozen=True, slots=True)
class AtaRegisters:
    """The registers of an ATA command; `sectors` is how many blocks of 512 bytes it brings, 0 for none.

    `extended` marks a 48-bit command, `wants_registers` one whose answer is in the registers it returns.
    """

    command: int
    features: int = 0
    count: int = 0
    lba: int = 0
    sectors: int = 0
    extended: bool = False
    wants_registers: bool = False


_SMART, _SMART_LBA = 0xB0, 0xC24F00
_READ_LOG_EXT = 0x2F


def _smart(features: int, low: int = 0, sectors: int = 1, wants_registers: bool = False) -> AtaRegisters:
    return AtaRegisters(
        _SMART, features, sectors, _SMART_LBA | low, sectors, extended=False, wants_registers=wants_registers
    )


def _log(address: int, page: int = 0, sectors: int = 1) -> AtaRegisters:
    """Return READ LOG EXT of a page of a general purpose log (ACS-4, 7.22)."""
    lba = address | (page & 0xFF) << 8 | (page >> 8) << 32
    return AtaRegisters(_READ_LOG_EXT, 0, sectors, lba, sectors, extended=True)


class AtaCommand(Enum):
    """What an ATA drive may be asked."""

    IDENTIFY = AtaRegisters(0xEC, count=1, sectors=1)
    SMART_DATA = _smart(0xD0)
    SMART_THRESHOLDS = _smart(0xD1)
    SMART_STATUS = _smart(0xDA, sectors=0, wants_registers=True)
    ERROR_LOG = _smart(0xD5, 0x01)
    SELF_TEST_LOG = _smart(0xD5, 0x06)
    LOG_DIRECTORY = _log(0x00)
    EXTENDED_ERROR_LOG = _log(0x03)
    STATISTICS_PAGES = _log(0x04, 0)
    STATISTICS_GENERAL = _log(0x04, 1)
    STATISTICS_ROTATING = _log(0x04, 3)
    STATISTICS_ERRORS = _log(0x04, 4)
    STATISTICS_TEMPERATURE = _log(0x04, 5)
    STATISTICS_TRANSPORT = _log(0x04, 6)
    STATISTICS_SOLID_STATE = _log(0x04, 7)
    EXTENDED_SELF_TEST_LOG = _log(0x07)
    PENDING_DEFECTS = _log(0x0C)
    LINK_COUNTERS = _log(0x11)
    SELF_TEST_SHORT = _smart(0xD4, 0x01, sectors=0)
    SELF_TEST_EXTENDED = _smart(0xD4, 0x02, sectors=0)
    SELF_TEST_ABORT = _smart(0xD4, 0x7F, sectors=0)


@dataclass(frozen=True, slots=True)
class NvmeRegisters:
    """An NVMe admin command: opcode, namespace, the dword that says what is wanted, and the bytes it brings.

    `wants_result` marks one that answers by dword 0 of its completion, as four bytes.
    """

    opcode: int
    namespace: int
    dword10: int
    length: int = 0
    wants_result: bool = False


def _identify(structure: int, namespace: int = 0) -> NvmeRegisters:
    return NvmeRegisters(0x06, namespace, structure, 4096)


def _page(identifier: int, length: int) -> NvmeRegisters:
    """Return Get Log Page of a log of the whole controller (NVMe 1.4, 5.14)."""
    return NvmeRegisters(0x02, NO_NAMESPACE, identifier | (length // 4 - 1) << 16, length)


def _feature(identifier: int) -> NvmeRegisters:
    """Return Get Features of a current value (NVMe 1.4, 5.15)."""
    return NvmeRegisters(0x0A, 0, identifier, wants_result=True)


class NvmeCommand(Enum):
    """What an NVMe drive may be asked."""

    IDENTIFY_CONTROLLER = _identify(1)
    IDENTIFY_NAMESPACE = _identify(0, 1)
    HEALTH = _page(0x02, 512)
    ERRORS = _page(0x01, 64 * 16)
    FIRMWARE = _page(0x03, 512)
    SELF_TEST_LOG = _page(0x06, 564)
    TEMPERATURE_THRESHOLD = _feature(0x04)
    THERMAL_MANAGEMENT = _feature(0x10)
    SELF_TEST_SHORT = NvmeRegisters(0x14, NO_NAMESPACE, 0x1)
    SELF_TEST_EXTENDED = NvmeRegisters(0x14, NO_NAMESPACE, 0x2)
    SELF_TEST_ABORT = NvmeRegisters(0x14, NO_NAMESPACE, 0xF)


_SCSI_BYTES = 252
"""Bytes of a log page that are asked for: more than any of these needs, and what every bridge can send."""


class ScsiCommand(Enum):
    """What a SCSI drive may be asked: LOG SENSE (SPC-5, 6.8) of a page, its current values."""

    TEMPERATURE = 0x0D
    WRITE_ERRORS = 0x02
    READ_ERRORS = 0x03
    START_STOP = 0x0E
    EXCEPTIONS = 0x2F

    @property
    def length(self) -> int:
        """Bytes that come at most."""
        return _SCSI_BYTES


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
