"""The 16-bit error code at the low end of every status register, which both vendors' manuals define alike.

Intel 64 and IA-32 Architectures Software Developer's Manual, volume 3B, chapter "Machine-Check Architecture", sections
"Simple Error Codes" and "Compound Error Codes"; AMD64 Architecture Programmer's Manual, volume 2, section 9.3.3
"Error Codes".
"""

from dataclasses import dataclass

from thresher.events.machine_checks.registers import CheckPlace, Unit, bits
from thresher.model.vendors import Vendor

_TRANSACTIONS = ("instruction", "data", "generic", "")
_LEVELS = ("level 0", "level 1", "level 2", "generic level")
_REQUESTS = (
    "generic error",
    "generic read",
    "generic write",
    "data read",
    "data write",
    "instruction fetch",
    "prefetch",
    "eviction",
    "snoop",
)
_MEMORY_REQUESTS = ("generic", "memory read", "memory write", "address or command", "memory scrubbing")
_PARTICIPATION = ("local processor originated", "local processor responded", "observed as third party", "generic")
_SPACES = ("memory", "reserved", "input/output", "other")
_INTERNAL, _OTHER = CheckPlace.INTERNAL, CheckPlace.OTHER
_SIMPLE = {
    0x0000: (CheckPlace.NONE, Unit.UNKNOWN, "no error"),
    0x0001: (_OTHER, Unit.UNKNOWN, "an error of an unclassified kind"),
    0x0002: (_INTERNAL, Unit.CORE, "parity error in the microcode ROM"),
    0x0003: (_OTHER, Unit.OUTSIDE, "an error signalled to the processor from outside"),
    0x0004: (_INTERNAL, Unit.CORE, "functional redundancy check error"),
    0x0005: (_INTERNAL, Unit.CORE, "internal parity error"),
    0x0006: (_INTERNAL, Unit.CORE, "system management code ran outside its range"),
    0x0400: (_INTERNAL, Unit.CORE, "internal timer error"),
    0x0E0B: (CheckPlace.BUS, Unit.PCIE, "input/output error"),
}


@dataclass(frozen=True, slots=True)
class ErrorCode:
    """What an architectural error code says: kind of unit, cache or TLB level, memory channel, words."""

    place: CheckPlace
    unit: Unit
    level: int | None
    words: str
    channel: int | None = None


def decode_error_code(code: int, vendor: Vendor = Vendor.UNKNOWN) -> ErrorCode:
    """Decode the 16-bit error code. Bit 12 (correction report filtering) is left out of the comparison.

    Simple codes other than 0 and the memory-controller classes are defined by one vendor only; by the other's rules
    such codes name none, or are compound ones.
    """
    code &= 0xEFFF
    if code in _SIMPLE and (vendor is not Vendor.AMD or code == 0):
        place, unit, words = _SIMPLE[code]
        return ErrorCode(place, unit, None, words)
    level = code & 0b11
    transaction = _TRANSACTIONS[bits(code, 3, 2)]
    named = None if level == 3 else level
    if code & 0xFFFC == 0x000C:
        return ErrorCode(CheckPlace.CACHE, _cache_unit(level, vendor), named, f"cache hierarchy, {_LEVELS[level]}")
    if code & 0xFFF0 == 0x0010:
        return ErrorCode(CheckPlace.TLB, Unit.CORE_CACHE, named, f"{transaction} TLB, {_LEVELS[level]}".strip())
    if vendor is not Vendor.AMD and code & 0xFF80 in (0x0080, 0x0280):
        channel = None if code & 0xF == 0xF else code & 0xF
        unit = Unit.MEMORY_CHANNEL if bits(code, 6, 4) == 3 else Unit.MEMORY
        return ErrorCode(CheckPlace.MEMORY_CONTROLLER, unit, None, _memory_words(code), channel)
    if code & 0xFF00 == 0x0100:
        words = f"{transaction} cache, {_LEVELS[level]}, {_request(code)}".strip()
        return ErrorCode(CheckPlace.CACHE, _cache_unit(level, vendor), named, words)
    if code & 0xF800 == 0x0800:
        return ErrorCode(CheckPlace.BUS, Unit.INTERCONNECT, named, _bus_words(code))
    if code & 0xFC00 == 0x0400:
        return ErrorCode(_INTERNAL, Unit.CORE, None, "internal, unclassified")
    return ErrorCode(_OTHER, Unit.UNKNOWN, None, f"error code {code:#06x}, of no architectural class")


def _cache_unit(level: int, vendor: Vendor) -> Unit:
    """Say whose cache it is: levels 0 and 1 are the core's; level 2 is the core's on present processors."""
    if level <= 1:
        return Unit.CORE_CACHE
    if level == 2:
        # one vendor counts its caches from 0, so that its third, which all cores share, is level 2
        return Unit.SHARED_CACHE if vendor is Vendor.INTEL else Unit.CORE_CACHE
    return Unit.SHARED_CACHE


def _request(code: int) -> str:
    request = bits(code, 7, 4)
    return _REQUESTS[request] if request < len(_REQUESTS) else f"request type {request}"


def _memory_words(code: int) -> str:
    request, channel = bits(code, 6, 4), code & 0xF
    what = _MEMORY_REQUESTS[request] if request < len(_MEMORY_REQUESTS) else f"request type {request}"
    where = "channel unknown" if channel == 0xF else f"channel {channel}"
    extended = "memory used as cache" if code & 0x0200 else "memory controller"
    return f"{extended}, {what}, {where}"


def _bus_words(code: int) -> str:
    timed_out = ", timed out" if code & 0x100 else ""
    who, space = _PARTICIPATION[bits(code, 10, 9)], _SPACES[bits(code, 3, 2)]
    return f"interconnect, {_LEVELS[code & 0b11]}, {who}{timed_out}, {space}, {_request(code)}"
