"""Asking a drive of this computer: `SG_IO` for ATA (kernel document scsi/sg3), `NVME_IOCTL_ADMIN_CMD` for NVMe.

A process of its own does it (`drive_worker.py`): a command to a sick drive may hang in the kernel for minutes.
"""

import ctypes
import errno
import fcntl
import os
from typing import ClassVar

from thresher.model.drive_commands import (
    SECTOR,
    AtaAnswer,
    AtaCommand,
    CommandBlock,
    DrivePort,
    NoAnswer,
    NvmeCommand,
    OpticalCommand,
    Refused,
    ScsiCommand,
    disc_read,
)
from thresher.model.errors import SourceUnavailable

_SG_IO = 0x2285
_NVME_ADMIN = 0xC0484E41
_NO_DATA, _FROM_DRIVE = -1, -3
_TIMEOUT_MS = 15_000
_SENSE = 64
_CHECK_CONDITION = 0x02
_TIMED_OUT = (0x03, 0x0B)
"""Host and driver states of a command that ran into its time-out (DID_TIME_OUT, DID_TRANSPORT_DISRUPTED)."""


class _SgHeader(ctypes.Structure):
    """`struct sg_io_hdr` of <scsi/sg.h>."""

    _fields_: ClassVar = [
        ("interface_id", ctypes.c_int),
        ("dxfer_direction", ctypes.c_int),
        ("cmd_len", ctypes.c_ubyte),
        ("mx_sb_len", ctypes.c_ubyte),
        ("iovec_count", ctypes.c_ushort),
        ("dxfer_len", ctypes.c_uint),
        ("dxferp", ctypes.c_void_p),
        ("cmdp", ctypes.c_void_p),
        ("sbp", ctypes.c_void_p),
        ("timeout", ctypes.c_uint),
        ("flags", ctypes.c_uint),
        ("pack_id", ctypes.c_int),
        ("usr_ptr", ctypes.c_void_p),
        ("status", ctypes.c_ubyte),
        ("masked_status", ctypes.c_ubyte),
        ("msg_status", ctypes.c_ubyte),
        ("sb_len_wr", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort),
        ("driver_status", ctypes.c_ushort),
        ("resid", ctypes.c_int),
        ("duration", ctypes.c_uint),
        ("info", ctypes.c_uint),
    ]


class _NvmePassthrough(ctypes.Structure):
    """`struct nvme_passthru_cmd` of <linux/nvme_ioctl.h>."""

    _fields_: ClassVar = [
        ("opcode", ctypes.c_uint8),
        ("flags", ctypes.c_uint8),
        ("rsvd1", ctypes.c_uint16),
        ("nsid", ctypes.c_uint32),
        ("cdw2", ctypes.c_uint32),
        ("cdw3", ctypes.c_uint32),
        ("metadata", ctypes.c_uint64),
        ("addr", ctypes.c_uint64),
        ("metadata_len", ctypes.c_uint32),
        ("data_len", ctypes.c_uint32),
        ("cdw10", ctypes.c_uint32),
        ("cdw11", ctypes.c_uint32),
        ("cdw12", ctypes.c_uint32),
        ("cdw13", ctypes.c_uint32),
        ("cdw14", ctypes.c_uint32),
        ("cdw15", ctypes.c_uint32),
        ("timeout_ms", ctypes.c_uint32),
        ("result", ctypes.c_uint32),
    ]


