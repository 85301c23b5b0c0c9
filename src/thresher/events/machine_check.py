"""Machine checks: putting the kernel's register lines together, and what `IA32_MCi_STATUS` means.

Sources: Intel 64 and IA-32 Architectures Software Developer's Manual, volume 3B, chapter "Machine-Check
Architecture" (status register layout, simple and compound error codes) and AMD64 Architecture Programmer's
Manual, volume 2, chapter 9 (layout of the bits that differ). The line formats are those of the kernel's
arch/x86/kernel/cpu/mce/core.c and drivers/edac/mce_amd.c.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum

from thresher.events.kernel_log import KernelRecord


class Vendor(StrEnum):
    """Whose register layout holds; the kernel prints its own number for the vendor (0, 2, 9)."""

    INTEL = "Intel"
    AMD = "AMD"
    UNKNOWN = "unknown"


class CheckPlace(StrEnum):
    """What kind of unit an error code names."""

    CACHE = "cache"
    TLB = "TLB"
    MEMORY_CONTROLLER = "memory controller"
    BUS = "bus and interconnect"
    INTERNAL = "internal"
    OTHER = "other"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class MachineCheck:
    """The registers of one machine check as the kernel logged them; None where it printed none."""

    cpu: int
    bank: int
    status: int
    at: float | None
    mcg_status: int | None = None
    address: int | None = None
    misc: int | None = None
    syndrome: int | None = None
    ipid: int | None = None
    tsc: int | None = None
    vendor: Vendor = Vendor.UNKNOWN
    cpuid: int | None = None
    unix_time: int | None = None
    socket: int | None = None
    apic: int | None = None
    microcode: int | None = None
    raw: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class BitField:
    """One named field of a register: its highest and lowest bit, its value, and what that says."""

    high: int
    low: int
    name: str
    value: int
    meaning: str


@dataclass(frozen=True, slots=True)
class DecodedStatus:
    """`IA32_MCi_STATUS` in fields and words. `corrected_count` is None where the layout has no counter."""

    valid: bool
    overflow: bool
    uncorrected: bool
    enabled: bool
    address_valid: bool
    context_corrupt: bool
    deferred: bool
    corrected_count: int | None
    error_code: int
    model_code: int
    place: CheckPlace
    level: int | None
    summary: str
    fields: tuple[BitField, ...]


_CPU_LINE = re.compile(
    r"\[Hardware Error\]: CPU (\d+): Machine Check(?: Exception)?: ([0-9a-fA-F]+) Bank (\d+): ([0-9a-fA-F]{1,16})"
)
_REGISTER = re.compile(r"\b(TSC|ADDR|MISC|SYND|IPID) ([0-9a-fA-F]{1,16})\b")
_PROCESSOR_LINE = re.compile(
    r"\[Hardware Error\]: PROCESSOR (\d+):([0-9a-fA-F]+) TIME (\d+) SOCKET (\d+) APIC ([0-9a-fA-F]+)"
    r"(?: microcode ([0-9a-fA-F]+))?"
)
_AMD_LINE = re.compile(r"\[Hardware Error\]: CPU:(\d+) \([0-9a-f:]+\) MC(\d+)_STATUS\[[^\]]*\]: 0x([0-9a-fA-F]{1,16})")
_AMD_ADDRESS = re.compile(r"\[Hardware Error\]: Error Addr: 0x([0-9a-fA-F]{1,16})")
_VENDORS = {0: Vendor.INTEL, 2: Vendor.AMD, 9: Vendor.AMD}


class MachineCheckAssembler:
    """Joins the lines that the kernel prints for one machine check; feed it records in order."""

    def __init__(self) -> None:
        """Start with nothing pending."""
        self._pending: MachineCheck | None = None

    def feed(self, records: Iterable[KernelRecord]) -> list[MachineCheck]:
        """Take in records and return the machine checks that are complete now."""
        done: list[MachineCheck] = []
        for record in records:
            done += self._take(record)
        return done

    def flush(self) -> list[MachineCheck]:
        """Return what is pending although its last line never came."""
        pending, self._pending = self._pending, None
        return [pending] if pending else []

    def _take(self, record: KernelRecord) -> list[MachineCheck]:
        if start := _CPU_LINE.search(record.text):
            done = self.flush()
            self._pending = MachineCheck(
                cpu=int(start[1]), mcg_status=int(start[2], 16), bank=int(start[3]), status=int(start[4], 16),
                at=record.at, raw=(record.text,),
            )  # fmt: skip
            return done
        if start := _AMD_LINE.search(record.text):
            done = self.flush()
            self._pending = MachineCheck(
                cpu=int(start[1]), bank=int(start[2]), status=int(start[3], 16), at=record.at,
                vendor=Vendor.AMD, raw=(record.text,),
            )  # fmt: skip
            return done
        if self._pending is None:
            return []
        return self._continue(self._pending, record)

    def _continue(self, pending: MachineCheck, record: KernelRecord) -> list[MachineCheck]:
        if last := _PROCESSOR_LINE.search(record.text):
            self._pending = replace(
                pending, vendor=_VENDORS.get(int(last[1]), Vendor.UNKNOWN), cpuid=int(last[2], 16),
                unix_time=int(last[3]), socket=int(last[4]), apic=int(last[5], 16),
                microcode=int(last[6], 16) if last[6] else None, raw=(*pending.raw, record.text),
            )  # fmt: skip
            return self.flush()
        if address := _AMD_ADDRESS.search(record.text):
            self._pending = replace(pending, address=int(address[1], 16), raw=(*pending.raw, record.text))
        elif "[Hardware Error]" in record.text and (found := dict(_REGISTER.findall(record.text))):
            value = {name: int(text, 16) for name, text in found.items()}
            self._pending = replace(
                pending, tsc=value.get("TSC", pending.tsc), address=value.get("ADDR", pending.address),
                misc=value.get("MISC", pending.misc), syndrome=value.get("SYND", pending.syndrome),
                ipid=value.get("IPID", pending.ipid), raw=(*pending.raw, record.text),
            )  # fmt: skip
        return []


_TRANSACTIONS = ("instruction", "data", "generic", "")
_LEVELS = ("level 0", "level 1", "level 2", "generic level")
_REQUESTS = (
    "generic error", "generic read", "generic write", "data read", "data write", "instruction fetch", "prefetch",
    "eviction", "snoop",
)  # fmt: skip
_MEMORY_REQUESTS = ("generic", "memory read", "memory write", "address or command", "memory scrubbing")
_PARTICIPATION = ("local processor originated", "local processor responded", "observed as third party", "generic")
_SPACES = ("memory", "reserved", "input/output", "other")
_SIMPLE = {
    0x0000: (CheckPlace.NONE, "no error"),
    0x0001: (CheckPlace.OTHER, "an error of an unclassified kind"),
    0x0002: (CheckPlace.INTERNAL, "parity error in the microcode ROM"),
    0x0003: (CheckPlace.OTHER, "an error signalled to the processor from outside"),
    0x0004: (CheckPlace.INTERNAL, "functional redundancy check error"),
    0x0005: (CheckPlace.INTERNAL, "internal parity error"),
    0x0006: (CheckPlace.INTERNAL, "system management code ran outside its range"),
    0x0400: (CheckPlace.INTERNAL, "internal timer error"),
    0x0E0B: (CheckPlace.BUS, "input/output error"),
}


def decode_error_code(code: int) -> tuple[CheckPlace, int | None, str]:
    """Decode the 16-bit architectural error code: place, cache or TLB level, words.

    Bit 12 (correction report filtering) is left out of the comparison.
    """
    code &= 0xEFFF
    if code in _SIMPLE:
        place, words = _SIMPLE[code]
        return place, None, words
    level = code & 0b11
    transaction = _TRANSACTIONS[code >> 2 & 0b11]
    named_level = None if level == 3 else level
    if code & 0xFFFC == 0x000C:
        return CheckPlace.CACHE, named_level, f"cache hierarchy, {_LEVELS[level]}"
    if code & 0xFFF0 == 0x0010:
        return CheckPlace.TLB, named_level, f"{transaction} TLB, {_LEVELS[level]}".strip()
    if code & 0xFF80 in (0x0080, 0x0280):
        return CheckPlace.MEMORY_CONTROLLER, None, _memory_words(code)
    if code & 0xFF00 == 0x0100:
        request = code >> 4 & 0xF
        what = _REQUESTS[request] if request < len(_REQUESTS) else f"request type {request}"
        return CheckPlace.CACHE, named_level, f"{transaction} cache, {_LEVELS[level]}, {what}".strip()
    if code & 0xF800 == 0x0800:
        return CheckPlace.BUS, None, _bus_words(code)
    if code & 0xFC00 == 0x0400:
        return CheckPlace.INTERNAL, None, "internal, unclassified"
    return CheckPlace.OTHER, None, f"error code {code:#06x}, of no architectural class"


def _memory_words(code: int) -> str:
    request, channel = code >> 4 & 0b111, code & 0xF
    what = _MEMORY_REQUESTS[request] if request < len(_MEMORY_REQUESTS) else f"request type {request}"
    where = "channel not told" if channel == 0xF else f"channel {channel}"
    extended = "memory used as cache" if code & 0x0200 else "memory controller"
    return f"{extended}, {what}, {where}"


def _bus_words(code: int) -> str:
    timed_out = ", timed out" if code & 0x100 else ""
    request = code >> 4 & 0xF
    what = _REQUESTS[request] if request < len(_REQUESTS) else f"request type {request}"
    return f"interconnect, {_PARTICIPATION[code >> 9 & 0b11]}{timed_out}, {_SPACES[code >> 2 & 0b11]}, {what}"


def decode_status(status: int, vendor: Vendor) -> DecodedStatus:
    """Decode `IA32_MCi_STATUS`. Bits whose meaning depends on the vendor are read by `vendor`'s layout only."""

    def bit(number: int) -> bool:
        return bool(status >> number & 1)

    code, model_code = status & 0xFFFF, status >> 16 & 0xFFFF
    place, level, words = decode_error_code(code)
    counted = vendor is Vendor.INTEL and not bit(61)
    count = status >> 38 & 0x7FFF if counted else None
    deferred = vendor is Vendor.AMD and bit(44)
    fields = [
        BitField(63, 63, "valid", int(bit(63)), "the register holds an error" if bit(63) else "nothing is logged"),
        BitField(62, 62, "overflow", int(bit(62)), "further errors were lost" if bit(62) else "no error was lost"),
        BitField(61, 61, "uncorrected", int(bit(61)), "not corrected" if bit(61) else "corrected by the hardware"),
        BitField(60, 60, "enabled", int(bit(60)), "reporting was on" if bit(60) else "reporting was off"),
        BitField(59, 59, "misc valid", int(bit(59)), "MISC holds more" if bit(59) else "MISC holds nothing"),
        BitField(58, 58, "address valid", int(bit(58)), "ADDR holds an address" if bit(58) else "no address"),
        BitField(57, 57, "context corrupt", int(bit(57)), "the program's state is lost" if bit(57) else "state intact"),
    ]
    if vendor is Vendor.AMD:
        fields.append(BitField(44, 44, "deferred", int(deferred), "poisoned data not yet used" if deferred else "no"))
    if count is not None:
        fields.append(BitField(52, 38, "corrected count", count, f"{count} corrected since last cleared"))
    fields.append(BitField(31, 16, "model-specific code", model_code, "meaning depends on the processor model"))
    fields.append(BitField(15, 0, "error code", code, words))
    severity = "uncorrected" if bit(61) else "deferred" if deferred else "corrected"
    summary = f"{severity}: {words}" if bit(63) else "no valid error in this register"
    return DecodedStatus(
        bit(63), bit(62), bit(61), bit(60), bit(58), bit(57), deferred, count, code, model_code, place, level,
        summary, tuple(fields),
    )  # fmt: skip


def vendor_of(cpuinfo: str) -> Vendor:
    """Return whose register layout a processor has, from the text of `/proc/cpuinfo`."""
    if "GenuineIntel" in cpuinfo:
        return Vendor.INTEL
    return Vendor.AMD if "AuthenticAMD" in cpuinfo or "HygonGenuine" in cpuinfo else Vendor.UNKNOWN
