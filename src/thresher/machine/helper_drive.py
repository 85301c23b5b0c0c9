"""A drive whose commands the access helper sends: by name, on a socket that belongs to that one drive."""

import socket

from thresher.model.drive_commands import AtaCommand, CommandBlock, NoAnswer, NvmeCommand, ScsiCommand
from thresher.model.errors import SourceUnavailable
from thresher.privileged.drive_sending import RawAnswer

_DEADLINE_S = 20.0
_LARGEST = 1 << 17


class HelperSender:
    """Sends names of commands; after one that was not answered in time it sends no others."""

    def __init__(self, path: str, end: socket.socket, deadline_s: float = _DEADLINE_S) -> None:
        """Use the socket from now on."""
        self._path = path
        self._end = end
        self._end.settimeout(deadline_s)
        self._silent = False

    def ata(self, command: AtaCommand, short: bool) -> RawAnswer:
        """Send ATA PASS-THROUGH."""
        return self._sent(f"{'ata-short' if short else 'ata'} {command.name}")

    def scsi(self, command: ScsiCommand) -> RawAnswer:
        """Send LOG SENSE."""
        return self._sent(f"scsi {command.name}")

    def nvme(self, command: NvmeCommand) -> RawAnswer:
        """Send an NVMe admin command."""
        return self._sent(f"nvme {command.name}")

    def optical(self, command: CommandBlock) -> RawAnswer:
        """Nothing for optical drives is on the helper's list. Raises SourceUnavailable."""
        raise SourceUnavailable(self._path, "the access helper sends nothing to optical drives")

    def _sent(self, words: str) -> RawAnswer:
        if self._silent:
            raise NoAnswer(self._path, "the drive did not answer an earlier command")
        try:
            self._end.send(words.encode())
            answer = self._end.recv(_LARGEST)
        except TimeoutError as error:
            self._silent = True
            raise NoAnswer(self._path, f"{words}: no answer in {self._end.gettimeout():.0f} s") from error
        except OSError as error:
            raise SourceUnavailable(self._path, "the access helper has ended") from error
        try:
            return RawAnswer.unpacked(answer)
        except ValueError as error:
            raise SourceUnavailable(self._path, "the access helper has ended") from error

    def close(self) -> None:
        """Close the socket, which ends the process behind it."""
        self._end.close()
