"""What should be in a machine, by invoice, sticker or the last visit, against what was found.

Only what matters to the repair is a doubt: something missing, less or slower. More than expected is none.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass

from thresher.inventory.identity import serial_of
from thresher.inventory.memory import counted_gib
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import Doubt, Inventory, Part, PartKind
from thresher.model.port import System

_UNITS_GIB = {
    "TB": 1024.0,
    "TIB": 1024.0,
    "T": 1024.0,
    "GB": 1.0,
    "GIB": 1.0,
    "G": 1.0,
    "MB": 1 / 1024,
    "MIB": 1 / 1024,
}
"""Memory is sold in powers of two whatever its label says."""
_MODULES = re.compile(r"(?:(\d+)\s*[x×*]\s*)?(\d+(?:[.,]\d+)?)\s*(TiB|TB|T|GiB|GB|G|MiB|MB)\b", re.IGNORECASE)
_SPEED = re.compile(r"\b(\d{3,5})\s*(?:MT/s|MHz)?\b", re.IGNORECASE)
_DRIVE_SIZE = re.compile(r"(\d+(?:[.,]\d+)?)\s*(TB|TIB|T|GB|GIB|G)\b", re.IGNORECASE)
_DRIVE_GB = {"TB": 1000.0, "T": 1000.0, "TIB": 1099.5, "GB": 1.0, "G": 1.0, "GIB": 1.0737}
_SIZE_TOLERANCE = 0.08
_SPEED_SHARE = 0.97
FIELDS = ("processor", "memory", "drives", "graphics")


@dataclass(frozen=True, slots=True)
class Expected:
    """What the technician says should be there; empty fields say nothing. Memory in GiB, speed in MT/s."""

    processor: str = ""
    memory_gib: float | None = None
    memory_mts: int | None = None
    drives: tuple[str, ...] = ()
    graphics: tuple[str, ...] = ()


def parse_expected(fields: dict[str, str]) -> Expected:
    """Parse the four fields as a person writes them: `Tern 8-460`, `2 x 16 GB 5600`, `1 TB Slipway, 500 GB`.

    Raises InputError for memory that gives no size; the other fields are words to be found in a name.
    """
    memory = fields.get("memory", "").strip()
    gib, mts = None, None
    if memory:
        sizes = _MODULES.findall(memory)
        if not sizes:
            raise InputError("expected memory", [InputFault("memory", f"expected a size, 2 x 16 GB, found {memory!r}")])
        gib = sum(
            int(count or 1) * float(size.replace(",", ".")) * _UNITS_GIB[unit.upper()] for count, size, unit in sizes
        )
        speeds = [int(number) for number in _SPEED.findall(_MODULES.sub(" ", memory))]
        mts = max((number for number in speeds if 200 <= number <= 20_000), default=None)
    return Expected(
        " ".join(fields.get("processor", "").split()),
        gib,
        mts,
        _listed(fields.get("drives", "")),
        _listed(fields.get("graphics", "")),
    )


def _listed(text: str) -> tuple[str, ...]:
    return tuple(filter(None, (" ".join(piece.split()) for piece in re.split(r"[,;\n+]", text))))


def expected_doubts(system: System, inventory: Inventory, expected: Expected) -> list[Doubt]:
    """Return what is missing, less or slower than expected."""
    doubts = []
    processors = inventory.parts_of(PartKind.PROCESSOR)
    if expected.processor and not any(_names(expected.processor, part.name) for part in processors):
        found = ", ".join(part.name for part in processors) or "none reported"
        detail = f"expected {expected.processor}, found {found}"
        doubts.append(Doubt("P-150", "processor", PartKind.PROCESSOR, "Another processor than expected", detail))
    doubts += _memory_doubts(system, inventory, expected)
    doubts += _missing(expected.drives, inventory.parts_of(PartKind.DRIVE), _drive_fits, "D-110", "drive")
    doubts += _missing(
        expected.graphics,
        inventory.parts_of(PartKind.GRAPHICS),
        lambda wanted, part: _names(wanted, part.name),
        "G-130",
        "graphics card",
    )
    return doubts


def _words(text: str) -> set[str]:
    return set(re.findall(r"[a-z0-9]+", text.lower()))


def _names(wanted: str, name: str) -> bool:
    """Whether all words that a person gave are in a name."""
    return _words(wanted) <= _words(name)


def _memory_doubts(system: System, inventory: Inventory, expected: Expected) -> list[Doubt]:
    modules = inventory.parts_of(PartKind.MEMORY)
    doubts = []
    if expected.memory_gib:
        reported = [_gib(part) for part in modules]
        found = sum(size for size in reported if size) or counted_gib(system) or 0.0
        # a kernel's count lacks what firmware and graphics keep
        share = 0.999 if any(part.place for part in modules) else 0.85
        if found < expected.memory_gib * share:
            detail = f"expected {expected.memory_gib:g} GiB, found {found:.4g} GiB"
            doubts.append(Doubt("M-150", "memory", PartKind.MEMORY, "Less memory than expected", detail))
    slow = {doubt.part for doubt in inventory.doubts if doubt.code == "M-120"}
    for part in modules if expected.memory_mts else ():
        if part.tag in slow:
            continue  # that it is below its own rating says the same
        speed = re.match(r"\d+", part.fact("configured speed"))
        if speed and expected.memory_mts and int(speed[0]) < expected.memory_mts * _SPEED_SHARE:
            detail = f"{speed[0]} MT/s, expected {expected.memory_mts}; the memory profile is probably not set"
            doubts.append(Doubt("M-121", part.tag, PartKind.MEMORY, "Memory slower than expected", detail))
    return doubts


def _gib(part: Part) -> float | None:
    size = re.match(r"([\d.]+) GiB", part.fact("size"))
    return float(size[1]) if size else None


def _drive_fits(wanted: str, part: Part) -> bool:
    """A size fits within some per cent, since makers round; the remaining words must be in the drive's name."""
    size = _DRIVE_SIZE.search(wanted)
    rest = _DRIVE_SIZE.sub(" ", wanted)
    if size:
        reported = re.match(r"([\d.]+) GB", part.fact("size"))
        gigabytes = float(size[1].replace(",", ".")) * _DRIVE_GB[size[2].upper()]
        if reported is None or abs(float(reported[1]) - gigabytes) > gigabytes * _SIZE_TOLERANCE:
            return False
    # the whole name of a model often repeats its size
    return _words(rest) <= _words(f"{part.name} {part.fact('transport')} {part.fact('kind')}")