class KernelPort(DrivePort):
    """A device of this computer, opened for reading only."""

    def __init__(self, path: str) -> None:
        """`path` is the disk of an ATA drive (/dev/sda) or the controller of an NVMe drive (/dev/nvme0).

        Raises SourceUnavailable.
        """
        self.path = path
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(path, _reason(error)) from error

    def close(self) -> None:
        """Close the device."""
        os.close(self._fd)

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Ask by ATA PASS-THROUGH (16), and where a bridge refuses that by the shorter one."""
        try:
            return self._pass_through(command, ata_block(command))
        except NoAnswer:
            raise
        except SourceUnavailable:
            shorter = short_ata_block(command)
            if shorter is None:
                raise
            return self._pass_through(command, shorter)

    def scsi(self, command: ScsiCommand) -> bytes:
        """Ask by LOG SENSE."""
        data, header, _sense = self._send(scsi_block(command), command.length, command.name)
        if header.host_status or header.status:
            raise SourceUnavailable(self.path, f"{_words(command.name)}: the drive or its bridge refuses it")
        return data[: command.length - max(0, header.resid)]

    def optical(self, command: OpticalCommand) -> bytes:
        """Ask an optical drive."""
        return self._checked(command.value, _words(command.name))

    def read_disc(self, block: int, count: int) -> bytes:
        """Read blocks of a disc."""
        return self._checked(disc_read(block, count), f"reading block {block}")

    def _checked(self, command: CommandBlock, words: str) -> bytes:
        """Send a command; what the device says of a refused one is in the error."""
        data, header, sense = self._send(command.block, command.length, words)
        if header.status == _CHECK_CONDITION and (said := sense_codes(sense)) is not None:
            raise Refused(self.path, words, *said)
        if header.host_status or header.status:
            raise SourceUnavailable(self.path, f"{words}: the drive or its bridge refuses it")
        return data[: command.length - max(0, header.resid)]

    def _send(self, block: bytes, length: int, name: str) -> tuple[bytes, _SgHeader, bytes]:
        """Send a command block; return the data, the header as it came back and the sense data. Raises as `ata`."""
        data = ctypes.create_string_buffer(max(1, length))
        sense = ctypes.create_string_buffer(_SENSE)
        written = ctypes.create_string_buffer(block, len(block))
        header = _SgHeader(
            interface_id=ord("S"),
            dxfer_direction=_FROM_DRIVE if length else _NO_DATA,
            cmd_len=len(block),
            mx_sb_len=_SENSE,
            dxfer_len=length,
            dxferp=ctypes.addressof(data) if length else None,
            cmdp=ctypes.addressof(written),
            sbp=ctypes.addressof(sense),
            timeout=_TIMEOUT_MS,
        )
        try:
            fcntl.ioctl(self._fd, _SG_IO, header)
        except OSError as error:
            raise _failure(self.path, name, error) from error
        if header.host_status in _TIMED_OUT:
            raise NoAnswer(self.path, f"{_words(name)}: the drive did not answer in {_TIMEOUT_MS // 1000} s")
        return data.raw[:length], header, sense.raw[: header.sb_len_wr]

    def _pass_through(self, command: AtaCommand, block: bytes) -> AtaAnswer:
        data, header, sense = self._send(block, command.value.sectors * SECTOR, command.name)
        registers = returned_registers(sense)
        failed = registers is not None and registers[1] & 0x01
        refused = header.status == _CHECK_CONDITION and registers is None
        if header.host_status or refused or failed or (header.status and header.status != _CHECK_CONDITION):
            raise SourceUnavailable(self.path, f"{_words(command.name)}: the drive or its bridge refuses it")
        if command.value.wants_registers and registers is None:
            raise SourceUnavailable(self.path, f"{_words(command.name)}: the bridge hides the answer")
        return AtaAnswer(data, registers[0] if registers is not None else None)

    def nvme(self, command: NvmeCommand) -> bytes:
        """Ask by an admin command."""
        wanted = command.value
        data = ctypes.create_string_buffer(max(1, wanted.length))
        passed = _NvmePassthrough(
            opcode=wanted.opcode,
            nsid=wanted.namespace,
            addr=ctypes.addressof(data) if wanted.length else 0,
            data_len=wanted.length,
            cdw10=wanted.dword10,
            timeout_ms=_TIMEOUT_MS,
        )
        try:
            status = fcntl.ioctl(self._fd, _NVME_ADMIN, passed)
        except OSError as error:
            raise _failure(self.path, command.name, error) from error
        if status:
            raise SourceUnavailable(self.path, f"{_words(command.name)}: the drive refuses it (status 0x{status:x})")
        return passed.result.to_bytes(4, "little") if wanted.wants_result else data.raw[: wanted.length]


def returned_registers(sense: bytes) -> tuple[int, int] | None:
    """Return LBA and status registers from the sense data of a pass-through (SAT-4, 12.2.5), None where it has none."""
    if len(sense) >= 22 and sense[0] & 0x7F == 0x72 and sense[8] == 0x09:
        lba = sum(sense[8 + byte] << shift for byte, shift in ((7, 0), (9, 8), (11, 16), (6, 24), (8, 32), (10, 40)))
        return lba, sense[21]
    if len(sense) >= 12 and sense[0] & 0x7F == 0x70 and (sense[2] & 0xF) == 1:
        return sense[9] | sense[10] << 8 | sense[11] << 16, sense[4]
    return None


def sense_codes(sense: bytes) -> tuple[int, int, int] | None:
    """Return sense key, additional sense code and qualifier (SPC-5, 4.5), None where there are none."""
    form = sense[0] & 0x7F if sense else 0
    if form in (0x72, 0x73) and len(sense) >= 4:
        return sense[1] & 0xF, sense[2], sense[3]
    if form in (0x70, 0x71) and len(sense) >= 14:
        return sense[2] & 0xF, sense[12], sense[13]
    return None


def _words(name: str) -> str:
    return name.lower().replace("_", " ")


def _reason(error: OSError) -> str:
    if error.errno in (errno.EACCES, errno.EPERM):
        return "permission denied; only root may send commands to a drive"
    return error.strerror or str(error)


def _failure(path: str, name: str, error: OSError) -> SourceUnavailable:
    if error.errno in (errno.ETIMEDOUT, errno.ETIME):
        return NoAnswer(path, f"{_words(name)}: the drive did not answer")
    if error.errno in (errno.ENODEV, errno.ENXIO):
        return NoAnswer(path, f"{_words(name)}: the drive has gone")
    if error.errno in (errno.ENOTTY, errno.EINVAL):
        return SourceUnavailable(path, f"{_words(name)}: it takes no such commands")
    return SourceUnavailable(path, f"{_words(name)}: {_reason(error)}")


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
