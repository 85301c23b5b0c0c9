"""Reading a block device or a file past the page cache, for scans: opened for reading only."""

import fcntl
import mmap
import os
import stat
import threading
import time
from pathlib import Path

from thresher.model.errors import SourceUnavailable

_BLKGETSIZE64 = 0x80081272
_BLKSSZGET = 0x1268
_LARGEST = 4 << 20


class BlockReader:
    """A device read with O_DIRECT, each thread with a buffer of its own."""

    def __init__(self, path: str, opened: int | None = None) -> None:
        """Open the device, or use a descriptor of it that is open already. Raises SourceUnavailable."""
        self.path = path
        try:
            # O_DIRECT, or the scan would read what the kernel remembers
            if opened is None:
                self._fd = os.open(path, os.O_RDONLY | os.O_DIRECT | os.O_CLOEXEC)
            else:
                self._fd = opened
                fcntl.fcntl(opened, fcntl.F_SETFL, fcntl.fcntl(opened, fcntl.F_GETFL) | os.O_DIRECT)
            self.is_device = stat.S_ISBLK(os.fstat(self._fd).st_mode)
            self.size = self._ioctl(_BLKGETSIZE64, 8) if self.is_device else Path(path).stat().st_size
            self.sector = self._ioctl(_BLKSSZGET, 4) if self.is_device else 512
        except OSError as error:
            reason = error.strerror or str(error)
            hint = "; run it as root" if isinstance(error, PermissionError) else ""
            raise SourceUnavailable(path, f"{reason}{hint}") from error
        self._own = threading.local()

    def _ioctl(self, number: int, size: int) -> int:
        return int.from_bytes(fcntl.ioctl(self._fd, number, bytes(size)), "little")

    def read_at(self, offset: int, length: int) -> int:
        """Read; a page-aligned buffer is kept for each thread. Raises OSError."""
        buffer = getattr(self._own, "buffer", None)
        if buffer is None:
            buffer = self._own.buffer = mmap.mmap(-1, _LARGEST)
        # whole sectors, or the kernel refuses an unbuffered read; what lies past the end does not come
        wanted = -(-length // self.sector) * self.sector
        return os.preadv(self._fd, [memoryview(buffer)[:wanted]], offset)

    def clock(self) -> float:
        """Return the time by which reads are timed."""
        return time.perf_counter()

    def rest(self, offset: int, length: int) -> None:
        """Reading has taken its full time."""

    def close(self) -> None:
        """Close the device."""
        os.close(self._fd)
