"""A drive asked through a process of its own, with a deadline: a drive that hangs holds up nobody."""

import base64
import binascii
import selectors
import subprocess

import msgspec

from thresher.machine.drive_worker import Reply
from thresher.model.drive_commands import (
    AtaAnswer,
    AtaCommand,
    DrivePort,
    NoAnswer,
    NvmeCommand,
    OpticalCommand,
    Refused,
    ScsiCommand,
)
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import start_own

_DEADLINE_S = 20.0
_READ = 1 << 16


class DriveProcess(DrivePort):
    """Starts the process when it is made; after a command that was not answered in time it takes no others."""

    def __init__(self, path: str, deadline_s: float = _DEADLINE_S) -> None:
        """Raises SourceUnavailable where the device cannot be opened."""
        self.path = path
        self._deadline_s = deadline_s
        self._pending = b""
        self._process: subprocess.Popen[bytes] | None = start_own("thresher.machine.drive_worker", path)
        try:
            self._take(f"opening {path}")
        except SourceUnavailable:
            self.close()
            raise

    def ata(self, command: AtaCommand) -> AtaAnswer:
        """Ask an ATA drive."""
        reply = self._ask(f"ata {command.name}")
        return AtaAnswer(self._data(reply), reply.lba)

    def nvme(self, command: NvmeCommand) -> bytes:
        """Ask an NVMe drive."""
        return self._data(self._ask(f"nvme {command.name}"))

    def scsi(self, command: ScsiCommand) -> bytes:
        """Ask a SCSI drive."""
        return self._data(self._ask(f"scsi {command.name}"))

    def optical(self, command: OpticalCommand) -> bytes:
        """Ask an optical drive."""
        return self._data(self._ask(f"optical {command.name}"))

    def read_disc(self, block: int, count: int) -> bytes:
        """Read blocks of a disc."""
        return self._data(self._ask(f"disc {block} {count}"))

    def _data(self, reply: Reply) -> bytes:
        try:
            return base64.b64decode(reply.data, validate=True)
        except binascii.Error as error:
            raise SourceUnavailable(self.path, "the asking process sent damaged data") from error

    def _ask(self, line: str) -> Reply:
        process = self._process
        if process is None or process.stdin is None:
            raise NoAnswer(self.path, "the drive did not answer an earlier command")
        try:
            process.stdin.write(f"{line}\n".encode())
            process.stdin.flush()
        except OSError as error:
            self.close()
            raise SourceUnavailable(self.path, "the asking process has ended") from error
        return self._take(line)

    def _take(self, line: str) -> Reply:
        """Wait for one line. Raises NoAnswer when it does not come in time; the process is then left behind."""
        process = self._process
        assert process is not None
        assert process.stdout is not None
        with selectors.DefaultSelector() as selector:
            selector.register(process.stdout, selectors.EVENT_READ)
            while b"\n" not in self._pending:
                if not selector.select(self._deadline_s):
                    self.close()
                    raise NoAnswer(self.path, f"{line}: no answer in {self._deadline_s:.0f} s")
                chunk = process.stdout.read1(_READ)  # type: ignore[attr-defined]  # a pipe is buffered
                if not chunk:
                    self.close()
                    raise SourceUnavailable(self.path, "the asking process has ended")
                self._pending += chunk
        first, self._pending = self._pending.split(b"\n", 1)
        reply = msgspec.json.decode(first, type=Reply)
        if reply.sense is not None:
            raise Refused(self.path, reply.trouble, *reply.sense)
        if reply.trouble:
            raise (NoAnswer if reply.silent else SourceUnavailable)(self.path, reply.trouble)
        return reply

    def close(self) -> None:
        """End the process; one that hangs in the kernel is left to end when the kernel lets it."""
        process, self._process = self._process, None
        if process is None:
            return
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                try:
                    pipe.close()
                except OSError:
                    continue  # it has gone already
        process.kill()
        try:
            process.wait(0.5)
        except subprocess.TimeoutExpired:
            return
