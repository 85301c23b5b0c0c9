"""Kernel logs as they are saved and passed on: `dmesg` text in its forms, system logs, journal export and JSON.

Sources of the forms: util-linux's manual page dmesg(1); systemd's "Journal Export Formats" and "Journal JSON Format";
RFC 3164 and RFC 5424 times of system logs; the kernel document admin-guide/pstore-blk and `printk`'s own prefixes.
Everything is read as a stream, one record in memory at a time.
"""

import calendar
import gzip
import io
import lzma
import re
import zlib
from collections.abc import Callable, Iterator
from datetime import date, datetime, timedelta, timezone
from typing import Protocol, cast

import msgspec

from thresher.events.kernel_log import KernelRecord, parse_kmsg

LONGEST_LINE = 1 << 16
"""Bytes of one line or field that are looked at; the rest of a longer one is skipped."""

_SINCE_BOOT = re.compile(r"\[ *(\d{1,10}\.\d{1,9})\](?: ?\[ *[TC]\d{1,10}\])? ?")
_HUMAN = re.compile(r"\[\w{3} (\w{3}) +(\d{1,2}) (\d\d):(\d\d):(\d\d) (\d{4})\] ?")
_DELTA = re.compile(r"\[(?: *\+\d{1,10}\.\d{1,9}|\w{3} ?\d{1,2} \d\d:\d\d)\] ?")
_LEVEL = re.compile(r"<(\d{1,3})>")
_FACILITY = re.compile(r"(?:kern|user|daemon|syslog|auth|local\d) *:(\w+) *: ?")
_ISO = re.compile(r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d):(\d\d)(?:[.,](\d{1,9}))?(Z|[+-]\d\d:?\d\d)? ?")
_SYSLOG = re.compile(r"(\w{3}) +(\d{1,2}) (\d\d):(\d\d):(\d\d)(?:\.\d{1,9})? (?=\S+ \S+:)")
_HOST = re.compile(r"\S+ ([\w./@-]{1,64})(?:\[\d{1,10}\])?: ?")
_PSTORE = re.compile(r"(?:Panic|Oops|Emergency|Shutdown|Unknown)#\d+ Part\d+")
_MONTHS = {name: number for number, name in enumerate(calendar.month_abbr) if name}
_LEVELS = {"emerg": 0, "alert": 1, "crit": 2, "err": 3, "warn": 4, "notice": 5, "info": 6, "debug": 7}


class ByteStream(Protocol):
    """What is read from: a file, a pipe, or something that unpacks one."""

    def read(self, size: int = -1, /) -> bytes:
        """Return up to so many bytes, none at the end."""
        ...

    def readline(self, size: int = -1, /) -> bytes:
        """Return a line with its end, or its first bytes when it is longer."""
        ...


class _JournalEntry(msgspec.Struct):
    """What is used of an entry of the journal; the values may be strings, lists of bytes, or null when too long."""

    message: str | list[int] | None = msgspec.field(default=None, name="MESSAGE")
    priority: str | None = msgspec.field(default=None, name="PRIORITY")
    transport: str | None = msgspec.field(default=None, name="_TRANSPORT")
    identifier: str | list[int] | None = msgspec.field(default=None, name="SYSLOG_IDENTIFIER")
    wall: str | None = msgspec.field(default=None, name="__REALTIME_TIMESTAMP")
    source_at: str | None = msgspec.field(default=None, name="_SOURCE_MONOTONIC_TIMESTAMP")
    at: str | None = msgspec.field(default=None, name="__MONOTONIC_TIMESTAMP")
    boot: str | None = msgspec.field(default=None, name="_BOOT_ID")


_JOURNAL = msgspec.json.Decoder(_JournalEntry)


