"""EDID of a display (VESA E-EDID standard, release A2, version 1.4): maker, model, size, modes.

Detailed timings of CTA-861 extension blocks (CTA-861, section 7.5) are read too; video codes are not.
"""

import struct
from dataclasses import dataclass

from thresher.model.errors import InputError, InputFault

_HEADER = bytes.fromhex("00ffffffffffff00")
_BLOCK = 128


@dataclass(frozen=True, slots=True)
class Mode:
    """A video mode in pixels and Hz."""

    width: int
    height: int
    rate_hz: float


@dataclass(frozen=True, slots=True)
class Edid:
    """What a display reports about itself; `size_cm` and `preferred` are None where it does not report.

    `modes` holds each resolution and rate once, the largest first.
    """

    maker: str
    product: int
    name: str
    serial: str
    year: int | None
    version: str
    size_cm: tuple[int, int] | None
    preferred: Mode | None
    extensions: int
    checksum_right: bool
    modes: tuple[Mode, ...] = ()


def parse_edid(data: bytes, source: str = "EDID") -> Edid:
    """Parse the base block. Raises InputError, which names the byte, when it is no EDID."""
    if len(data) < _BLOCK:
        fault = InputFault("length", f"expected at least {_BLOCK} bytes, found {len(data)}")
        raise InputError(source, [fault])
    if data[:8] != _HEADER:
        place = next(index for index in range(8) if data[index] != _HEADER[index])
        fault = InputFault(f"byte {place}", f"expected {_HEADER[place]:#04x} of the header, found {data[place]:#04x}")
        raise InputError(source, [fault])
    maker, product = struct.unpack_from(">H", data, 8)[0], struct.unpack_from("<H", data, 10)[0]
    letters = "".join(chr(ord("A") - 1 + (maker >> shift & 0x1F)) for shift in (10, 5, 0))
    texts = _texts(data)
    wide, high = data[21], data[22]
    return Edid(
        maker=letters if letters.isalpha() else "",
        product=product,
        name=texts.get(0xFC, ""),
        serial=texts.get(0xFF, ""),
        year=1990 + data[17] if data[17] >= 3 else None,
        version=f"{data[18]}.{data[19]}",
        size_cm=(wide, high) if wide and high else None,
        preferred=_detailed_timing(data[54:72]),
        extensions=data[126],
        checksum_right=sum(data[:_BLOCK]) % 256 == 0,
        modes=_modes(data),
    )


_ESTABLISHED = (
    (720, 400, 70),
    (720, 400, 88),
    (640, 480, 60),
    (640, 480, 67),
    (640, 480, 72),
    (640, 480, 75),
    (800, 600, 56),
    (800, 600, 60),
    (800, 600, 72),
    (800, 600, 75),
    (832, 624, 75),
    None,
    (1024, 768, 60),
    (1024, 768, 70),
    (1024, 768, 75),
    (1280, 1024, 75),
)
"""Established timings I and II (section 3.8), highest bit first; the one left out is interlaced."""
_ASPECTS = ((16, 10), (4, 3), (5, 4), (16, 9))
_CTA = 0x02


def _modes(data: bytes) -> tuple[Mode, ...]:
    """All modes of the base block and of CTA extensions, each once, the largest first."""
    bits = data[35] << 8 | data[36]
    found = {Mode(*each) for place, each in enumerate(_ESTABLISHED) if each and bits & 0x8000 >> place}
    for start in range(38, 54, 2):  # standard timings (section 3.9); 01 01 is an unused one
        first, second = data[start], data[start + 1]
        if first > 1 or (first == 1 and second != 1):
            across = (first + 31) * 8
            wide, high = _ASPECTS[second >> 6]
            found.add(Mode(across, across * high // wide, (second & 0x3F) + 60))
    starts = [54, 72, 90, 108]
    for block in range(_BLOCK, len(data) - _BLOCK + 1, _BLOCK):
        offset = data[block + 2] if data[block] == _CTA else 0
        if offset >= 4:
            starts += range(block + offset, block + _BLOCK - 18, 18)
    found |= {mode for start in starts if (mode := _detailed_timing(data[start : start + 18]))}
    return tuple(sorted(found, key=lambda mode: (-mode.width * mode.height, -mode.rate_hz)))


def _texts(data: bytes) -> dict[int, str]:
    """Display descriptors that hold a text (section 3.10.3): tag to text."""
    found = {}
    for start in (54, 72, 90, 108):
        block = data[start : start + 18]
        if block[:3] == b"\0\0\0" and block[3] in (0xFC, 0xFF, 0xFE):
            raw = block[5:18].split(b"\n")[0]
            found[block[3]] = "".join(chr(byte) if 32 <= byte < 127 else "?" for byte in raw).strip()
    return found


def _detailed_timing(block: bytes) -> Mode | None:
    """A detailed timing (section 3.10.2); the pixel clock is in units of 10 kHz."""
    clock = struct.unpack_from("<H", block, 0)[0]
    if not clock:
        return None
    across, blank_across = block[2] | (block[4] & 0xF0) << 4, block[3] | (block[4] & 0x0F) << 8
    down, blank_down = block[5] | (block[7] & 0xF0) << 4, block[6] | (block[7] & 0x0F) << 8
    total = (across + blank_across) * (down + blank_down)
    if not across or not down or not total:
        return None
    return Mode(across, down, round(clock * 10_000 / total, 2))
