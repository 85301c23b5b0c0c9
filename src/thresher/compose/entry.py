"""What a person types about a block, and how it is shown: lengths, cores, amounts of memory, temperatures.

Used by the fields of the window and by the command line alike. Everything raises EntryError, whose text says what was
expected and what was found.
"""

import re

from thresher.compose.sheet_file import LONGEST_S
from thresher.model.sheet import clock_text

_UNITS = {"s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0, "hour": 3600.0, "hours": 3600.0, "d": 86400.0}
_PIECE = re.compile(r"(\d+(?:\.\d+)?)\s*([a-z]+)")
_CLOCK = re.compile(r"(?:(\d{1,3}):)?(\d{1,4}):([0-5]\d)")
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([KMG]i?B?|%)", re.IGNORECASE)
_BYTES = {"K": 1 << 10, "M": 1 << 20, "G": 1 << 30}
_MOST_CORE = 4095
ALL_FREE = "all free"


class EntryError(ValueError):
    """Something typed that cannot be understood."""


def parse_length(text: str) -> float:
    """Return seconds of such as `10 min`, `1 h 05 min`, `90 s`, `10m`, `0:40` (m:ss) or `1:30:00`."""
    words = text.strip().lower()
    if (clock := _CLOCK.fullmatch(words)) is not None:
        seconds = (int(clock[1] or 0) * 60 + int(clock[2])) * 60.0 + int(clock[3])
    else:
        pieces = _PIECE.findall(words)
        rest = _PIECE.sub("", words).strip()
        if not pieces or rest or any(unit not in _UNITS for _, unit in pieces):
            raise EntryError(f"expected such as 10 min, 1 h 30 min or 0:40:00, found {text.strip()!r}")
        seconds = sum(float(number) * _UNITS[unit] for number, unit in pieces)
    if seconds > LONGEST_S:
        raise EntryError(f"14 days at most, found {text.strip()}")
    return seconds


def length_text(seconds: float) -> str:
    """Return a length as it is spoken: 45 s, 10 min, 4 min 20 s, 1 h 05 min."""
    whole = round(seconds)
    if round(seconds, 3) != whole:
        return f"{round(seconds, 3)} s"
    hours, minutes, rest = whole // 3600, whole // 60 % 60, whole % 60
    if hours:
        return f"{hours} h" + (f" {minutes:02d} min" if minutes or rest else "") + (f" {rest} s" if rest else "")
    if minutes:
        return f"{minutes} min" + (f" {rest} s" if rest else "")
    return f"{rest} s"


def parse_start(text: str) -> float:
    """Return the second at which a block begins: `0`, `0:40` (minutes and seconds), `1:10:00` or a length."""
    words = text.strip()
    return 0.0 if words in ("", "0") else parse_length(words)


def start_text(seconds: float) -> str:
    """Return a place on the time axis, with parts of a second where there are any."""
    return clock_text(seconds) if round(seconds, 3) == round(seconds) else f"{round(seconds, 3)} s"


def parse_cores(text: str) -> tuple[int, ...]:
    """Return cores of such as `0-3,8`, in order; `all` or nothing gives an empty tuple, which stands for all."""
    words = text.strip().lower()
    if words in ("", "all"):
        return ()
    found: set[int] = set()
    for piece in words.split(","):
        match = re.fullmatch(r"\s*(\d{1,4})\s*(?:-\s*(\d{1,4})\s*)?", piece)
        if match is None or int(match[2] or match[1]) < int(match[1]) or int(match[2] or match[1]) > _MOST_CORE:
            raise EntryError(f"expected such as 0-3,8 or all, found {text.strip()!r}")
        found.update(range(int(match[1]), int(match[2] or match[1]) + 1))
    return tuple(sorted(found))


def cores_text(cores: tuple[int, ...]) -> str:
    """Return cores as `parse_cores` reads them; `all` for none."""
    ranges: list[list[int]] = []
    for core in sorted(cores):
        if ranges and core == ranges[-1][1] + 1:
            ranges[-1][1] = core
        else:
            ranges.append([core, core])
    return ",".join(str(a) if a == b else f"{a}-{b}" for a, b in ranges) or "all"


def parse_amount(text: str) -> tuple[float, int | None]:
    """Return share and bytes of such as `80 %`, `4 GiB`, `512 MiB` or `all free`."""
    words = text.strip()
    if words.lower() in (ALL_FREE, "all", ""):
        return 1.0, None
    match = _SIZE.fullmatch(words)
    if match is None or float(match[1]) <= 0:
        raise EntryError(f"expected such as 80 %, 4 GiB or {ALL_FREE}, found {words!r}")
    if match[2] == "%":
        if float(match[1]) > 100:
            raise EntryError(f"100 % at most, found {words}")
        return float(match[1]) / 100, None
    return 1.0, int(float(match[1]) * _BYTES[match[2][0].upper()])


def parse_hold(text: str) -> float | None:
    """Return the temperature in °C that is to be held, None for as hot as the cooling allows."""
    words = text.strip().lower().removesuffix("°c").removesuffix("c").removeprefix("hold at").strip()
    if words in ("", "-", "–", "no", "off") or words.startswith("as "):
        return None
    try:
        value = float(words)
    except ValueError:
        raise EntryError(f"expected a temperature such as 80 °C, found {text.strip()!r}") from None
    if not 40 <= value <= 110:
        raise EntryError(f"expected 40 to 110 °C, found {text.strip()}")
    return value


def parse_share(text: str) -> float:
    """Return a share of such as `50 %`, 0.02 to 1."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*%?\s*", text)
    if match is None or not 2 <= float(match[1]) <= 100:
        raise EntryError(f"expected 2 to 100 %, found {text.strip()!r}")
    return float(match[1]) / 100


def parse_period(text: str) -> float:
    """Return the seconds of a period such as `20 ms` or `2 s`."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*ms\s*", text)
    return float(match[1]) / 1000 if match is not None else parse_length(text)


def period_text(seconds: float) -> str:
    """Return a period as `parse_period` reads it."""
    return f"{seconds * 1000:g} ms" if seconds < 1 else length_text(seconds)