class LogReader:
    """Reads one log. After it is through, `lines` is how many were there, `others` how many were of other programs.

    `damaged` counts lines that are in no form, such as half an entry of a journal.
    """

    def __init__(self, stream: ByteStream, today: date | None = None) -> None:
        """`today` gives the year where a form gives none: the newest that does not lie in the future."""
        self._stream = stream
        self._today = today or datetime.now().astimezone().date()
        self.lines = 0
        self.others = 0
        self.damaged = 0

    def records(self) -> Iterator[KernelRecord]:
        """Yield the records of the kernel, in the order of the file."""
        reader = unpacked(self._stream)
        start = reader.peek(64)[:64] if isinstance(reader, io.BufferedReader) else b""
        if start.startswith((b"__CURSOR=", b"__REALTIME_TIMESTAMP=")):
            yield from self._export(reader)
            return
        while True:
            raw = reader.readline(LONGEST_LINE)
            if not raw:
                return
            if not raw.endswith(b"\n"):
                _skip_line(reader, raw)
            self.lines += 1
            record = self._line(raw)
            if record is not None:
                yield record

    # ---- a line

    def _line(self, raw: bytes) -> KernelRecord | None:
        first = raw[:1]
        if first == b"{":
            return self._json(raw)
        if first.isdigit():
            parsed = parse_kmsg(raw)
            if isinstance(parsed, KernelRecord):
                return parsed
        text = raw.decode("utf-8", "replace").rstrip("\r\n\x00")
        if not text.strip() or _PSTORE.match(text):
            return None
        return self._text(text)

    def _text(self, text: str) -> KernelRecord | None:
        level: int | None = None
        if text[:1] == "<" and (found := _LEVEL.match(text)):
            level, text = int(found[1]) & 7, text[found.end() :]
        elif found := _FACILITY.match(text):
            level, text = _LEVELS.get(found[1]), text[found.end() :]
        if found := _SINCE_BOOT.match(text):
            rest = text[found.end() :]
            return self._of_kernel(_without_host(rest), float(found[1]), level, None)
        wall, text = self._wall(text)
        return self._of_kernel(_without_host(text) if wall is not None else text, None, level, wall)

    def _of_kernel(
        self, reported: tuple[str, str] | str, at: float | None, level: int | None, wall: float | None
    ) -> KernelRecord | None:
        """Return the record, or None for a line that another program wrote into the same log."""
        identifier, text = ("", reported) if isinstance(reported, str) else reported
        if identifier not in ("", "kernel"):
            self.others += 1
            return None
        if at is None and (inner := _SINCE_BOOT.match(text)):
            at, text = float(inner[1]), text[inner.end() :]
        return KernelRecord(None, at, level, text, wall)

    def _wall(self, text: str) -> tuple[float | None, str]:
        """Return Unix time and the rest of a line that begins with a time of day."""
        try:
            if text[:1] == "[":
                if found := _HUMAN.match(text):
                    month, day, hour, minute, second, year = found.groups()
                    moment = datetime(int(year), _MONTHS[month], int(day), int(hour), int(minute), int(second))  # noqa: DTZ001 (logs have no time zone)
                    return moment.timestamp(), text[found.end() :]
                if found := _DELTA.match(text):
                    return None, text[found.end() :]
            elif found := _ISO.match(text):
                return _iso_time(found), text[found.end() :]
            elif found := _SYSLOG.match(text):
                return self._without_year(found), text[found.end() :]
        except (KeyError, ValueError, OverflowError, OSError):
            self.damaged += 1
        return None, text

    def _without_year(self, found: "re.Match[str]") -> float:
        month, day, hour, minute, second = found.groups()
        parts = (_MONTHS[month], int(day), int(hour), int(minute), int(second))
        moment = datetime(self._today.year, *parts)  # noqa: DTZ001 (logs have no time zone)
        if moment.date() > self._today + timedelta(days=1):
            moment = datetime(self._today.year - 1, *parts)  # noqa: DTZ001 (logs have no time zone)
        return moment.timestamp()

    # ---- the journal

    def _json(self, raw: bytes) -> KernelRecord | None:
        try:
            entry = _JOURNAL.decode(raw)
        except (msgspec.DecodeError, UnicodeDecodeError):
            self.damaged += 1
            return None
        return self._entry(entry)

    def _entry(self, entry: _JournalEntry) -> KernelRecord | None:
        identifier = _as_text(entry.identifier)
        if entry.transport not in (None, "kernel") or (entry.transport is None and identifier not in ("", "kernel")):
            self.others += 1
            return None
        if entry.message is None:
            self.damaged += 1
            return None
        at, wall = _micros(entry.source_at) or _micros(entry.at), _micros(entry.wall)
        level = int(entry.priority) if entry.priority and entry.priority.isdigit() else None
        text = _as_text(entry.message).split("\n", 1)[0]
        return KernelRecord(None, at, level if level is None else level & 7, text, wall, entry.boot or "")

    def _export(self, reader: ByteStream) -> Iterator[KernelRecord]:
        """Yield the entries of a journal export: fields a line, or name, length and bytes; a blank line between."""
        fields: dict[str, str] = {}
        while True:
            raw = reader.readline(LONGEST_LINE)
            if not raw or raw == b"\n":
                if fields:
                    self.lines += 1
                    record = self._entry(msgspec.convert(fields, _JournalEntry))
                    fields = {}
                    if record is not None:
                        yield record
                if not raw:
                    return
                continue
            name, equals, value = raw.rstrip(b"\n").partition(b"=")
            if not equals:
                value = _binary_field(reader)
            elif not raw.endswith(b"\n"):
                _skip_line(reader, raw)
            fields[name.decode("ascii", "replace")] = value.decode("utf-8", "replace")


