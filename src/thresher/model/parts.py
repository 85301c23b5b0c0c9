"""Parts, places and the facts known about them."""

from dataclasses import dataclass
from enum import StrEnum


class PartKind(StrEnum):
    """What a part is; its colour in the interface follows from it."""

    PROCESSOR = "processor"
    MEMORY = "memory"
    GRAPHICS = "graphics"
    DRIVE = "drive"
    POWER = "power"
    BOARD = "board"
    COOLING = "cooling"
    BATTERY = "battery"
    NETWORK = "network"
    SOUND = "sound"
    DISPLAY = "display"

    @property
    def word(self) -> str:
        """What a person calls such a part in a sentence."""
        return _WORDS.get(self, self.value)


_WORDS = {PartKind.GRAPHICS: "graphics card"}
"""Where the short name of the kind is not what a person calls the part."""


class BuiltInKind(StrEnum):
    """What else a machine has that can be tested, beside its parts."""

    TOUCH = "touch screen"
    CAMERA = "camera"
    CARD_READER = "card reader"
    OPTICAL = "optical drive"
    BACKLIGHT = "backlight"
    BLUETOOTH = "Bluetooth"
    CONTROLLER = "management controller"


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """One such thing: its kind, what it calls itself, and where that was read."""

    kind: BuiltInKind
    name: str
    source: str


class PartStatus(StrEnum):
    """What the evidence so far says about a part; each has a mark of its own shape."""

    UNTESTED = "untested"
    CLEARED = "cleared"
    IN_DOUBT = "in doubt"
    REPLACE = "replace"


@dataclass(frozen=True, slots=True)
class Fact:
    """One thing known about a part, and where it was read."""

    name: str
    value: str
    source: str


PCI_ADDRESS = "PCI address"
"""The fact of a part that names its place on the bus."""


@dataclass(frozen=True, slots=True)
class Part:
    """One physical thing that can be swapped: an instance with a tag, not a type."""

    tag: str
    kind: PartKind
    name: str
    place: str = ""
    facts: tuple[Fact, ...] = ()

    def fact(self, name: str) -> str:
        """Return the value of a fact, empty when it is not known."""
        return next((fact.value for fact in self.facts if fact.name == name), "")


@dataclass(frozen=True, slots=True)
class LogicalCpu:
    """One thread of a core as the kernel numbers it (`cpu`), with the core and package it belongs to.

    `core` is unique in the whole machine. `core_id` is the kernel's number, which starts over in each package; None
    where both are the same.
    """

    cpu: int
    core: int
    package: int
    core_id: int | None = None


@dataclass(frozen=True, slots=True)
class Doubt:
    """Something about a part that is not as it should be before any load has run, with its fault code."""

    code: str
    part: str
    kind: PartKind
    title: str
    detail: str


@dataclass(frozen=True, slots=True)
class AddressRange:
    """Physical addresses, both ends included, that firmware puts down to a memory slot; shared when interleaved."""

    slot: str
    low: int
    high: int
    interleaved: bool


@dataclass(frozen=True, slots=True)
class Inventory:
    """What a machine is: its parts, its threads, its empty memory slots, doubts, and what could not be found out.

    `identity` holds what distinguishes this machine from every other, the most lasting first; it is masked in whatever
    leaves the shop."""

    name: str
    simulated: bool
    parts: tuple[Part, ...]
    cpus: tuple[LogicalCpu, ...]
    unknown: tuple[Fact, ...] = ()
    empty_slots: tuple[str, ...] = ()
    doubts: tuple[Doubt, ...] = ()
    identity: tuple[Fact, ...] = ()
    memory_map: tuple[AddressRange, ...] = ()
    built_in: tuple[BuiltIn, ...] = ()

    @property
    def core_count(self) -> int:
        """Number of physical cores, over all packages."""
        return len({(cpu.package, cpu.core) for cpu in self.cpus})

    def core_of(self, cpu: int) -> int | None:
        """Return the core number that a logical CPU belongs to, or None when the kernel does not list it."""
        return next((each.core for each in self.cpus if each.cpu == cpu), None)

    def core_at(self, package: int, core_id: int) -> int | None:
        """Return the core that the kernel numbers `core_id` in a package, or None when it does not list it."""
        return next(
            (
                each.core
                for each in self.cpus
                if each.package == package and (each.core if each.core_id is None else each.core_id) == core_id
            ),
            None,
        )

    def parts_of(self, kind: PartKind) -> tuple[Part, ...]:
        """Return all parts of one kind, in the order they were found."""
        return tuple(part for part in self.parts if part.kind is kind)

    def has(self, kind: BuiltInKind) -> bool:
        """Whether something of a kind is built in."""
        return any(each.kind is kind for each in self.built_in)


@dataclass(frozen=True, slots=True)
class PartInstance:
    """One physical part with the tag that is written on it; `serial` is empty where the machine does not report it.

    `place` is where it was seen last, `part` the inventory's name for that place.
    """

    tag: str
    kind: PartKind
    name: str
    serial: str
    place: str
    part: str
