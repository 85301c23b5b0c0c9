"""The newest frame of a raster load, handed from the process that draws it to windows that show it.

One file in a private folder: four 32-bit numbers (count, width, height, number of the frame), then the pixels, rows
from the bottom, four bytes each. The count is odd while a frame is being written.
"""

import mmap
import os
import struct
from dataclasses import dataclass
from pathlib import Path

from thresher.model.errors import SourceUnavailable

_HEAD = struct.Struct("<4I")
_MOST_SIDE = 16384


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame: its number in the round, pixels across and up, and the pixels (R, G, B, A) from the bottom row on."""

    number: int
    width: int
    height: int
    pixels: bytes


class MirrorWriter:
    """The side that draws."""

    def __init__(self, path: str, size: tuple[int, int]) -> None:
        """Make a new file, for this user alone. Raises SourceUnavailable."""
        self.size = size
        length = _HEAD.size + size[0] * size[1] * 4
        try:
            Path(path).unlink(missing_ok=True)  # whoever looks at an older one keeps it as it was
            fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
            try:
                os.posix_fallocate(fd, 0, length)
                self._map = mmap.mmap(fd, length)
            finally:
                os.close(fd)
        except OSError as error:
            raise SourceUnavailable(path, error.strerror or str(error)) from error
        self._count = 0

    def show(self, number: int, pixels: bytes) -> None:
        """Show a frame from now on."""
        self._count += 1
        _HEAD.pack_into(self._map, 0, self._count & 0xFFFFFFFF, *self.size, number)
        self._map[_HEAD.size :] = pixels
        self._count += 1
        _HEAD.pack_into(self._map, 0, self._count & 0xFFFFFFFF, *self.size, number)


class MirrorReader:
    """The side that shows."""

    def __init__(self, path: str) -> None:
        """Open the file. Raises SourceUnavailable while there is none."""
        try:
            fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
        except OSError as error:
            raise SourceUnavailable(path, error.strerror or str(error)) from error
        try:
            length = os.fstat(fd).st_size
            if length < _HEAD.size:
                raise SourceUnavailable(path, "no frame is in it yet")
            self._map = mmap.mmap(fd, length, prot=mmap.PROT_READ)
        except (OSError, ValueError) as error:
            raise SourceUnavailable(path, str(error)) from error
        finally:
            os.close(fd)
        self._seen = 0

    def newest(self) -> Frame | None:
        """Return the newest frame, None when it is the one returned last, or while one is being written."""
        count, width, height, number = _HEAD.unpack_from(self._map, 0)
        if count == self._seen or count % 2 or not (0 < width <= _MOST_SIDE and 0 < height <= _MOST_SIDE):
            return None
        if _HEAD.size + width * height * 4 > len(self._map):
            return None
        pixels = self._map[_HEAD.size : _HEAD.size + width * height * 4]
        if _HEAD.unpack_from(self._map, 0)[0] != count:
            return None
        self._seen = count
        return Frame(number, width, height, pixels)
