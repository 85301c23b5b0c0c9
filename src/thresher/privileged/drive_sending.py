"""Sending the commands of the closed lists to a device that is open, and what comes back, not yet looked into.

`SG_IO` for ATA and SCSI (kernel document scsi/sg3, <scsi/sg.h>), `NVME_IOCTL_ADMIN_CMD` for NVMe
(<linux/nvme_ioctl.h>).
"""

import ctypes
import fcntl
import struct
from dataclasses import dataclass
from typing import ClassVar

from thresher.privileged.drive_lists import NvmeRegisters

_SG_IO = 0x2285
_NVME_ADMIN = 0xC0484E41
_NO_DATA, _FROM_DRIVE = -1, -3
TIMEOUT_MS = 15_000
_SENSE = 64
_HEAD = struct.Struct("<iHHIIH")


class _SgHeader(ctypes.Structure):
    """`struct sg_io_hdr`."""

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
    """`struct nvme_passthru_cmd`."""

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


@dataclass(frozen=True, slots=True)
class RawAnswer:
    """What the kernel returned for one command: data, sense data (SPC-5, 4.5), states, bytes that did not come.

    `errno` is 0, or the error with which the kernel refused the command itself; `result` is dword 0 of an NVMe
    completion.
    """

    data: bytes = b""
    sense: bytes = b""
    status: int = 0
    host_status: int = 0
    left: int = 0
    result: int = 0
    errno: int = 0

    def packed(self) -> bytes:
        """Return it for a socket."""
        numbers = (self.errno, self.status, self.host_status, self.left, self.result, len(self.sense))
        return _HEAD.pack(*numbers) + self.sense + self.data

    @classmethod
    def unpacked(cls, packet: bytes) -> "RawAnswer":
        """Return what was packed. Raises ValueError for anything shorter than its head says."""
        if len(packet) < _HEAD.size:
            raise ValueError("an answer is too short")
        code, status, host_status, left, result, sense = _HEAD.unpack_from(packet)
        end = _HEAD.size + sense
        if len(packet) < end:
            raise ValueError("an answer is too short")
        return cls(packet[end:], packet[_HEAD.size : end], status, host_status, left, result, code)


def send_scsi(device: int, block: bytes, length: int) -> RawAnswer:
    """Send a command block that brings at most `length` bytes."""
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
        timeout=TIMEOUT_MS,
    )
    try:
        fcntl.ioctl(device, _SG_IO, header)
    except OSError as error:
        return RawAnswer(errno=error.errno or -1)
    left = max(0, header.resid)
    return RawAnswer(data.raw[:length], sense.raw[: header.sb_len_wr], header.status, header.host_status, left)


def send_nvme(device: int, wanted: NvmeRegisters) -> RawAnswer:
    """Send an admin command."""
    data = ctypes.create_string_buffer(max(1, wanted.length))
    passed = _NvmePassthrough(
        opcode=wanted.opcode,
        nsid=wanted.namespace,
        addr=ctypes.addressof(data) if wanted.length else 0,
        data_len=wanted.length,
        cdw10=wanted.dword10,
        timeout_ms=TIMEOUT_MS,
    )
    try:
        status = fcntl.ioctl(device, _NVME_ADMIN, passed)
    except OSError as error:
        return RawAnswer(errno=error.errno or -1)
    return RawAnswer(data.raw[: wanted.length], status=status, result=passed.result)
