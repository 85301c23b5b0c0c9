"""This computer."""

import contextlib
import errno
import fcntl
import os
import platform
import subprocess
import threading
import time
from pathlib import Path

from thresher.machine.awake import LiveAwake
from thresher.machine.controller import LiveController
from thresher.machine.counters import PerfCounters, Registers, open_counters
from thresher.machine.drive_process import DriveProcess
from thresher.machine.driven_process import DrivenProcess, backlight_process, fan_process
from thresher.machine.files import FileSource, list_names, read_once, read_start, reason_of
from thresher.machine.free_running import FreeRunning
from thresher.machine.kmsg_reader import LOST, RECORD_BYTES
from thresher.machine.network import LiveNetwork
from thresher.machine.stored_log import stored_log
from thresher.machine.trace import LiveTrace
from thresher.machine.watchdog import LiveWatchdog
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command
from thresher.model.port import LogLine, Pacing, SystemKind

_KMSG = "/dev/kmsg"
_PIPE_BYTES = 1 << 20


class LiveKernelLog:
    """`/dev/kmsg` (kernel document ABI/testing/dev-kmsg): first what is there, then what a process of its own reads.

    The kernel keeps its log in a ring of some hundred kilobytes, which a flood overwrites in a fraction of a second:
    who looks only once a second would lose most of it.
    """

    def __init__(self, path: str = _KMSG) -> None:
        """Open the log at its oldest record. Raises SourceUnavailable."""
        self.lost = 0
        self._path = path
        self._reader: subprocess.Popen[bytes] | None = None
        self._pending = b""
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(path, reason_of(error)) from error

    def read_records(self) -> list[bytes]:
        """Return every record that came since the last call; from the first call on a process reads ahead.

        Records that were there before may come a second time with it: their sequence numbers show it. Raises
        SourceUnavailable once the log is broken.
        """
        if self._reader is not None:
            return self._passed_on(self._reader)
        records: list[bytes] = []
        while True:
            try:
                record = os.read(self._fd, RECORD_BYTES)
            except BlockingIOError:
                break
            except OSError as error:
                if error.errno == errno.EPIPE:  # overwritten while we were away; the next read continues after the hole
                    self.lost += 1
                    continue
                raise SourceUnavailable(self._path, reason_of(error)) from error
            if not record:
                break
            records.append(record)
        self._reader = self._start_reader()
        return records

    def _start_reader(self) -> "subprocess.Popen[bytes]":
        command = own_command("thresher.machine.kmsg_reader", self._path)
        reader = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
        )
        assert reader.stdout is not None
        os.set_blocking(reader.stdout.fileno(), False)
        with contextlib.suppress(OSError):  # a larger pipe only spares the reader some waiting
            fcntl.fcntl(reader.stdout.fileno(), fcntl.F_SETPIPE_SZ, _PIPE_BYTES)
        return reader

    def _passed_on(self, reader: "subprocess.Popen[bytes]") -> list[bytes]:
        assert reader.stdout is not None
        pieces, ended = [self._pending], False
        while True:
            try:
                more = os.read(reader.stdout.fileno(), _PIPE_BYTES)
            except BlockingIOError:
                break
            if not more:
                ended = True
                break
            pieces.append(more)
        content = b"".join(pieces)
        records, at = [], 0
        while at + 4 <= len(content):
            length = int.from_bytes(content[at : at + 4], "little")
            if length == LOST:
                self.lost += 1
                at += 4
                continue
            if at + 4 + length > len(content):
                break
            records.append(content[at + 4 : at + 4 + length])
            at += 4 + length
        self._pending = content[at:]
        if ended and not records:
            raise SourceUnavailable(self._path, "its reader has ended")
        return records

    def close(self) -> None:
        """Close the log and end its reader."""
        if self._reader is not None:
            self._reader.kill()
            if self._reader.stdout is not None:
                self._reader.stdout.close()
            self._reader.wait()
            self._reader = None
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class LiveSystem:
    """The computer that Thresher runs on."""

    kind = SystemKind.LIVE
    speed = 1.0
    pacing: Pacing = FreeRunning()

    def __init__(self) -> None:
        """Name the machine after its host name."""
        self.name = platform.node() or "this computer"

    def open(self, path: str) -> FileSource:
        """Open a file."""
        return FileSource(path, Path(path))

    def read(self, path: str) -> bytes:
        """Read a file once."""
        return read_once(path, Path(path))

    def list(self, path: str) -> list[str]:
        """List a directory."""
        return list_names(Path(path))

    def resolve(self, path: str) -> str:
        """Follow symbolic links."""
        return os.path.realpath(path)

    def open_network(self) -> LiveNetwork:
        """Open the network of this computer."""
        return LiveNetwork()

    def open_fan(self, folder: str, number: int) -> DrivenProcess:
        """Take control of a fan through a process of its own; it may take a moment."""
        return fan_process(folder, number)

    def open_controller(self) -> LiveController:
        """Open the management controller."""
        return LiveController()

    def open_backlight(self, name: str) -> DrivenProcess:
        """Take control of a backlight through a process of its own; it may take a moment."""
        return backlight_process(name)

    def open_drive(self, path: str) -> DriveProcess:
        """Open a drive through a process of its own."""
        return DriveProcess(path)

    def open_counters(self, cpu: int) -> PerfCounters | Registers:
        """Open a CPU's own clock counters."""
        return open_counters(cpu)

    def open_register(self, cpu: int, number: int) -> Registers:
        """Open a model-specific register."""
        return Registers(cpu, (number,))

    def open_kernel_log(self) -> LiveKernelLog:
        """Open `/dev/kmsg`."""
        return LiveKernelLog()

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """Read what the log service stored of a boot."""
        return stored_log(boot_id, most)

    def open_trace(self) -> LiveTrace:
        """Open a trace instance of our own."""
        return LiveTrace()

    def open_watchdog(self, timeout_s: float) -> LiveWatchdog:
        """Arm the watchdog."""
        return LiveWatchdog(timeout_s)

    def hold_awake(self, why: str) -> LiveAwake:
        """Hold off sleep, idle, lid and screen blanking."""
        return LiveAwake(why)

    def read_start(self, path: str, most: int) -> bytes:
        """Read the start of a file."""
        return read_start(path, Path(path), most)

    def now(self) -> float:
        """Seconds since boot with time asleep left out, as the kernel log counts them."""
        return time.monotonic()

    def wall(self) -> float:
        """Unix time."""
        return time.time()

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Sleep until `at` on the monotonic clock, or until woken."""
        while (left := at - time.monotonic()) > 0 and not wake.wait(left):
            pass

    def close(self) -> None:
        """Nothing is held."""
