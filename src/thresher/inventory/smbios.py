"""The SMBIOS structure table (DMTF DSP0134, version 3): walking it, and what its structures say.

Firmware writes rubbish often enough that nothing here is fatal: a structure that is too short gives what it
has, a broken table gives what came before the break, and each oddity is reported with its place.
"""

import re
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

_END_OF_TABLE = 127
MEMORY_ARRAY = 16
MEMORY_DEVICE = 17

FILLER = re.compile(
    r"(?i)^(|to be filled by o\.?e\.?m\.?|default string|not (specified|available|provided|present)|unknown|none|n/?a|"
    r"o\.?e\.?m\.?|(system|chassis|base ?board|product) (manufacturer|vendor|product name|name|version|"
    r"serial( number)?|asset( tag)?)|x+|0+|0?1234567890?(ab(cdef)?)?|empty|undefined|\.+|-+|"
    r"(array\d+_)?(dimm\d*[ _]?)?(manufacturer|ser(ial)?_?num(ber)?|module_?part_?number|part_?num(ber)?|"
    r"asset_?tag(num)?|man|sn|pn)_?\d+|\[(empty|none)\])$"
)
"""What firmware writes where nobody filled anything in."""

MEMORY_TYPES = {
    0x0F: "SDRAM",
    0x12: "DDR",
    0x13: "DDR2",
    0x18: "DDR3",
    0x1A: "DDR4",
    0x1B: "LPDDR",
    0x1C: "LPDDR2",
    0x1D: "LPDDR3",
    0x1E: "LPDDR4",
    0x22: "DDR5",
    0x23: "LPDDR5",
}
"""Section 7.18.2."""

_FORM_FACTORS = {0x08: "proprietary", 0x09: "DIMM", 0x0B: "row of chips", 0x0D: "SODIMM", 0x10: "die"}
_CHASSIS = {
    3: "desktop",
    4: "low profile desktop",
    6: "mini tower",
    7: "tower",
    8: "portable",
    9: "laptop",
    10: "notebook",
    13: "all in one",
    17: "main server chassis",
    23: "rack mount",
    30: "tablet",
    31: "convertible",
    32: "detachable",
    35: "mini PC",
    36: "stick PC",
}
_SLOT_USE = {3: "free", 4: "in use", 5: "not available"}
_ECC = {3: "none", 4: "parity", 5: "single-bit ECC", 6: "multi-bit ECC", 7: "CRC"}
_DEVICE_KINDS = {3: "video", 4: "SCSI", 5: "Ethernet", 6: "token ring", 7: "sound", 8: "PATA", 9: "SATA", 10: "SAS"}


@dataclass(frozen=True, slots=True)
class Structure:
    """One structure: type, handle, formatted area with its header, and its strings."""

    kind: int
    handle: int
    area: bytes
    strings: tuple[str, ...]
    offset: int

    def number(self, offset: int, size: int) -> int | None:
        """Return a little-endian number of the formatted area, or None when the structure is too short."""
        if offset + size > len(self.area):
            return None
        return int.from_bytes(self.area[offset : offset + size], "little")

    def text(self, offset: int) -> str:
        """Return the string that a byte of the formatted area points at, stripped; empty when there is none."""
        index = self.number(offset, 1)
        if not index or index > len(self.strings):
            return ""
        return self.strings[index - 1].strip()


@dataclass(frozen=True, slots=True)
class FirmwareFact:
    """One field of a structure in words."""

    name: str
    value: str


@dataclass(frozen=True, slots=True)
class Described:
    """A structure in words: what it is about and its fields that say something."""

    title: str
    handle: int
    facts: tuple[FirmwareFact, ...]

    def get(self, name: str) -> str:
        """Return a field's value, empty when the firmware does not report it."""
        return next((fact.value for fact in self.facts if fact.name == name), "")


@dataclass(frozen=True, slots=True)
class MemoryDevice:
    """A memory slot (type 17) and the module in it; `size_mib` 0 means empty, None unknown.

    Speeds are MT/s, voltages V. `total_bits` above `data_bits` means that the module carries check bits.
    """

    slot: str
    bank: str
    size_mib: int | None
    kind: str
    form: str
    rated_mts: int | None
    configured_mts: int | None
    rated_v: float | None
    configured_v: float | None
    maker: str
    part_number: str
    serial: str
    data_bits: int | None
    total_bits: int | None

    @property
    def has_check_bits(self) -> bool:
        """Whether the module is wider than its data: it can carry ECC."""
        return bool(self.data_bits and self.total_bits and self.total_bits > self.data_bits)


