"""This computer."""

import errno
import os
import platform
import threading
import time
from pathlib import Path

from thresher.model.errors import SourceUnavailable
from thresher.model.port import SimulatedWork, SystemKind
from thresher.system.counters import PerfCounters, Registers, open_counters
from thresher.system.files import FileSource, list_names, read_once, reason_of

_KMSG = "/dev/kmsg"
_RECORD_BYTES = 16384
"""Read size for one record: the kernel refuses (EINVAL) a buffer shorter than the record, and no record is
longer than CONSOLE_EXT_LOG_MAX (8192)."""


class LiveKernelLog:
    """`/dev/kmsg` read record by record without waiting (kernel document ABI/testing/dev-kmsg)."""

    def __init__(self) -> None:
        """Open the log at its oldest record. Raises SourceUnavailable."""
        self.lost = 0
        try:
            self._fd = os.open(_KMSG, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(_KMSG, reason_of(error)) from error

    def read_records(self) -> list[bytes]:
        """Return every record that is there now."""
        records: list[bytes] = []
        while True:
            try:
                record = os.read(self._fd, _RECORD_BYTES)
            except BlockingIOError:
                return records
            except OSError as error:
                if error.errno == errno.EPIPE:  # overwritten while we were away; the next read goes on after the hole
                    self.lost += 1
                    continue
                raise SourceUnavailable(_KMSG, reason_of(error)) from error
            if not record:
                return records
            records.append(record)

    def close(self) -> None:
        """Close the log."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class LiveSystem:
    """The computer that Thresher runs on."""

    kind = SystemKind.LIVE
    speed = 1.0
    work: SimulatedWork | None = None

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

    def open_counters(self, cpu: int) -> PerfCounters | Registers:
        """Open a CPU's own clock counters."""
        return open_counters(cpu)

    def open_register(self, cpu: int, number: int) -> Registers:
        """Open a model-specific register."""
        return Registers(cpu, (number,))

    def open_kernel_log(self) -> LiveKernelLog:
        """Open `/dev/kmsg`."""
        return LiveKernelLog()

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
