"""Logs from elsewhere: CSV with units and times, its columns matched to quantities once and remembered.

Guesses are made from the unit in a title (`[°C]`, `(MHz)`, `, V`) and from words in it; a person confirms or changes
them. What cannot be guessed is left out, and said.
"""

import csv
import hashlib
import io
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import numpy as np
import numpy.typing as npt

from thresher.model.channels import Channel, Quantity
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.regular_file import read_regular, shown_name

_MOST_BYTES = 512 << 20
_MOST_FAULTS = 12
_LARGEST = 1e12
_LONGEST_S = 366 * 86_400.0
_TOO_LONG = "more than a year after the first row; is this the column of times?"
"""Beyond any reading of a machine; what is larger is a broken cell."""
LEFT_OUT = ""

UNITS: dict[str, tuple[Quantity, float]] = {
    "°c": (Quantity.TEMPERATURE, 1.0),
    "c": (Quantity.TEMPERATURE, 1.0),
    "degc": (Quantity.TEMPERATURE, 1.0),
    "ghz": (Quantity.CLOCK, 1.0),
    "mhz": (Quantity.CLOCK, 1e-3),
    "v": (Quantity.VOLTAGE, 1.0),
    "mv": (Quantity.VOLTAGE, 1e-3),
    "w": (Quantity.POWER, 1.0),
    "mw": (Quantity.POWER, 1e-3),
    "a": (Quantity.CURRENT, 1.0),
    "ma": (Quantity.CURRENT, 1e-3),
    "rpm": (Quantity.FAN, 1.0),
    "%": (Quantity.USE, 1.0),
    "gb": (Quantity.MEMORY, 1.0),
    "gib": (Quantity.MEMORY, 1.0),
    "mb": (Quantity.MEMORY, 1 / 1024),
    "mib": (Quantity.MEMORY, 1 / 1024),
    "mb/s": (Quantity.RATE, 1.0),
    "ms": (Quantity.LATENCY, 1.0),
    "%rh": (Quantity.HUMIDITY, 1.0),
}
"""Units as logs write them, in small letters, with the quantity and the factor to its own unit."""