def walk(table: bytes, oddities: list[str]) -> Iterator[Structure]:
    """Yield the structures of a table (section 6.1) until its end mark, the end of the bytes or a break."""
    offset = 0
    while offset < len(table):
        if offset + 4 > len(table):
            oddities.append(f"at byte {offset}: {len(table) - offset} bytes are left over, too few for a header")
            return
        kind, length, handle = struct.unpack_from("<BBH", table, offset)
        if length < 4 or offset + length > len(table):
            oddities.append(f"at byte {offset}: type {kind} claims a length of {length}, the table cannot be read on")
            return
        end = table.find(b"\0\0", offset + length)
        if end < 0:
            oddities.append(f"at byte {offset}: the strings of type {kind} have no end")
            end = len(table)
        raw = table[offset + length : end]
        strings = tuple(piece.decode("utf-8", "replace") for piece in raw.split(b"\0")) if raw else ()
        yield Structure(kind, handle, table[offset : offset + length], strings, offset)
        if kind == _END_OF_TABLE:
            return
        offset = end + 2


Field = tuple[str, Callable[[Structure], str]]


def _string(offset: int) -> Callable[[Structure], str]:
    def read(structure: Structure) -> str:
        text = structure.text(offset)
        return "" if FILLER.match(text) else text

    return read


def _number(offset: int, size: int, unit: str, absent: tuple[int, ...] = (0,)) -> Callable[[Structure], str]:
    def read(structure: Structure) -> str:
        value = structure.number(offset, size)
        return "" if value is None or value in absent else f"{value} {unit}".strip()

    return read


def _choice(offset: int, words: dict[int, str], mask: int = 0xFF) -> Callable[[Structure], str]:
    def read(structure: Structure) -> str:
        value = structure.number(offset, 1)
        return "" if value is None else words.get(value & mask, "")

    return read


def _processor_voltage(structure: Structure) -> str:
    """Section 7.5.4: bit 7 set means tenths of a volt, else three legacy voltages as bits."""
    value = structure.number(0x11, 1)
    if not value:
        return ""
    if value & 0x80:
        return f"{(value & 0x7F) / 10:.1f} V" if value & 0x7F else ""
    legacy = [volts for bit, volts in ((1, "5 V"), (2, "3.3 V"), (4, "2.9 V")) if value & bit]
    return " or ".join(legacy)


def _cache_size(structure: Structure) -> str:
    """Section 7.8: installed size in KiB or 64 KiB units, version 3.1 with 31 bits."""
    wide = structure.number(0x17, 4)
    if wide:
        return f"{(wide & 0x7FFFFFFF) * (64 if wide >> 31 else 1)} KiB"
    size = structure.number(0x09, 2)
    if not size:
        return ""
    return f"{(size & 0x7FFF) * (64 if size & 0x8000 else 1)} KiB"


def _array_size(structure: Structure) -> str:
    """Section 7.17: KiB, or bytes in the extended field."""
    kib = structure.number(0x07, 4)
    if kib == 0x80000000:
        wide = structure.number(0x0F, 8)
        return f"{wide / (1 << 30):g} GiB" if wide else ""
    return f"{kib / (1 << 20):g} GiB" if kib else ""


def _mapped_range(structure: Structure) -> str:
    """Section 7.20: KiB, or bytes in the extended fields."""
    start, end = structure.number(0x04, 4), structure.number(0x08, 4)
    if start is None or end is None:
        return ""
    if start == end == 0xFFFFFFFF:
        wide = structure.number(0x0F, 8), structure.number(0x17, 8)
        return f"{wide[0]:#x} to {wide[1]:#x}" if wide[0] is not None and wide[1] is not None else ""
    return f"{start * 1024:#x} to {end * 1024 + 1023:#x}"


def _probe_value(unit: str, scale: float) -> Callable[[Structure], str]:
    def read(structure: Structure) -> str:
        value = structure.number(0x14, 2)
        return "" if value is None or value == 0x8000 else f"{value * scale:g} {unit}"

    return read


