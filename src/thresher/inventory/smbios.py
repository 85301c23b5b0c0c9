"""The SMBIOS structure table (DMTF DSP0134): walking it, and the structures that name parts.

Firmware writes rubbish often enough that nothing here is fatal: a structure that is too short gives what
it has, a broken table gives what came before the break, and each oddity is told.
"""

import struct
from collections.abc import Iterator
from dataclasses import dataclass

_END_OF_TABLE = 127
MEMORY_DEVICE = 17

MEMORY_TYPES = {0x18: "DDR3", 0x1A: "DDR4", 0x1E: "LPDDR4", 0x22: "DDR5", 0x23: "LPDDR5"}
"""Section 7.18.2; the kinds found in machines that still come to a bench."""


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
class MemoryDevice:
    """A memory slot (type 17) and the module in it; `size_mib` 0 means empty, None unknown."""

    slot: str
    bank: str
    size_mib: int | None
    kind: str
    rated_mts: int | None
    configured_mts: int | None
    maker: str
    part_number: str


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


def memory_device(structure: Structure) -> MemoryDevice:
    """Read a memory device (section 7.18)."""
    size = structure.number(0x0C, 2)
    if size == 0x7FFF:
        size = structure.number(0x1C, 4)
    elif size is None or size == 0xFFFF:
        size = None
    elif size & 0x8000:  # the unit is KiB
        size = (size & 0x7FFF) // 1024
    kind = structure.number(0x12, 1) or 0
    return MemoryDevice(
        slot=structure.text(0x10),
        bank=structure.text(0x11),
        size_mib=size,
        kind=MEMORY_TYPES.get(kind, ""),
        rated_mts=structure.number(0x15, 2) or None,
        configured_mts=structure.number(0x20, 2) or None,
        maker=structure.text(0x17),
        part_number=structure.text(0x1A),
    )
