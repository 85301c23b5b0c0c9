"""Records of an event log as plain values, through the package `evtx`; damaged records are counted and skipped."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, BinaryIO

import msgspec
from evtx import PyEvtxParser

from thresher.model.errors import InputError, InputFault

MAGIC = b"ElfFile\x00"
_MOST_DAMAGED = 5_000
_FIRST_YEAR, _LAST_YEAR = 1995, 2100
"""Before and after them a time is damaged; a clock that lost power restarts within them."""
_MOST_VALUES = 64
_MOST_TEXT = 4_000
_MOST_RECORD = 70_000
"""Binary data of a record in hexadecimal digits: one has at most 64 KiB."""


@dataclass(frozen=True, slots=True)
class Record:
    """One event: provider, number, Unix time, and its data by name, or by number from 1 where it has no names."""

    provider: str
    number: int
    at: float
    data: dict[str, str]

    def first(self, *names: str) -> str:
        """Return the first of some data that is there and not empty."""
        return next((text for name in names if (text := self.data.get(name, ""))), "")

    def value(self, *names: str) -> int | None:
        """Return data as a number, None where it is none."""
        text = self.first(*names)
        try:
            return int(text, 16) if text[:2].lower() == "0x" else int(text)
        except ValueError:
            return None


@dataclass(slots=True)
class Damage:
    """What could not be read: how many records, and what was said of the first ones."""

    records: int = 0
    words: list[str] = field(default_factory=list)

    def count(self, error: BaseException) -> None:
        """Count one."""
        self.records += 1
        if len(self.words) < 3:
            self.words.append(" ".join(str(error).split())[:200])


def read_records(stream: BinaryIO, source: str, damage: Damage) -> Iterator[Record]:
    """Yield the records of a log in their order. Raises InputError for a file that is no event log."""
    try:
        parser = PyEvtxParser(stream)
        rows = iter(parser.records_json())
    except Exception as error:
        raise InputError(source, [InputFault("header", f"not an event log that can be read: {error}")]) from error
    while damage.records < _MOST_DAMAGED:
        try:
            row: Any = next(rows)
            record = _record(msgspec.json.decode(row["data"]))
        except StopIteration:
            return
        except (KeyboardInterrupt, SystemExit, MemoryError):
            raise
        except BaseException as error:  # noqa: BLE001 (a panic of the package is no Exception)
            damage.count(error)
            if type(error).__name__ == "PanicException":
                return
            continue
        if record is None:
            damage.count(ValueError("a record without a provider, a number or a plausible time"))
        else:
            yield record


def _record(whole: Any) -> Record | None:
    event = whole.get("Event") if isinstance(whole, dict) else None
    system = event.get("System") if isinstance(event, dict) else None
    if not isinstance(event, dict) or not isinstance(system, dict):
        return None
    provider = _attribute(system.get("Provider"), "Name") or _attribute(system.get("Provider"), "EventSourceName")
    number = _text(system.get("EventID"))
    at = _time(_attribute(system.get("TimeCreated"), "SystemTime"))
    if not provider or not number.isdigit() or at is None:
        return None
    data: dict[str, str] = {}
    for part in ("EventData", "UserData"):
        _collect(event.get(part), data)
    return Record(provider, int(number), at, data)


def _attribute(node: Any, name: str) -> str:
    attributes = node.get("#attributes") if isinstance(node, dict) else None
    return _text(attributes.get(name)) if isinstance(attributes, dict) else ""


def _text(node: Any) -> str:
    if isinstance(node, dict):
        node = node.get("#text")
    return "" if node is None or isinstance(node, list | dict) else str(node)


def _time(text: str) -> float | None:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    if not _FIRST_YEAR <= moment.year <= _LAST_YEAR:
        return None
    return (moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)).timestamp()


def _collect(node: Any, data: dict[str, str], depth: int = 0) -> None:
    """Take values out of nested elements: by their name, those without one by their place."""
    if not isinstance(node, dict) or depth > 4:
        return
    for name, value in node.items():
        if len(data) >= _MOST_VALUES:
            return
        if name == "#attributes":
            continue
        if name in ("Data", "#text"):
            inner = value.get("#text") if isinstance(value, dict) else value
            for place, each in enumerate(inner if isinstance(inner, list) else [inner], 1):
                if len(data) < _MOST_VALUES:
                    data[str(place)] = _cut(str(place), _text(each))
        elif isinstance(value, dict) and "#text" not in value:
            _collect(value, data, depth + 1)
        else:
            data[name] = _cut(name, _text(value))


def _cut(name: str, text: str) -> str:
    return text[: _MOST_RECORD * 2] if name in ("RawData", "Binary") else text[:_MOST_TEXT]
