"""Stop codes of the customer's other system: as typed from a photo or slip, and from the header of a crash dump.

Meanings are those that the system's maker publishes for drivers' authors; what they point at is the makers' judgement
(`stop_codes.toml`). The layout of the 64-bit kernel dump header is published with the same system's debugging
interfaces: signature "PAGE" "DU64", code at 38H, four parameters from 40H.
"""

import re
import struct
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from importlib import resources

from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml

FORMAT = "thresher-stop-codes/1"
HEADER_BYTES = 8192
"""Bytes of a dump's header; a dump shorter than that is cut off."""

_CODE = re.compile(r"(?i)\b0x([0-9a-f]{1,8})\b")
_PARAMETERS = re.compile(r"\(\s*((?:0x)?[0-9a-f`]{1,17}(?:\s*,\s*(?:0x)?[0-9a-f`]{1,17}){0,3})\s*\)", re.IGNORECASE)
_NAME = re.compile(r"\b[A-Z][A-Z0-9]+(?:_[A-Z0-9]+)+\b")
_STOP_WORDS = re.compile(r"(?i)\bstop(?:\s*(?:code|error|:))|\bbug\s?check\b|\bstop\s+0x")
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True, kw_only=True)
class StopCode:
    """One stop code: number, name, meaning, parts with shares that add up to 1 (none: software), what to do next.

    `parameters` says what the four parameters are, as far as that helps.
    """

    number: int
    name: str
    meaning: str
    shares: dict[PartKind, float]
    steps: tuple[str, ...]
    parameters: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Stop:
    """A stop as reported: the code, its parameters as far as known, and where it came from.

    `when` is the time in the dump (ISO 8601, UTC), `up_s` how long the system had run.
    """

    number: int
    parameters: tuple[int, ...]
    source: str
    when: str = ""
    up_s: float | None = None
    processors: int | None = None


def parse_stop_codes(text: str, source: str) -> dict[int, StopCode]:
    """Parse a directory of stop codes. Raises InputError with every fault."""
    faults: list[InputFault] = []
    found = convert_list(parse_toml(text, source, FORMAT), "codes", StopCode, faults)
    codes: dict[int, StopCode] = {}
    for entry in found:
        where = f"{entry.number:#x}"
        if entry.number in codes:
            faults.append(InputFault(where, "is given twice"))
        if entry.shares and abs(sum(entry.shares.values()) - 1.0) > 1e-6:
            faults.append(InputFault(where, f"shares add up to {sum(entry.shares.values()):g}, not 1"))
        codes[entry.number] = entry
    if faults:
        raise InputError(source, faults)
    return codes


def load_stop_codes() -> dict[int, StopCode]:
    """Return the directory that comes with the program."""
    text = resources.files("thresher.codes").joinpath("stop_codes.toml").read_text(encoding="utf-8")
    return parse_stop_codes(text, "stop_codes.toml")


def plain_number(number: int) -> int:
    """Return a code without the bit that only says that it was raised another way (1000007EH for 7EH)."""
    return number & 0x0FFFFFFF if number >> 28 == 1 else number


def read_stop(text: str, codes: dict[int, StopCode]) -> Stop | None:
    """Return the stop that a typed text names by number or by name, with parameters in brackets; None when none.

    A number alone counts only when the text speaks of a stop or has parameters: bare hexadecimal numbers are
    registers."""
    reported = _PARAMETERS.search(text)
    words = [each.strip().replace("`", "") for each in reported[1].split(",")] if reported else []
    parameters = tuple(int(each, 16) for each in words if re.fullmatch(r"(0[xX])?[0-9a-fA-F]+", each))
    head = text[: reported.start()] if reported else text
    by_name = {entry.name: entry.number for entry in codes.values()}
    named = next((by_name[name] for name in _NAME.findall(text.upper()) if name in by_name), None)
    if named is not None:
        return Stop(named, parameters, "typed")
    number = _CODE.search(head)
    if number is None or not (_STOP_WORDS.search(text) or reported):
        return None
    return Stop(int(number[1], 16), parameters, "typed")


def looks_like_dump(content: bytes) -> bool:
    """Whether bytes begin as a crash dump does, of either width."""
    return content[:8] in (b"PAGEDU64", b"PAGEDUMP")


def read_dump_header(content: bytes, source: str) -> Stop:
    """Return the stop in the header of a 64-bit kernel dump. Raises InputError with what is wrong."""
    if content[:8] == b"PAGEDUMP":
        message = "it is a dump of a 32-bit system; only 64-bit ones are read. Type the stop code in"
        raise InputError(source, [InputFault("header", message)])
    if content[:8] != b"PAGEDU64":
        raise InputError(source, [InputFault("header", "expected PAGEDU64 at its beginning")])
    if len(content) < 0x60:
        message = f"the dump ends after {len(content)} bytes, before its stop code"
        raise InputError(source, [InputFault("header", message)])
    (processors, number) = struct.unpack_from("<II", content, 0x34)
    parameters = struct.unpack_from("<4Q", content, 0x40)
    ticks = struct.unpack_from("<Q", content, 0xFA8)[0] if len(content) >= 0xFB0 else 0
    up = struct.unpack_from("<Q", content, 0x1030)[0] if len(content) >= 0x1038 else 0
    plausible = 0 < processors <= 4096
    return Stop(
        number,
        tuple(parameters),
        source,
        _when(ticks),
        up / 1e7 if 0 < up < 1 << 60 else None,
        processors if plausible else None,
    )


def _when(ticks: int) -> str:
    """Return a count of 100 ns since 1601 as a time, empty when it cannot be one."""
    if not 0 < ticks < 1 << 58:
        return ""
    moment = _EPOCH + timedelta(microseconds=ticks // 10)
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ") if 1995 <= moment.year <= 2100 else ""


def status_in(stop: Stop) -> int | None:
    """Return the machine-check status that a stop carries in its parameters, None when it carries none.

    Code 124H with a first parameter of 0 and code 9CH: the third and fourth parameter are its upper and lower half.
    """
    if len(stop.parameters) < 4:
        return None
    first, _, high, low = stop.parameters[:4]
    number = plain_number(stop.number)
    if (number == 0x124 and first == 0) or number == 0x9C:
        status = (high & 0xFFFFFFFF) << 32 | (low & 0xFFFFFFFF)
        return status or None
    return None


def bank_in(stop: Stop) -> int | None:
    """Return the bank of the machine check that a stop carries, where it reports it (first parameter of code 9CH)."""
    if plain_number(stop.number) == 0x9C and stop.parameters and stop.parameters[0] < 256:
        return stop.parameters[0]
    return None


_SOURCES_124 = {
    0: "a machine check",
    1: "a corrected machine check",
    2: "a corrected platform error",
    3: "an alarm interrupt",
    4: "a PCI Express error",
    5: "an error of unknown kind",
    6: "an initialisation error",
    7: "an error at boot",
    8: "an error reported through firmware",
    16: "a machine check of a device driver",
}


def source_words(stop: Stop) -> str:
    """Say what the first parameter of a hardware error says; empty for other codes."""
    if plain_number(stop.number) != 0x124 or not stop.parameters:
        return ""
    return _SOURCES_124.get(stop.parameters[0], f"an error source of kind {stop.parameters[0]:#x}")
