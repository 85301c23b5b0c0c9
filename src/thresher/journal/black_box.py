"""The black box: a ring file beside the job file with the last minutes at a higher rate.

Laid out once, with all its bytes on the disk, so that a row changes no metadata: 64 KiB of header, then rows of 1 KiB,
each a multiple of a drive's sector, so that a power cut spoils at most the one being written. Numbers are
little-endian.

Header: `THRBOX01`, the length of what follows (u32), its CRC-32 (u32), then JSON. Row: `ROW1`, CRC-32 of the rest
(u32), number from 1 (u64), machine time (f64), Unix time (f64), run (u32, 0 none), values (u16), workers (u16), rows
dropped before this one (u32), reserved (u32); then the values (f32, NaN for missing), and per worker its block (u16),
logical CPU (u16) and beats (u32). A row whose CRC does not fit is none.
"""

import math
import os
import struct
import zlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from thresher.model.channels import Channel
from thresher.model.endings import LastMoments, Moment, WorkerAt
from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_file, is_there

HEADER_BYTES = 64 << 10
ROW_BYTES = 1024
ROWS = 3_000
"""Five minutes at ten rows a second, 3 MB."""
MOST_CHANNELS = 100
MOST_WORKERS = 64
_PIECE = 4096
"""Laid out in pages: the kernel writes back as a whole what was written as one piece, whatever changes in it later."""
_MAGIC, _ROW_MAGIC = b"THRBOX01", b"ROW1"
_HEAD = struct.Struct("<8sII")
_ROW = struct.Struct("<4sIQddIHHII")
_WORKER = struct.Struct("<HHI")
_CRC_FROM = 8


class BoxHeader(msgspec.Struct, frozen=True):
    """Whose rows these are: boot, process, clocks when it began, and the channels of the values.

    `closed` says how the engine left it: empty while it is in use, so that whoever finds it so knows that nobody ended
    it in order; `asked_by` is the signal that asked it to end, 0 for none. `power_cycles` are those that drives had
    counted when it began, by serial number. `boot_wall` is the Unix time at which the boot began.
    `known_words` are the files of the kernel's last words that were there already, `session` is the login session that
    the program ran in, empty for none.
    """

    boot_id: str
    pid: int
    began_at: float
    began_wall: float
    boot_wall: float
    channels: tuple[Channel, ...]
    rows: int = ROWS
    row_bytes: int = ROW_BYTES
    closed: str = ""
    asked_by: int = 0
    power_cycles: dict[str, int] = {}
    watchdog_armed: bool = False
    known_words: tuple[str, ...] = ()
    session: str = ""


def box_path(job: Path) -> Path:
    """Return the black box of a job file."""
    return job.with_name(f"{job.name}.blackbox")


def pack_header(header: BoxHeader) -> bytes:
    """Return a header with its length and checksum. Raises ValueError for one that is too long."""
    body = msgspec.json.encode(header)
    if len(body) > HEADER_BYTES - _HEAD.size:
        raise ValueError(f"the header has {len(body)} bytes")
    return _HEAD.pack(_MAGIC, len(body), zlib.crc32(body)) + body


def pack_row(number: int, moment: Moment, dropped: int = 0) -> bytes:
    """Return one row; values and workers beyond what fits are left out."""
    values = moment.values[:MOST_CHANNELS]
    workers = moment.workers[:MOST_WORKERS]
    body = b"".join(
        (
            struct.pack(f"<{len(values)}f", *(math.nan if value is None else value for value in values)),
            *(_WORKER.pack(each.block, each.cpu, each.beats & 0xFFFFFFFF) for each in workers),
        )
    )
    head = _ROW.pack(
        _ROW_MAGIC, 0, number, moment.at, moment.wall, moment.run, len(values), len(workers), min(dropped, 1 << 31), 0
    )
    row = (head + body).ljust(ROW_BYTES, b"\0")
    return _ROW_MAGIC + struct.pack("<I", zlib.crc32(row[_CRC_FROM:])) + row[_CRC_FROM:]


def parse_row(row: bytes) -> tuple[int, Moment, int] | None:
    """Return number, moment and rows dropped before it; None for bytes that are no whole row."""
    if len(row) != ROW_BYTES or row[:4] != _ROW_MAGIC:
        return None
    _, crc, number, at, wall, run, many, crew, dropped, _ = _ROW.unpack_from(row)
    if crc != zlib.crc32(row[_CRC_FROM:]) or many > MOST_CHANNELS or crew > MOST_WORKERS:
        return None
    values = struct.unpack_from(f"<{many}f", row, _ROW.size)
    first = _ROW.size + 4 * many
    workers = tuple(WorkerAt(*_WORKER.unpack_from(row, first + _WORKER.size * index)) for index in range(crew))
    kept = tuple(None if math.isnan(value) else value for value in values)
    return number, Moment(at, wall, run, kept, workers), dropped


