"""Unpacking a capture that somebody else may have made: nothing outside the folder, nothing followed, all in bounds.

Files and folders are made by the descriptors of their folders, so that no link is ever followed, not even one that the
archive has just put there. Links stay links: `TreeSystem` resolves them inside the tree. Devices, pipes and hard links
are left out. Everything is read to its end, so that the checksum of a compressed archive counts.
"""

import bz2
import contextlib
import gzip
import io
import lzma
import os
import stat
import tarfile
import zlib
from pathlib import Path, PurePosixPath
from typing import IO

from thresher.model.errors import InputError, InputFault

LARGEST = 256 << 20
"""Bytes that a capture may hold, unpacked."""
MOST_MEMBERS = 50_000
_MOST_DEPTH, _MOST_NAME, _MOST_PIECE = 40, 1024, 255
_MOST_AT_ONCE = 1 << 20
"""Bytes of one read: names and headers are shorter, contents are read in pieces."""
_PIECE = 1 << 16


class _Bounded(io.RawIOBase):
    """The unpacked stream of an archive: it ends with an error when it grows beyond all bounds."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream
        self._most = LARGEST + MOST_MEMBERS * 1024

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._stream.tell()

    def seek(self, offset: int, whence: int = os.SEEK_SET, /) -> int:
        if whence == os.SEEK_SET and offset > self._most:
            raise tarfile.ReadError(f"it unpacks to more than {LARGEST >> 20} MiB")
        return self._stream.seek(offset, whence)

    def read(self, size: int = -1, /) -> bytes:
        if not 0 <= size <= _MOST_AT_ONCE:
            raise tarfile.ReadError("a name or header of it is longer than any can be")
        if self._stream.tell() > self._most:
            raise tarfile.ReadError(f"it unpacks to more than {LARGEST >> 20} MiB")
        return self._stream.read(size)


def unpack(path: Path, root: Path) -> None:
    """Unpack an archive into an empty folder of ours. Raises InputError that names the member and what is wrong."""
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
        with os.fdopen(descriptor, "rb") as packed:
            if not stat.S_ISREG(os.fstat(descriptor).st_mode):
                raise InputError(str(path), [InputFault("capture", "it is not a regular file")])
            with _decompressed(packed) as stream:
                _unpack_stream(_Bounded(stream), path, root)
    except (tarfile.TarError, lzma.LZMAError, zlib.error, EOFError, OSError, ValueError) as error:
        raise InputError(str(path), [InputFault("capture", f"cannot be unpacked: {error}")]) from error


def _decompressed(packed: IO[bytes]) -> IO[bytes]:
    magic = packed.read(6)
    packed.seek(0)
    if magic.startswith(b"\x1f\x8b"):
        return gzip.GzipFile(fileobj=packed)  # type: ignore[return-value]  # a reader in all but its declared base
    if magic.startswith(b"BZh"):
        return bz2.BZ2File(packed)
    if magic.startswith(b"\xfd7zXZ\x00"):
        return lzma.LZMAFile(packed)
    return packed


def _unpack_stream(stream: _Bounded, path: Path, root: Path) -> None:
    size = 0
    top = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW)
    try:
        with tarfile.open(fileobj=stream, mode="r:") as tar:
            for number, entry in enumerate(tar):
                if number >= MOST_MEMBERS:
                    raise InputError(str(path), [InputFault("capture", f"holds more than {MOST_MEMBERS} members")])
                size += entry.size if entry.isreg() else 0
                if size > LARGEST:
                    raise InputError(str(path), [InputFault("size", f"holds more than {LARGEST >> 20} MiB")])
                _write(tar, entry, _pieces(entry, path), path, top)
        while stream.read(_PIECE):  # to the very end, where the checksum is
            pass
    finally:
        os.close(top)


def _pieces(entry: tarfile.TarInfo, path: Path) -> tuple[str, ...]:
    """Return the folders and the name of a member. Raises InputError for one that leads astray."""
    name = PurePosixPath(entry.name)
    pieces = tuple(piece for piece in name.parts if piece != ".")
    shown = entry.name if len(entry.name) <= 80 else f"{entry.name[:80]}…"
    if name.is_absolute() or ".." in pieces:
        raise InputError(str(path), [InputFault(shown, "leads outside the capture")])
    too_long = len(entry.name) > _MOST_NAME or any(len(os.fsencode(piece)) > _MOST_PIECE for piece in pieces)
    if too_long or len(pieces) > _MOST_DEPTH or len(entry.linkname) > _MOST_NAME:
        raise InputError(str(path), [InputFault(shown, "its name is too long or too deep")])
    return pieces


def _write(tar: tarfile.TarFile, entry: tarfile.TarInfo, pieces: tuple[str, ...], path: Path, top: int) -> None:
    if not pieces or not (entry.isreg() or entry.isdir() or entry.issym()):
        return
    folder = top
    try:
        for piece in pieces if entry.isdir() else pieces[:-1]:
            inner = _enter(folder, piece)
            if folder != top:
                os.close(folder)
            folder = inner
        if entry.issym():
            os.symlink(entry.linkname, pieces[-1], dir_fd=folder)
        elif entry.isreg():
            _write_file(tar, entry, pieces[-1], folder)
    except FileExistsError as error:
        raise InputError(str(path), [InputFault(entry.name, "is there twice")]) from error
    except NotADirectoryError as error:
        raise InputError(str(path), [InputFault(entry.name, "leads through a link or a file")]) from error
    finally:
        if folder != top:
            os.close(folder)


def _enter(folder: int, name: str) -> int:
    """Open a folder inside another, made if it is not there; never through a link."""
    with contextlib.suppress(
        FileExistsError
    ):  # made for another member; whether it is a folder shows when it is opened
        os.mkdir(name, 0o700, dir_fd=folder)
    return os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW, dir_fd=folder)


def _write_file(tar: tarfile.TarFile, entry: tarfile.TarInfo, name: str, folder: int) -> None:
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW
    with os.fdopen(os.open(name, flags, 0o600, dir_fd=folder), "wb") as out:
        content = tar.extractfile(entry)
        while content is not None and (piece := content.read(_PIECE)):
            out.write(piece)
