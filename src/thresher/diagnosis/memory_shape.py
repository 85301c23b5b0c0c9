"""The shape of all wrong words together: one cell, one bit lane, one address line, one row or region, everywhere.

What a single wrong word cannot show, many can: a bit that is wrong at addresses far apart is a line or a contact,
words wrong within a few kilobytes are a row, addresses that all differ from right ones in one bit are an address line.
"""

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from thresher.model.findings import Finding, WrongPlace

PAGE = 4096
_ROW = 64 << 10
_REGION = 64 << 20
_LANE_SHARE = 0.9
_MANY = 4


class ShapeOfErrors(StrEnum):
    """What wrong words have in common."""

    ONE_CELL = "one cell"
    ONE_WORD = "one word"
    BIT_LANE = "one bit lane"
    ADDRESS_LINE = "one address line"
    ROW = "one row"
    REGION = "one region"
    EVERYWHERE = "everywhere"


@dataclass(frozen=True, slots=True)
class MemoryShape:
    """The shape, in a sentence what it points at, how many different words, the bits, lowest and highest address.

    `physical` says whether the addresses are; else they are one process's own, and only differences mean something.
    """

    shape: ShapeOfErrors
    sentence: str
    words: int
    bits: tuple[int, ...]
    low: int
    high: int
    physical: bool


_POINTS_AT = {
    ShapeOfErrors.ONE_CELL: "a cell of one module",
    ShapeOfErrors.ONE_WORD: "a few cells beside each other, or what addresses them",
    ShapeOfErrors.BIT_LANE: "a data line: contact of the slot, pin of the module or of the processor",
    ShapeOfErrors.ADDRESS_LINE: "an address line of module, slot or board",
    ShapeOfErrors.ROW: "one row of one chip",
    ShapeOfErrors.REGION: "one chip or bank of one module",
    ShapeOfErrors.EVERYWHERE: "what all memory shares: its controller, its supply, or timings that are too tight",
}


def wrong_places(findings: Iterable[Finding]) -> list[WrongPlace]:
    """Return every wrong word that findings hold, each place once, with the bits of all its errors."""
    return [place for finding in findings for place in finding.places]


def shape_of(places: list[WrongPlace]) -> MemoryShape | None:
    """Return the shape of wrong words; None when there are none."""
    if not places:
        return None
    physical = all(place.physical is not None for place in places)
    by_address: dict[int, set[int]] = {}
    for place in places:
        address = place.physical if physical and place.physical is not None else place.virtual
        by_address.setdefault(address, set()).update(place.bits)
    addresses = sorted(by_address)
    bits = Counter(bit for mine in by_address.values() for bit in mine)
    shape = _shape(addresses, bits, by_address)
    many = len(addresses)
    where = f"{addresses[0]:#x}" if many == 1 else f"{addresses[0]:#x} to {addresses[-1]:#x}"
    kind = "physical" if physical else "virtual"
    named = ", ".join(str(bit) for bit in sorted(bits)[:8]) + (" and more" if len(bits) > 8 else "")
    sentence = (
        f"{many} word{'s' if many > 1 else ''} wrong, bit{'s' if len(bits) > 1 else ''} {named}, {kind} {where}: "
        f"{shape.value}, which points at {_POINTS_AT[shape]}"
    )
    return MemoryShape(shape, sentence, many, tuple(sorted(bits)), addresses[0], addresses[-1], physical)


def _shape(addresses: list[int], bits: "Counter[int]", by_address: dict[int, set[int]]) -> ShapeOfErrors:
    many, span = len(addresses), addresses[-1] - addresses[0]
    if many == 1:
        return ShapeOfErrors.ONE_CELL if len(bits) == 1 else ShapeOfErrors.ONE_WORD
    commonest = bits.most_common(1)[0]
    alone = sum(len(mine) == 1 for mine in by_address.values())
    if commonest[1] >= _LANE_SHARE * many and alone >= _LANE_SHARE * many and span >= _ROW:
        return ShapeOfErrors.BIT_LANE
    if many >= _MANY and _one_line(addresses):
        return ShapeOfErrors.ADDRESS_LINE
    if span < _ROW:
        return ShapeOfErrors.ROW
    return ShapeOfErrors.REGION if span < _REGION else ShapeOfErrors.EVERYWHERE


def _one_line(addresses: list[int]) -> bool:
    """Whether all addresses agree in one bit above a line of words while they differ widely in those around it.

    Half of all places are wrong then, those that have the dead line set (or those that have not).
    """
    both = addresses[0]
    either = addresses[0]
    for address in addresses[1:]:
        both &= address
        either |= address
    varying = both ^ either
    steady = [bit for bit in range(3, varying.bit_length()) if not varying >> bit & 1]
    # words are 8 bytes; a run of varying bits with exactly one steady bit inside it is a line that is dead
    return len(steady) == 1 and len(addresses) >= 1 << _MANY


def bad_pages(places: Iterable[WrongPlace]) -> tuple[int, ...]:
    """Return the physical addresses of the pages with wrong words, lowest first."""
    return tuple(sorted({place.physical // PAGE * PAGE for place in places if place.physical is not None}))


def boot_parameters(pages: tuple[int, ...]) -> str:
    """Return the kernel's own parameters that keep it off these pages, neighbours joined.

    Kernel document admin-guide/kernel-parameters: `memmap=nn[KMG]$ss[KMG]` marks a region as reserved.
    """
    ranges: list[tuple[int, int]] = []
    for page in pages:
        if ranges and page == ranges[-1][0] + ranges[-1][1]:
            ranges[-1] = (ranges[-1][0], ranges[-1][1] + PAGE)
        else:
            ranges.append((page, PAGE))
    return " ".join(f"memmap={size // 1024}K${begin:#x}" for begin, size in ranges)
