"""Event logs of the other common desktop system, written by the published format of its files.

[MS-EVEN6], 2.2.12 "BinXml", and the layout of file, chunk and record as described with the same system. Elements are
written as they are, without templates; each name stands where it is used first in its chunk.
"""

import struct
import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

_CHUNK = 65536
_RECORDS_AT = 512
_EPOCH_S = 11644473600
NAMESPACE = "http://schemas.microsoft.com/win/2004/08/events/event"


@dataclass(frozen=True, slots=True)
class Event:
    """One event: who wrote it, its number, when (Unix seconds), and its data: named pairs, or values in order."""

    provider: str
    number: int
    at: float
    data: Sequence[tuple[str, str] | str] = ()
    level: int = 4
    channel: str = "System"
    computer: str = "HARBOUR-PC"
    user_data: Sequence[tuple[str, str]] = ()


_Node = tuple[str, Sequence[tuple[str, str]], Sequence["_Node | str"]]
"""An element: its name, its attributes, and the texts and elements inside it."""


class _Xml:
    """Binary XML of one record, at its place in the chunk."""

    def __init__(self, at: int, names: dict[str, int]) -> None:
        self.at, self.names, self.out = at, names, bytearray(b"\x0f\x01\x01\x00")

    @property
    def place(self) -> int:
        return self.at + len(self.out)

    def name(self, text: str) -> None:
        known = self.names.get(text)
        if known is not None:
            self.out += struct.pack("<I", known)
            return
        self.names[text] = self.place + 4
        hashed = 0
        for letter in text:
            hashed = (hashed * 65599 + ord(letter)) & 0xFFFFFFFF
        self.out += struct.pack("<IIHH", self.place + 4, 0, hashed & 0xFFFF, len(text))
        self.out += text.encode("utf-16-le") + b"\x00\x00"

    def value(self, text: str) -> None:
        self.out += b"\x05\x01" + struct.pack("<H", len(text)) + text.encode("utf-16-le")

    def element(self, node: _Node) -> None:
        """Write an element with all that is in it."""
        name, attributes, inside = node
        self.out += (b"\x41" if attributes else b"\x01") + b"\x00\x00\x00\x00"
        size_at = len(self.out) - 4
        self.name(name)
        if attributes:
            self.out += b"\x00\x00\x00\x00"
            list_at = len(self.out)
            for number, (key, text) in enumerate(attributes, 1):
                self.out += b"\x46" if number < len(attributes) else b"\x06"
                self.name(key)
                self.value(text)
            struct.pack_into("<I", self.out, list_at - 4, len(self.out) - list_at)
        if not inside:
            self.out += b"\x03"
        else:
            self.out += b"\x02"
            for each in inside:
                if isinstance(each, str):
                    self.value(each)
                else:
                    self.element(each)
            self.out += b"\x04"
        struct.pack_into("<I", self.out, size_at, len(self.out) - size_at - 4)


def _time_text(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def _xml(event: Event, number: int, at: int, names: dict[str, int]) -> bytes:
    xml = _Xml(at, names)
    system: list[_Node | str] = [
        ("Provider", [("Name", event.provider)], []),
        ("EventID", [], [str(event.number)]),
        ("Level", [], [str(event.level)]),
        ("TimeCreated", [("SystemTime", _time_text(event.at))], []),
        ("EventRecordID", [], [str(number)]),
        ("Channel", [], [event.channel]),
        ("Computer", [], [event.computer]),
    ]
    body: list[_Node | str] = [("System", [], system)]
    if event.data:
        data = [
            ("Data", [("Name", each[0])], [each[1]]) if isinstance(each, tuple) else ("Data", [], [each])
            for each in event.data
        ]
        body.append(("EventData", [], data))
    if event.user_data:
        results: list[_Node | str] = [(name, [], [text]) for name, text in event.user_data]
        body.append(("UserData", [], [("Results", [], results)]))
    xml.element(("Event", [("xmlns", NAMESPACE)], body))
    xml.out += b"\x00"
    return bytes(xml.out)


def _record(event: Event, number: int, at: int, names: dict[str, int]) -> bytes:
    xml = _xml(event, number, at + 24, names)
    size = (24 + len(xml) + 4 + 7) // 8 * 8
    ticks = round((event.at + _EPOCH_S) * 1e7)
    head = struct.pack("<4sIQQ", b"**\x00\x00", size, number, ticks)
    return head + xml + bytes(size - 28 - len(xml)) + struct.pack("<I", size)


def _chunk(records: list[bytes], first: int) -> bytes:
    body = b"".join(records)
    last_at = _RECORDS_AT + len(body) - len(records[-1])
    last = first + len(records) - 1
    head = bytearray(_RECORDS_AT)
    struct.pack_into(
        "<8sQQQQIIII",
        head,
        0,
        b"ElfChnk\x00",
        first,
        last,
        first,
        last,
        128,
        last_at,
        _RECORDS_AT + len(body),
        zlib.crc32(body),
    )
    struct.pack_into("<I", head, 124, zlib.crc32(bytes(head[:120]) + bytes(head[128:512])))
    return bytes(head) + body + bytes(_CHUNK - _RECORDS_AT - len(body))


def write_log(events: Iterable[Event]) -> bytes:
    """Return the file of events in their order."""
    chunks: list[bytes] = []
    records: list[bytes] = []
    names: dict[str, int] = {}
    at, first, number = _RECORDS_AT, 1, 0
    for event in events:
        number += 1
        record = _record(event, number, at, kept := dict(names))
        if at + len(record) > _CHUNK:
            chunks.append(_chunk(records, first))
            records, at, first = [], _RECORDS_AT, number
            record = _record(event, number, at, kept := {})
        names = kept
        records.append(record)
        at += len(record)
    if records:
        chunks.append(_chunk(records, first))
    head = bytearray(4096)
    struct.pack_into(
        "<8sQQQIHHHH", head, 0, b"ElfFile\x00", 0, max(0, len(chunks) - 1), number + 1, 128, 1, 3, 4096, len(chunks)
    )
    struct.pack_into("<I", head, 124, zlib.crc32(bytes(head[:120])))
    return bytes(head) + b"".join(chunks)
