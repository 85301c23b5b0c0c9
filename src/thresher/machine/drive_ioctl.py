"""Asking a drive of this computer, and making sense of what the kernel returns.

A process of its own does it (`drive_worker.py`): a command to a sick drive may hang in the kernel for minutes. Where
the program may not do it itself, the access helper sends the command (`helper_drive.py`) and the answer is read here.
"""

import errno
import os
from typing import Protocol

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
from thresher.privileged.drive_lists import ata_block, scsi_block, short_ata_block
from thresher.privileged.drive_sending import TIMEOUT_MS, RawAnswer, send_nvme, send_scsi

_CHECK_CONDITION = 0x02
_TIMED_OUT = (0x03, 0x0B)
"""Host states of a command that ran into its time-out (DID_TIME_OUT, DID_TRANSPORT_DISRUPTED)."""


class Sender(Protocol):
    """Sends a command of the lists and returns what came back. It may take as long as the command's time-out."""

    def ata(self, command: AtaCommand, short: bool) -> RawAnswer:
        """Send ATA PASS-THROUGH of 16 bytes, or the short one of 12."""
        ...

    def scsi(self, command: ScsiCommand) -> RawAnswer:
        """Send LOG SENSE."""
        ...

    def nvme(self, command: NvmeCommand) -> RawAnswer:
        """Send an NVMe admin command."""
        ...

    def optical(self, command: CommandBlock) -> RawAnswer:
        """Send a command to an optical drive."""
        ...

    def close(self) -> None:
        """Close what leads to the drive."""
        ...


class KernelSender:
    """A device opened for reading only, and commands sent by this process."""

    def __init__(self, path: str) -> None:
        """Open the device. Raises SourceUnavailable."""
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(path, _reason(error.errno or 0)) from error

    def ata(self, command: AtaCommand, short: bool) -> RawAnswer:
        """Send ATA PASS-THROUGH."""
        block = short_ata_block(command) if short else ata_block(command)
        assert block is not None
        return send_scsi(self._fd, block, command.value.sectors * SECTOR)

    def scsi(self, command: ScsiCommand) -> RawAnswer:
        """Send LOG SENSE."""
        return send_scsi(self._fd, scsi_block(command), command.length)

    def nvme(self, command: NvmeCommand) -> RawAnswer:
        """Send an NVMe admin command."""
        return send_nvme(self._fd, command.value)

    def optical(self, command: CommandBlock) -> RawAnswer:
        """Send a command to an optical drive."""
        return send_scsi(self._fd, command.block, command.length)

    def close(self) -> None:
        """Close the device."""
        os.close(self._fd)


class KernelPort(DrivePort):
    """A drive of this computer."""

    def __init__(self, path: str, sender: Sender | None = None) -> None:
        """`path` is the disk of an ATA drive (/dev/sda) or the controller of an NVMe drive (/dev/nvme0).

        Without a sender the device is opened here. Raises SourceUnavailable.
        """
        self.path = path
        self._sender = sender or KernelSender(path)

    def close(self) -> None:
        """Close the way to the drive."""
        self._sender.close()

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Ask by ATA PASS-THROUGH (16), and where a bridge refuses that by the shorter one."""
        try:
            return self._registers(command, self._sender.ata(command, short=False))
        except NoAnswer:
            raise
        except SourceUnavailable:
            if command.value.extended:
                raise
            return self._registers(command, self._sender.ata(command, short=True))

    def scsi(self, command: ScsiCommand) -> bytes:
        """Ask by LOG SENSE."""
        words = _words(command.name)
        answer = self._answered(self._sender.scsi(command), words)
        if answer.host_status or answer.status:
            raise SourceUnavailable(self.path, f"{words}: the drive or its bridge refuses it")
        return answer.data[: command.length - answer.left]

    def optical(self, command: OpticalCommand) -> bytes:
        """Ask an optical drive."""
        return self._checked(command.value, _words(command.name))

    def read_disc(self, block: int, count: int) -> bytes:
        """Read blocks of a disc."""
        return self._checked(disc_read(block, count), f"reading block {block}")

    def _checked(self, command: CommandBlock, words: str) -> bytes:
        """Send a command; what the device says of a refused one is in the error."""
        answer = self._answered(self._sender.optical(command), words)
        if answer.status == _CHECK_CONDITION and (said := sense_codes(answer.sense)) is not None:
            raise Refused(self.path, words, *said)
        if answer.host_status or answer.status:
            raise SourceUnavailable(self.path, f"{words}: the drive or its bridge refuses it")
        return answer.data[: command.length - answer.left]

    def _answered(self, answer: RawAnswer, words: str) -> RawAnswer:
        """Return an answer of the device. Raises as `ata` when the kernel gave none."""
        if answer.errno:
            raise _failure(self.path, words, answer.errno)
        if answer.host_status in _TIMED_OUT:
            raise NoAnswer(self.path, f"{words}: the drive did not answer in {TIMEOUT_MS // 1000} s")
        return answer

    def _registers(self, command: AtaCommand, raw: RawAnswer) -> AtaAnswer:
        words = _words(command.name)
        answer = self._answered(raw, words)
        registers = returned_registers(answer.sense)
        failed = registers is not None and registers[1] & 0x01
        refused = answer.status == _CHECK_CONDITION and registers is None
        if answer.host_status or refused or failed or (answer.status and answer.status != _CHECK_CONDITION):
            raise SourceUnavailable(self.path, f"{words}: the drive or its bridge refuses it")
        if command.value.wants_registers and registers is None:
            raise SourceUnavailable(self.path, f"{words}: the bridge hides the answer")
        return AtaAnswer(answer.data, registers[0] if registers is not None else None)

    def nvme(self, command: NvmeCommand) -> bytes:
        """Ask by an admin command."""
        words = _words(command.name)
        answer = self._answered(self._sender.nvme(command), words)
        if answer.status:
            raise SourceUnavailable(self.path, f"{words}: the drive refuses it (status 0x{answer.status:x})")
        return answer.result.to_bytes(4, "little") if command.value.wants_result else answer.data


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


def _reason(code: int) -> str:
    if code in (errno.EACCES, errno.EPERM):
        return "permission denied; only root may send commands to a drive"
    return os.strerror(code)


def _failure(path: str, words: str, code: int) -> SourceUnavailable:
    if code in (errno.ETIMEDOUT, errno.ETIME):
        return NoAnswer(path, f"{words}: the drive did not answer")
    if code in (errno.ENODEV, errno.ENXIO):
        return NoAnswer(path, f"{words}: the drive has gone")
    if code in (errno.ENOTTY, errno.EINVAL):
        return SourceUnavailable(path, f"{words}: it takes no such commands")
    return SourceUnavailable(path, f"{words}: {_reason(code)}")
