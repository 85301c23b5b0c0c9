"""Plain values: the registers of one machine check, and what they were decoded to."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor


class CheckPlace(StrEnum):
    """What kind of unit an error code names."""

    CACHE = "cache"
    TLB = "TLB"
    MEMORY_CONTROLLER = "memory controller"
    BUS = "bus and interconnect"
    INTERNAL = "internal"
    OTHER = "other"
    NONE = "none"


class Unit(StrEnum):
    """The hardware that an error was found in, as far as the registers report it; `units.toml` says what that means."""

    CORE = "core"
    CORE_CACHE = "cache of a core"
    SHARED_CACHE = "shared cache"
    MEMORY = "memory"
    MEMORY_CONTROLLER = "memory controller"
    MEMORY_CHANNEL = "memory channel"
    POISONED = "poisoned data"
    INTERCONNECT = "interconnect"
    POWER_CONTROL = "power control"
    SECURITY = "security processor"
    PCIE = "PCI Express"
    BOARD_LINKS = "USB, SATA and other links"
    OUTSIDE = "outside the processor"
    UNKNOWN = "unknown"


class CheckSeverity(StrEnum):
    """How bad a check is, in the manuals' own classes."""

    NONE = "no error"
    CORRECTED = "corrected"
    DEFERRED = "deferred"
    NO_ACTION = "uncorrected, no action required"
    ACTION_OPTIONAL = "uncorrected, action optional"
    ACTION_REQUIRED = "uncorrected, action required"
    FATAL = "uncorrected"


_COARSEST_BIT = 40
"""An address that is good to a tebibyte says nothing in a PC."""


@dataclass(frozen=True, slots=True)
class MachineCheck:
    """The registers of one machine check as they were reported; None where they were not.

    `core_type` is not known by the registers of processors that mix cores; names of banks hold for the fast ones
    there."""

    cpu: int | None
    bank: int | None
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
    mcg_cap: int | None = None


@dataclass(frozen=True, slots=True)
class BitField:
    """One named field of a register: its highest and lowest bit, its value, and what that says."""

    high: int
    low: int
    name: str
    value: int
    meaning: str


@dataclass(frozen=True, slots=True)
class Strip:
    """One register taken apart: its name, its value, its width in bits and its fields from the highest bit down."""

    name: str
    value: int
    fields: tuple[BitField, ...]
    width: int = 64


@dataclass(frozen=True, slots=True)
class PartShare:
    """A part that an error points at, and how strongly: shares of one error add up to 1."""

    part: PartKind
    share: float


@dataclass(frozen=True, slots=True)
class DecodedCheck:
    """What a machine check says.

    `unit_words` names the unit as the manual of this family does, empty where none is known; `level` is that of the
    cache or TLB; `corrected_count` None where the layout has no counter; `channel` and `chip_select` of memory where
    reported. `shares` and `causes` are what such an error points at.
    """

    valid: bool
    severity: CheckSeverity
    place: CheckPlace
    unit: Unit
    unit_words: str
    level: int | None
    words: str
    summary: str
    overflow: bool
    poison: bool
    address_valid: bool
    address_words: str
    corrected_count: int | None
    above_threshold: bool
    channel: int | None
    chip_select: int | None
    strips: tuple[Strip, ...]
    shares: tuple[PartShare, ...]
    causes: tuple[str, ...]


def bits(value: int, high: int, low: int) -> int:
    """Return the field of a register between two bits, both included."""
    return value >> low & (1 << (high - low + 1)) - 1


def exactness(lowest_bit: int) -> str:
    """Say how exact an address is whose bits from a given one up are valid."""
    if lowest_bit >= _COARSEST_BIT:
        return "not exact enough to name a place"
    size = 1 << lowest_bit
    for unit, name in ((1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")):
        if size >= unit:
            return f"exact to {size // unit} {name}"
    return f"exact to {size} bytes" if size > 1 else "exact to the byte"


def processor_family(cpuid: int) -> tuple[int, int]:
    """Return family and model of a CPUID signature (leaf 1, EAX): the extended fields count as both vendors define."""
    family, model = bits(cpuid, 11, 8), bits(cpuid, 7, 4)
    if family in (6, 15):
        model |= bits(cpuid, 19, 16) << 4
    if family == 15:
        family += bits(cpuid, 27, 20)
    return family, model


def vendor_of(cpuinfo: str) -> Vendor:
    """Return whose register layout a processor has, from the text of `/proc/cpuinfo`."""
    if "GenuineIntel" in cpuinfo:
        return Vendor.INTEL
    return Vendor.AMD if "AuthenticAMD" in cpuinfo or "HygonGenuine" in cpuinfo else Vendor.UNKNOWN
