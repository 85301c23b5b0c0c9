"""Serves one file that behaves like a sick disk: ``python -m tests.drives.faulty_drive FOLDER ORDER``.

ORDER is JSON, see `Order`. A loop device over the file is a real block device with real errors.
"""

import errno
import stat
import sys
import time
from pathlib import Path

import msgspec
from fuse import FUSE, FuseOSError, Operations  # type: ignore[import-untyped]


class Order(msgspec.Struct):
    """Its size, bytes that cannot be read, offsets that are slow and whose writes are lost, and files for notes.

    Writes are noted in `notes`; `answered` is made when a slow read comes back.
    """

    size: int
    notes: str
    answered: str
    bad: list[tuple[int, int]] = []
    slow: list[int] = []
    slow_s: float = 0.5
    lost: list[int] = []


class Disk(Operations):  # type: ignore[misc]
    """The file system with the one file."""

    def __init__(self, order: Order) -> None:
        """All bytes are 0 at first."""
        self.order = order
        self.data = bytearray(order.size)

    def getattr(self, path: str, _handle: object = None) -> dict[str, int]:
        """Size and kind."""
        if path == "/":
            return {"st_mode": stat.S_IFDIR | 0o755, "st_nlink": 2}
        if path == "/disk":
            return {"st_mode": stat.S_IFREG | 0o644, "st_nlink": 1, "st_size": self.order.size}
        raise FuseOSError(errno.ENOENT)

    def readdir(self, _path: str, _handle: object) -> list[str]:
        """The one file."""
        return [".", "..", "disk"]

    def read(self, _path: str, length: int, offset: int, _handle: object) -> bytes:
        """Fail, be slow, or answer."""
        if any(offset < end and begin < offset + length for begin, end in self.order.bad):
            raise FuseOSError(errno.EIO)
        if any(offset <= place < offset + length for place in self.order.slow):
            time.sleep(self.order.slow_s)
            Path(self.order.answered).touch()
        return bytes(self.data[offset : offset + length])

    def write(self, _path: str, written: bytes, offset: int, _handle: object) -> int:
        """Note it; keep it unless it is one of those that are lost."""
        with Path(self.order.notes).open("a") as stream:
            stream.write(f"{offset} {len(written)}\n")
        if not any(offset <= place < offset + len(written) for place in self.order.lost):
            self.data[offset : offset + len(written)] = written
        return len(written)


if __name__ == "__main__":
    FUSE(Disk(msgspec.json.decode(sys.argv[2], type=Order)), sys.argv[1], foreground=True, direct_io=True)
