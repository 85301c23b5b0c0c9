"""Every command that may be sent to a drive: a closed list of readings, and the drive's own self-tests.

Nothing here writes to the medium. What is not in these enumerations cannot be built, so it cannot leave the program or
its access helper. Sources: ATA Command Set 4 (ACS-4), SCSI/ATA Translation 4 (SAT-4), SCSI Primary Commands 5 (SPC-5),
NVM Express base specification 1.4.
"""

from dataclasses import dataclass
from enum import Enum

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


def ata_block(command: AtaCommand) -> bytes:
    """Return the ATA PASS-THROUGH (16) command block (SAT-4, 12.2.2)."""
    ata = command.value
    protocol = 4 if ata.sectors else 3  # PIO data-in, or no data
    flags = (ata.wants_registers << 5) | (1 << 3 | 1 << 2 | 2 if ata.sectors else 0)
    lba = ata.lba.to_bytes(6, "little")
    return bytes(
        (
            0x85,
            protocol << 1 | ata.extended,
            flags,
            ata.features >> 8,
            ata.features & 0xFF,
            ata.count >> 8,
            ata.count & 0xFF,
            lba[3] if ata.extended else 0,
            lba[0],
            lba[4] if ata.extended else 0,
            lba[1],
            lba[5] if ata.extended else 0,
            lba[2],
            0x40 if ata.extended else 0,
            ata.command,
            0,
        )
    )


def short_ata_block(command: AtaCommand) -> bytes | None:
    """Return the ATA PASS-THROUGH (12) block (SAT-4, 12.2.1), which some bridges take only; None for 48-bit ones."""
    ata = command.value
    if ata.extended:
        return None
    protocol = 4 if ata.sectors else 3
    flags = (ata.wants_registers << 5) | (1 << 3 | 1 << 2 | 2 if ata.sectors else 0)
    lba = ata.lba.to_bytes(3, "little")
    return bytes((0xA1, protocol << 1, flags, ata.features & 0xFF, ata.count & 0xFF, *lba, 0, ata.command, 0, 0))


def scsi_block(command: ScsiCommand) -> bytes:
    """Return the LOG SENSE block (SPC-5, 6.8): the page's cumulative values, nothing saved."""
    length = command.length
    return bytes((0x4D, 0, 0x40 | command.value, 0, 0, 0, 0, length >> 8, length & 0xFF, 0))
