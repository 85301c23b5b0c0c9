"""Files of a real directory tree, held open and read again each time."""

import errno
import os
from pathlib import Path

from thresher.model.errors import SourceUnavailable

_PAGE = 4096
"""Most that sysfs gives in one read, of text and of binary files alike (kernel document filesystems/sysfs)."""

_MOST_BYTES = 1 << 20
"""Longest content read of one file: far above any sysfs attribute (one page) or proc table used here."""

REASONS = {
    errno.ENOENT: "not there",
    errno.EACCES: "no permission to read it",
    errno.EPERM: "not permitted; needs root",
    errno.ENODEV: "the device is gone",
    errno.ENXIO: "the device does not answer",
    errno.EIO: "the device reported an input/output error",
    errno.EAGAIN: "the driver has no value at the moment",
    errno.ENODATA: "the driver has no value",
    errno.EINVAL: "the driver refused the reading",
    errno.EOPNOTSUPP: "the driver does not support the reading",
    errno.EISDIR: "a directory, not a file",
    errno.ENOTDIR: "not there",
    errno.ELOOP: "symbolic links in a circle",
    errno.ENAMETOOLONG: "the name is too long",
}


def reason_of(error: OSError) -> str:
    """Say an operating system error in a few words for a person."""
    number = error.errno or 0
    return REASONS.get(number, os.strerror(number) if number else str(error))


class FileSource:
    """One file held open; reading starts at its beginning each time, which makes sysfs compute it again."""

    def __init__(self, path: str, real_path: Path, opened: int | None = None) -> None:
        """Open the file, or read from a descriptor of it that is open already. Raises SourceUnavailable."""
        self.path = path
        if opened is not None:
            self._fd = opened
            return
        try:
            self._fd = os.open(real_path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        except OSError as error:
            raise SourceUnavailable(path, reason_of(error)) from error

    def read(self) -> bytes:
        """Return the whole present content."""
        chunks: list[bytes] = []
        offset = 0
        in_sysfs = self.path.startswith("/sys/")
        try:
            while offset < _MOST_BYTES and (chunk := os.pread(self._fd, 65536, offset)):
                chunks.append(chunk)
                offset += len(chunk)
                if in_sysfs and len(chunk) < _PAGE:
                    break  # an attribute ends with a short read; asking again would make the driver compute it again
        except OSError as error:
            raise SourceUnavailable(self.path, reason_of(error)) from error
        return b"".join(chunks)

    def close(self) -> None:
        """Close the file; closing twice does nothing."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


def read_once(path: str, real_path: Path) -> bytes:
    """Open, read and close one file. Raises SourceUnavailable."""
    source = FileSource(path, real_path)
    try:
        return source.read()
    finally:
        source.close()


def is_refused(error: SourceUnavailable) -> bool:
    """Whether a file could not be opened because this program may not."""
    return isinstance(error.__cause__, PermissionError)


def read_start(path: str, real_path: Path, most: int) -> bytes:
    """Read at most so many bytes from the start of a file. Raises SourceUnavailable."""
    try:
        # like FileSource: opening a pipe in a tree must not wait for whoever writes into it
        descriptor = os.open(real_path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        with os.fdopen(descriptor, "rb") as stream:
            return stream.read(most) or b""
    except OSError as error:
        raise SourceUnavailable(path, reason_of(error)) from error


def list_names(real_path: Path) -> list[str]:
    """Return the names in a directory, sorted; empty when it is not there or may not be read."""
    try:
        return sorted(os.listdir(real_path))
    except OSError:
        return []