_PARTS = (
    (PartKind.GRAPHICS, r"gpu|graphic|vram|video"),
    (PartKind.DRIVE, r"ssd|hdd|drive|disk|nvme"),
    (PartKind.MEMORY, r"dimm|ram\b|memory|spd"),
    (PartKind.COOLING, r"fan|pump|coolant"),
    (PartKind.POWER, r"^[+-]?\d+(\.\d+)? ?v|rail|psu|supply"),
    (PartKind.PROCESSOR, r"cpu|core|package|tdie|tctl|ccd|proc"),
)
_TIME = re.compile(r"^\s*(date|time|timestamp|zeit|uhrzeit|datum)\b|^run time|^elapsed|^seconds?$|^t$", re.IGNORECASE)
_UNIT = re.compile(r"[\[(]\s*([^\])]{1,8}?)\s*[\])]\s*$|,\s*(\S{1,5})\s*$")
_CORE = re.compile(r"\bcore\s*#?(\d+)\b", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class ColumnMatch:
    """What a column is taken for; `quantity` is empty for one that is left out. `factor` brings it to our unit."""

    title: str
    name: str
    quantity: str = LEFT_OUT
    part: PartKind = PartKind.BOARD
    factor: float = 1.0


@dataclass(frozen=True, slots=True)
class ForeignLog:
    """A log as text: titles, rows of cells, and which columns hold the time (date and time may be two)."""

    name: str
    titles: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    time_columns: tuple[int, ...]
    decimal_comma: bool

    @property
    def key(self) -> str:
        """A digest of the titles: logs with the same ones are matched alike."""
        return hashlib.sha256("\n".join(self.titles).encode()).hexdigest()[:16]


@dataclass(frozen=True, slots=True)
class MatchedLog:
    """A log in our units: Unix times (n), values (n, channels) with NaN where a cell is empty."""

    channels: tuple[Channel, ...]
    wall: npt.NDArray[np.float64]
    values: npt.NDArray[np.float32]
    left_out: tuple[str, ...]


def read_log(path: Path) -> ForeignLog:
    """Read a CSV file. Raises InputError that says what is missing."""
    try:
        data = read_regular(path, _MOST_BYTES + 1)
    except OSError as error:
        raise InputError(str(path), [InputFault("file", error.strerror or str(error))]) from error
    if len(data) > _MOST_BYTES:
        raise InputError(str(path), [InputFault("size", f"holds more than {_MOST_BYTES >> 20} MiB")])
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("cp1252", "replace")  # what older programs write
    return parse_log(text, shown_name(path))


def parse_log(text: str, name: str) -> ForeignLog:
    """Parse CSV text: commas, semicolons or tabs; a first row of titles. Raises InputError."""
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    if not first.count(delimiter):
        fault = InputFault("line 1", "expected titles divided by commas, semicolons or tabs")
        raise InputError(name, [fault])
    try:
        table = [row for row in csv.reader(io.StringIO(text), delimiter=delimiter) if any(cell.strip() for cell in row)]
    except csv.Error as error:
        raise InputError(name, [InputFault("CSV", str(error))]) from error
    if not table:
        raise InputError(name, [InputFault("rows", "there are no titles and no readings, only dividers")])
    # an apostrophe before a sign keeps spreadsheets from taking a title for a formula; ours have it too
    titles = tuple(re.sub(r"^'(?=[=+@-])", "", title.strip()) for title in table[0])
    rows = tuple(tuple(cell.strip() for cell in row) for row in table[1:])
    if not rows:
        raise InputError(name, [InputFault("rows", "there are titles and no row of readings")])
    # some programs write the titles again at the end
    rows = tuple(row for row in rows if row[: len(titles)] != titles)
    times = tuple(place for place, title in enumerate(titles) if _TIME.search(title))[:2]
    if not times:
        expected = "expected a column of times, titled time, date or the like"
        raise InputError(name, [InputFault("titles", f"{expected}; found {', '.join(titles[:8])}")])
    cells = [cell for row in rows[:50] for place, cell in enumerate(row) if place not in times]
    comma = delimiter != "," and sum(bool(re.fullmatch(r"-?\d+,\d+", cell)) for cell in cells) > 0
    return ForeignLog(name, titles, rows, times, comma)


def guess(log: ForeignLog) -> tuple[ColumnMatch, ...]:
    """Return what each column that holds no time may be taken for."""
    return tuple(_guess_column(title) for place, title in enumerate(log.titles) if place not in log.time_columns)


def _guess_column(title: str) -> ColumnMatch:
    match = _UNIT.search(title)
    unit = (match[1] or match[2] or "").strip().lower() if match else ""
    name = title[: match.start()].strip(' "') if match and unit in UNITS else title.strip(' "')
    if unit not in UNITS:
        return ColumnMatch(title, name or title)
    quantity, factor = UNITS[unit]
    part = next((part for part, words in _PARTS if re.search(words, name, re.IGNORECASE)), PartKind.BOARD)
    if quantity is Quantity.FAN:
        part = PartKind.COOLING
    if quantity is Quantity.CLOCK and part is PartKind.GRAPHICS:
        return ColumnMatch(title, name, Quantity.FREQUENCY.value, part, factor * 1000)
    return ColumnMatch(title, name, quantity.value, part, factor)


def match_log(log: ForeignLog, columns: tuple[ColumnMatch, ...]) -> MatchedLog:
    """Bring a log into our units by what its columns are taken for. Raises InputError with the first faults."""
    known = {column.title: column for column in columns if column.quantity != LEFT_OUT}
    used = [place for place, title in enumerate(log.titles) if title in known and place not in log.time_columns]
    faults: list[InputFault] = []
    if not used:
        faults.append(InputFault("columns", "none is taken for anything; match at least one"))
    wall: list[float] = []
    values = np.full((len(log.rows), len(used)), np.nan, dtype=np.float32)
    for number, row in enumerate(log.rows):
        cells = [row[place] if place < len(row) else "" for place in log.time_columns]
        at = _parse_time(" ".join(cells), wall[0] if wall else None)
        if at is None or (wall and not wall[-1] <= at <= wall[0] + _LONGEST_S):
            why = "no time" if at is None else "before the row above" if at < wall[-1] else _TOO_LONG
            faults.append(InputFault(f"row {number + 2}", f"{why}: {' '.join(cells)!r}"))
        wall.append(wall[-1] if at is None and wall else at or 0.0)
        for column, place in enumerate(used):
            cell = row[place] if place < len(row) else ""
            value = _parse_number(cell, log.decimal_comma)
            if value is None and cell not in ("", "-", "N/A", "n/a", "nan", "NaN"):
                faults.append(
                    InputFault(
                        f"row {number + 2}, {log.titles[place]}",
                        f"expected a number below {_LARGEST:g}, found {cell!r}",
                    )
                )
            if value is not None:
                values[number, column] = value * known[log.titles[place]].factor
        if len(faults) >= _MOST_FAULTS:
            break
    if faults:
        raise InputError(log.name, faults)
    left = tuple(title for place, title in enumerate(log.titles) if place not in (*used, *log.time_columns))
    channels = tuple(_channel(log, known[log.titles[place]], place) for place in used)
    return MatchedLog(channels, np.array(wall), values, left)


def _channel(log: ForeignLog, column: ColumnMatch, place: int) -> Channel:
    core = _CORE.search(column.name) if column.part is PartKind.PROCESSOR else None
    return Channel(
        f"log/{place}",
        column.name,
        Quantity(column.quantity),
        column.part,
        f"{log.name}, column {place + 1}",
        (),
        int(core[1]) if core else None,
    )


_FORMATS = (
    "%Y-%m-%d %H:%M:%S",
    "%Y-%m-%d %H:%M:%S.%f",
    "%d.%m.%Y %H:%M:%S",
    "%d.%m.%Y %H:%M:%S.%f",
    "%m/%d/%Y %H:%M:%S",
    "%m/%d/%Y %H:%M:%S.%f",
    "%d/%m/%Y %H:%M:%S",
    "%H:%M:%S",
    "%H:%M:%S.%f",
)


def _parse_time(text: str, first: float | None) -> float | None:
    """Parse ISO 8601, the usual ways to write date and time, or seconds since the start; times of day continue over
    midnight when `first`, the time of the first row, is given."""
    if re.fullmatch(r"\d{1,12}([.,]\d+)?", text):
        return float(text.replace(",", "."))
    found: datetime | None = None
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        for form in _FORMATS:
            try:
                found = datetime.strptime(text, form)  # noqa: DTZ007 (logs have no time zone; local time is assumed)
                break
            except ValueError:
                continue
    if found is None:
        return None
    at = (found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp()
    if found.year == 1900 and first is not None and at < first:
        at += 86_400.0
    return at


def _parse_number(cell: str, comma: bool) -> float | None:
    text = cell.replace(",", ".") if comma else cell
    if not re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?", text):
        return None
    number = float(text)
    return number if abs(number) < _LARGEST else None


def encode_matches(columns: tuple[ColumnMatch, ...]) -> bytes:
    """Return matches as JSON, to be remembered."""
    return msgspec.json.encode(columns)


def decode_matches(data: bytes) -> tuple[ColumnMatch, ...]:
    """Return remembered matches. Raises InputError."""
    try:
        return msgspec.json.decode(data, type=tuple[ColumnMatch, ...])
    except msgspec.DecodeError as error:
        raise InputError("remembered columns", [InputFault("JSON", str(error))]) from error