class BlackBox:
    """Writes the ring. One thread uses it."""

    def __init__(self, path: Path, header: BoxHeader) -> None:
        """Lay the file out. Raises EnvironmentFault for lack of room, or where a folder or device has that name."""
        self.path = path
        self._header = header
        self._number = 0
        if is_there(path) and not is_file(path):
            remedy = "Move it, or give the job file another name."
            raise EnvironmentFault(f"making the black box {path}", "something that is no file has this name", remedy)
        try:
            self._fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        except OSError as error:
            raise _cannot_write(path, error) from error
        try:
            size = HEADER_BYTES + ROWS * ROW_BYTES
            # every byte is written: rows of an earlier boot must not be taken for rows of this one, and what has its
            # place on the disk already needs no metadata later
            zeros = bytes(_PIECE)
            for offset in range(0, size, len(zeros)):
                os.pwrite(self._fd, zeros[: min(len(zeros), size - offset)], offset)
            self._write_header()
            os.fsync(self._fd)
        except OSError as error:
            os.close(self._fd)
            raise _cannot_write(path, error) from error

    def add(self, moment: Moment, dropped: int = 0, durable: bool = True) -> None:
        """Put a row in, on the disk when this returns where it is to be `durable`; it may block as long as the drive
        does.

        Raises OSError.
        """
        self._number += 1
        offset = HEADER_BYTES + (self._number - 1) % ROWS * ROW_BYTES
        os.pwrite(self._fd, pack_row(self._number, moment, dropped), offset)
        if durable:
            os.fdatasync(self._fd)

    def set_header(self, durable: bool = True, **changes: object) -> None:
        """Change the header, on the disk when this returns where it is to be `durable`. Raises OSError."""
        self._header = msgspec.structs.replace(self._header, **changes)
        self._write_header()
        if durable:
            os.fdatasync(self._fd)

    def _write_header(self) -> None:
        os.pwrite(self._fd, pack_header(self._header), 0)

    def close(self) -> None:
        """Let go of the file."""
        os.close(self._fd)


def _cannot_write(path: Path, error: OSError) -> EnvironmentFault:
    remedy = "Make room: 3 MB beside the job file."
    return EnvironmentFault(f"making the black box {path}", error.strerror or str(error), remedy)


def read_header(path: Path) -> BoxHeader | None:
    """Return the header of a black box alone; None when there is none or it is damaged. Raises EnvironmentFault."""
    if not is_file(path):
        return None
    try:
        with path.open("rb") as stream:
            return _parse_header(stream.read(HEADER_BYTES))
    except OSError as error:
        raise _cannot_read(path, error) from error


def _cannot_read(path: Path, error: OSError) -> EnvironmentFault:
    return EnvironmentFault(f"reading the black box {path}", error.strerror or str(error), "Look at the drive.")


def read_box(path: Path) -> tuple[BoxHeader, LastMoments] | None:
    """Return what a black box holds, oldest row first; None when there is none or its header is damaged.

    Raises EnvironmentFault when it cannot be read.
    """
    if not is_file(path):
        return None
    try:
        content = path.read_bytes()
    except OSError as error:
        raise _cannot_read(path, error) from error
    header = _parse_header(content)
    if header is None:
        return None
    rows = content[HEADER_BYTES:]
    found = [
        parsed
        for first in range(0, len(rows) - ROW_BYTES + 1, ROW_BYTES)
        if (parsed := parse_row(rows[first : first + ROW_BYTES])) is not None
    ]
    found.sort(key=lambda parsed: parsed[0])
    in_order = _unbroken(found)
    dropped = sum(parsed[2] for parsed in in_order)
    return header, LastMoments(header.channels, tuple(parsed[1] for parsed in in_order), dropped)


def _unbroken(found: Sequence[tuple[int, Moment, int]]) -> list[tuple[int, Moment, int]]:
    """Return the newest rows: those of the last turn of the ring; older ones that were left over are none of it."""
    newest = found[-1][0] if found else 0
    return [parsed for parsed in found if parsed[0] > newest - ROWS]


def _parse_header(content: bytes) -> BoxHeader | None:
    if len(content) < _HEAD.size:
        return None
    magic, length, crc = _HEAD.unpack_from(content)
    body = content[_HEAD.size : _HEAD.size + length]
    if magic != _MAGIC or len(body) != length or zlib.crc32(body) != crc:
        return None
    try:
        return msgspec.json.decode(body, type=BoxHeader)
    except msgspec.DecodeError:
        return None