def _binary_field(reader: ByteStream) -> bytes:
    """Read a field that may hold any byte: 64-bit little-endian length, the bytes, a line feed."""
    length = int.from_bytes(reader.read(8), "little")
    value = reader.read(min(length, LONGEST_LINE))
    left = length - len(value)
    while left > 0 and (skipped := reader.read(min(left, LONGEST_LINE))):
        left -= len(skipped)
    reader.read(1)
    return value


def unpacked(stream: ByteStream) -> ByteStream:
    """Return the stream unpacked if it is packed with gzip or xz, as rotated logs are."""
    buffered = io.BufferedReader(cast(io.RawIOBase, stream), 1 << 18)
    magic = buffered.peek(6)[:6]
    if magic.startswith(b"\x1f\x8b"):
        return _Tolerant(cast(ByteStream, gzip.GzipFile(fileobj=buffered)))
    if magic.startswith(b"\xfd7zXZ\x00"):
        return _Tolerant(cast(ByteStream, lzma.LZMAFile(buffered)))
    return buffered


class _Tolerant:
    """A packed log that was cut off gives what could be unpacked, and then ends."""

    def __init__(self, inner: ByteStream) -> None:
        self._inner = inner

    def readline(self, size: int = -1, /) -> bytes:
        return self._guarded(lambda: self._inner.readline(size))

    def read(self, size: int = -1, /) -> bytes:
        return self._guarded(lambda: self._inner.read(size))

    def _guarded(self, action: Callable[[], bytes]) -> bytes:
        try:
            return action()
        except (EOFError, OSError, lzma.LZMAError, zlib.error):
            return b""


def _skip_line(reader: ByteStream, raw: bytes) -> None:
    while raw and not raw.endswith(b"\n"):
        raw = reader.readline(LONGEST_LINE)


def _without_host(text: str) -> tuple[str, str] | str:
    """Split `host program[1]: text` as system logs have it; a line without it stays whole."""
    found = _HOST.match(text)
    # a kernel line such as "usb 1-2: new device" has the same shape; only these words name a program
    if found and (found[1] == "kernel" or text[: found.end()].rstrip(": ").endswith("]")):
        return found[1], text[found.end() :]
    return text


def _iso_time(found: "re.Match[str]") -> float:
    year, month, day, hour, minute, second, fraction, zone = found.groups()
    moment = datetime(int(year), int(month), int(day), int(hour), int(minute), int(second))  # noqa: DTZ001 (logs have no time zone)
    if zone:
        digits = zone.replace(":", "")
        offset = 0 if zone == "Z" else int(digits[1:3]) * 60 + int(digits[3:5])
        sign = -1 if zone.startswith("-") else 1
        moment = moment.replace(tzinfo=timezone(timedelta(minutes=sign * offset)))
    return moment.timestamp() + (float(f"0.{fraction}") if fraction else 0.0)


def _micros(text: str | None) -> float | None:
    return int(text) / 1e6 if text and text.isdigit() and len(text) < 20 else None


def _as_text(value: str | list[int] | None) -> str:
    if isinstance(value, list):
        return bytes(each & 0xFF for each in value).decode("utf-8", "replace")
    return value or ""


def parse_log_text(text: str) -> Iterator[KernelRecord]:
    """Yield the kernel's records of a text in any form."""
    yield from LogReader(io.BytesIO(text.encode("utf-8", "replace"))).records()