def _missing(
    wanted: tuple[str, ...], parts: tuple[Part, ...], fits: Callable[[str, Part], bool], code: str, word: str
) -> list[Doubt]:
    """Give each wanted thing a part of its own; what is left over is missing."""
    left = list(parts)
    doubts = []
    for each in sorted(wanted, key=lambda text: -len(text)):
        part = next((part for part in left if fits(each, part)), None)
        if part is not None:
            left.remove(part)
            continue
        kind = PartKind.DRIVE if word == "drive" else PartKind.GRAPHICS
        found = ", ".join(f"{part.name} {part.fact('size')}".strip() for part in parts) or "none"
        detail = f"expected {each}, found {found}"
        doubts.append(Doubt(code, kind.value, kind, f"{word.capitalize()} missing", detail))
    return doubts


_LASTING = (PartKind.MEMORY, PartKind.DRIVE, PartKind.GRAPHICS, PartKind.BATTERY)
_GONE_CODES = {PartKind.DRIVE: "D-120", PartKind.GRAPHICS: "G-140", PartKind.MEMORY: "M-160"}


def changes_since(before: tuple[Part, ...], inventory: Inventory, when: str) -> tuple[list[Doubt], list[str]]:
    """Compare with the parts of the last visit: what has gone as doubts, and sentences about what is new or moved."""
    doubts, news = [], []
    for kind in _LASTING:
        then = [part for part in before if part.kind is kind]
        now = list(inventory.parts_of(kind))
        gone = []
        for part in then:
            same = next((each for each in now if _same(part, each)), None)
            if same is None:
                gone.append(part)
                continue
            now.remove(same)
            if same.place != part.place:
                news.append(f"{same.name} is in {same.place}, at the last visit it was in {part.place}")
        for part in gone:
            place = f" in {part.place}" if part.place else ""
            if kind in _GONE_CODES:
                detail = f"{part.name}{place} was there on {when}"
                title = f"{kind.value.capitalize()} gone since the last visit"
                doubts.append(Doubt(_GONE_CODES[kind], kind.value, kind, title, detail))
            else:
                news.append(f"{part.name}{place} has gone since {when}")
        news += [f"{part.name} in {part.place or kind.value} is new since {when}" for part in now]
    return doubts, news


def _same(then: Part, now: Part) -> bool:
    serials = serial_of(then), serial_of(now)
    if all(serials):
        return serials[0] == serials[1]
    return then.name == now.name and (then.place == now.place or then.kind is not PartKind.MEMORY)
