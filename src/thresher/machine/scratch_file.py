"""The scratch file: the only place to which anything is ever written on a drive under test.

It is made anew, for this user alone, never through a link, held by a lock while it is in use, and removed at the end.
"""

import errno
import fcntl
import os
import re
import stat
import time
from pathlib import Path

import numpy as np
import numpy.typing as npt

from thresher.model.errors import SourceUnavailable

NAME = re.compile(r"\.thresher-scratch-[0-9a-f]{16}")
"""Names of scratch files; no other file is ever removed."""


def scratch_name(random: bytes) -> str:
    """Return a name of eight random bytes."""
    return f".thresher-scratch-{random[:8].hex():0>16}"


class KernelScratchFile:
    """A scratch file on a file system of this computer, past the page cache where the file system can do that."""

    def __init__(self, path: str, size: int) -> None:
        """Make the file with all of its room. Raises SourceUnavailable; then nothing is left of it."""
        self.path = path
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        try:
            self._fd, self.direct = self._open(path, flags)
        except OSError as error:
            raise SourceUnavailable(path, error.strerror or str(error)) from error
        try:
            fcntl.flock(self._fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            os.posix_fallocate(self._fd, 0, size)
        except OSError as error:
            self.remove()
            raise SourceUnavailable(path, _words(error, size)) from error

    def _open(self, path: str, flags: int) -> tuple[int, bool]:
        try:
            return os.open(path, flags | os.O_DIRECT, 0o600), True
        except OSError as error:
            if error.errno != errno.EINVAL:
                raise
        # this file system has no unbuffered requests; some make the file before they say so
        Path(path).unlink(missing_ok=True)
        return os.open(path, flags, 0o600), False

    def write_at(self, offset: int, words: npt.NDArray[np.uint64]) -> None:
        """Write all of a block. Raises OSError."""
        data = words.view(np.uint8).data
        while data:
            done = os.pwrite(self._fd, data, offset)
            data, offset = data[done:], offset + done

    def read_at(self, offset: int, into: npt.NDArray[np.uint64]) -> int:
        """Read a block. Raises OSError."""
        if not self.direct:
            os.posix_fadvise(self._fd, offset, into.nbytes, os.POSIX_FADV_DONTNEED)
        return os.preadv(self._fd, [into.view(np.uint8).data], offset)

    def flush(self) -> None:
        """Have the drive write its own cache, and let the kernel forget. Raises OSError."""
        os.fdatasync(self._fd)
        os.posix_fadvise(self._fd, 0, 0, os.POSIX_FADV_DONTNEED)

    def rest(self, length: int) -> None:
        """A request stands for itself only."""

    def clock(self) -> float:
        """Return the time by which requests are timed."""
        return time.perf_counter()

    def remove(self) -> None:
        """Take the name away, then close: the room is free at once, whatever happens after."""
        try:
            Path(self.path).unlink(missing_ok=True)
        finally:
            os.close(self._fd)


def _words(error: OSError, size: int) -> str:
    if error.errno == errno.ENOSPC:
        return f"no room for {size / (1 << 30):.1f} GiB"
    return error.strerror or str(error)


def remove_left_over(path: str) -> int | None:
    """Remove a scratch file that nobody uses any more; return its bytes, None where there is none or it is in use.

    Only a regular file of our own with the name of a scratch file is removed. Raises OSError.
    """
    if not NAME.fullmatch(Path(path).name):
        return None
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        return None
    try:
        found = os.fstat(handle)
        if not stat.S_ISREG(found.st_mode) or found.st_uid != os.geteuid():
            return None
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return None
        Path(path).unlink(missing_ok=True)
        return found.st_size
    finally:
        os.close(handle)