# fmt: off
DESCRIBED: dict[int, tuple[str, tuple[Field, ...]]] = {
    0: ("firmware", (("maker", _string(4)), ("version", _string(5)), ("date", _string(8)))),
    1: (
        "system",
        (
            ("maker", _string(4)), ("name", _string(5)), ("version", _string(6)), ("serial", _string(7)),
            ("family", _string(0x1A)),
        ),
    ),
    2: ("board", (("maker", _string(4)), ("name", _string(5)), ("version", _string(6)), ("serial", _string(7)))),
    3: ("chassis", (("maker", _string(4)), ("kind", _choice(5, _CHASSIS, 0x7F)), ("serial", _string(7)))),
    4: (
        "processor socket",
        (
            ("socket", _string(4)), ("maker", _string(7)), ("version", _string(0x10)), ("voltage", _processor_voltage),
            ("external clock", _number(0x12, 2, "MHz")), ("maximum speed", _number(0x14, 2, "MHz")),
            ("current speed", _number(0x16, 2, "MHz")), ("cores", _number(0x23, 1, "", (0, 0xFF))),
            ("threads", _number(0x25, 1, "", (0, 0xFF))),
        ),
    ),
    7: ("cache", (("socket", _string(4)), ("size", _cache_size))),
    9: ("slot", (("name", _string(4)), ("use", _choice(7, _SLOT_USE)))),
    16: (
        "memory array",
        (("error correction", _choice(6, _ECC)), ("largest size", _array_size), ("slots", _number(0x0D, 2, ""))),
    ),
    19: ("mapped addresses", (("range", _mapped_range),)),
    22: (
        "battery",
        (
            ("place", _string(4)), ("maker", _string(5)), ("serial", _string(7)), ("name", _string(8)),
            ("design capacity", _number(0x0A, 2, "mWh")), ("design voltage", _number(0x0C, 2, "mV")),
        ),
    ),
    26: ("voltage probe", (("name", _string(4)), ("nominal", _probe_value("mV", 1.0)))),
    28: ("temperature probe", (("name", _string(4)), ("nominal", _probe_value("°C", 0.1)))),
    39: (
        "power supply",
        (
            ("place", _string(5)), ("name", _string(6)), ("maker", _string(7)), ("serial", _string(8)),
            ("largest power", _number(0x0C, 2, "W", (0, 0x8000))),
        ),
    ),
    41: ("on-board device", (("name", _string(4)), ("kind", _choice(5, _DEVICE_KINDS, 0x7F)))),
}
# fmt: on
"""What each structure says, by the sections 7.1 to 7.42 of the standard: title, then fields with where to read them."""


def describe(structure: Structure) -> Described | None:
    """Return a structure in words, or None for types that say nothing about parts."""
    entry = DESCRIBED.get(structure.kind)
    if entry is None:
        return None
    title, fields = entry
    facts = tuple(FirmwareFact(name, value) for name, read in fields if (value := read(structure)))
    return Described(title, structure.handle, facts)


def _meant(text: str) -> str:
    return "" if FILLER.match(text) else text


def memory_device(structure: Structure) -> MemoryDevice:
    """Read a memory device (section 7.18)."""
    size = structure.number(0x0C, 2)
    if size == 0x7FFF:
        wide = structure.number(0x1C, 4)
        size = None if wide is None else wide & 0x7FFFFFFF
    elif size is None or size == 0xFFFF:
        size = None
    elif size & 0x8000:  # the unit is KiB
        size = (size & 0x7FFF) // 1024
    return MemoryDevice(
        slot=_meant(structure.text(0x10)),
        bank=_meant(structure.text(0x11)),
        size_mib=size,
        kind=MEMORY_TYPES.get(structure.number(0x12, 1) or 0, ""),
        form=_FORM_FACTORS.get(structure.number(0x0E, 1) or 0, ""),
        rated_mts=_speed(structure, 0x15, 0x54),
        configured_mts=_speed(structure, 0x20, 0x58),
        rated_v=_volts(structure, 0x22),
        configured_v=_volts(structure, 0x26),
        maker=_string(0x17)(structure),
        part_number=_string(0x1A)(structure),
        serial=_string(0x18)(structure),
        data_bits=_width(structure, 0x0A),
        total_bits=_width(structure, 0x08),
    )


def _speed(structure: Structure, offset: int, wide_offset: int) -> int | None:
    speed = structure.number(offset, 2)
    if speed == 0xFFFF:
        speed = structure.number(wide_offset, 4)
    return speed or None


def _volts(structure: Structure, offset: int) -> float | None:
    millivolts = structure.number(offset, 2)
    return millivolts / 1000 if millivolts else None


def _width(structure: Structure, offset: int) -> int | None:
    bits = structure.number(offset, 2)
    return None if bits in (None, 0, 0xFFFF) else bits
