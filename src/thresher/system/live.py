"""This computer."""

import errno
import os
import platform
import select
import threading
import time
from collections import deque
from pathlib import Path

from thresher.model.errors import SourceUnavailable
from thresher.model.port import SimulatedWork, SystemKind
from thresher.system.counters import PerfCounters, Registers, open_counters
from thresher.system.files import FileSource, list_names, read_once, read_start, reason_of
from thresher.system.trace import LiveTrace

_KMSG = "/dev/kmsg"
_RECORD_BYTES = 16384
"""Read size for one record: the kernel refuses (EINVAL) a buffer shorter than the record, and no record is
longer than CONSOLE_EXT_LOG_MAX (8192)."""
_MOST_RECORDS = 500_000
"""Records that wait to be taken, some hundred megabytes; a minute and a half of a flood of 5,000 a second."""
_LOOK_MS = 200


class LiveKernelLog:
    """`/dev/kmsg` read record by record on a thread of its own (kernel document ABI/testing/dev-kmsg).

    The kernel keeps its log in a ring of some hundred kilobytes, which a flood overwrites in a fraction of a second:
    who looks only once a second would lose most of it.
    """

    def __init__(self, path: str = _KMSG) -> None:
        """Read what is there and follow. Raises SourceUnavailable."""
        self.lost = 0
        self._path = path
        self._records: deque[bytes] = deque()
        self._reason: str | None = None
        self._closing = threading.Event()
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(path, reason_of(error)) from error
        self._drain()
        self._thread = threading.Thread(target=self._follow, name="kernel log", daemon=True)
        self._thread.start()

    def _drain(self) -> None:
        """Take in every record that is there now."""
        while self._reason is None:
            try:
                record = os.read(self._fd, _RECORD_BYTES)
            except BlockingIOError:
                return
            except OSError as error:
                if error.errno == errno.EPIPE:  # overwritten while we were away; the next read goes on after the hole
                    self.lost += 1
                    continue
                self._reason = reason_of(error)
                return
            if not record:
                return
            if len(self._records) >= _MOST_RECORDS:
                self._records.popleft()
                self.lost += 1
            self._records.append(record)

    def _follow(self) -> None:
        ready = select.poll()
        ready.register(self._fd, select.POLLIN)
        while not self._closing.is_set() and self._reason is None:
            if ready.poll(_LOOK_MS):
                self._drain()

    def read_records(self) -> list[bytes]:
        """Return every record that came since the last call. Raises SourceUnavailable once the log is broken."""
        records: list[bytes] = []
        while self._records:
            records.append(self._records.popleft())
        if not records and self._reason is not None:
            raise SourceUnavailable(self._path, self._reason)
        return records

    def close(self) -> None:
        """Close the log."""
        self._closing.set()
        self._thread.join(2.0)
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

    def open_trace(self) -> LiveTrace:
        """Open a trace instance of our own."""
        return LiveTrace()

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
