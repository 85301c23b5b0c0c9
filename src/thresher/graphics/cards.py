"""The graphics cards of a machine as things to be worked: their PCI address, their link, what hangs on them."""

import re
from collections.abc import Iterable
from dataclasses import dataclass

from thresher.model.parts import PCI_ADDRESS, Part, PartKind
from thresher.model.port import System, optional_number, optional_text

SOFTWARE_RENDERER = "software renderer"
"""What stands in for a card where there is none: it draws on the processor, and no card is tested."""
_SPEED = re.compile(r"(\d+(?:\.\d+)?) GT/s")
_PCI = "/sys/bus/pci/devices"


@dataclass(frozen=True, slots=True)
class Card:
    """A card by its part and PCI address; the software renderer has neither."""

    part: Part | None
    pci: str

    @property
    def name(self) -> str:
        """The kernel's name of the card."""
        return self.part.place if self.part is not None else SOFTWARE_RENDERER


SOFTWARE = Card(None, "")


def cards_of(parts: Iterable[Part]) -> tuple[Card, ...]:
    """Return the cards among a machine's parts."""
    return tuple(Card(part, part.fact(PCI_ADDRESS)) for part in parts if part.kind is PartKind.GRAPHICS)


@dataclass(frozen=True, slots=True)
class Link:
    """A PCIe link as it is negotiated now, and the most that card and port can both do: GT/s a lane and lanes."""

    speed: float
    width: int
    most_speed: float
    most_width: int

    @property
    def narrow(self) -> bool:
        """Whether it has fewer lanes than both ends could."""
        return self.width < self.most_width

    @property
    def slow(self) -> bool:
        """Whether it is slower than both ends could be; a link that is not worked saves power that way."""
        return self.speed < self.most_speed

    @property
    def words(self) -> str:
        """The link in words."""
        now, most = f"{self.width} lanes at {self.speed:g} GT/s", f"{self.most_width} at {self.most_speed:g} GT/s"
        return f"{now} of {most}" if self.narrow or self.slow else now


def read_link(system: System, pci: str) -> Link | None:
    """Return the link of a card now, None where it is not reported. It may wait for a card that does not answer."""
    folder = f"{_PCI}/{pci}"
    now = _end(system, folder, "current")
    most = _end(system, folder, "max")
    if now is None or most is None:
        return None
    above = system.resolve(folder).rpartition("/")[0]
    port = _end(system, above, "max")
    if port is not None:
        most = min(most[0], port[0]), min(most[1], port[1])
    return Link(*now, *most)


def _end(system: System, folder: str, which: str) -> tuple[float, int] | None:
    speed = _SPEED.match(optional_text(system, f"{folder}/{which}_link_speed"))
    width = optional_number(system, f"{folder}/{which}_link_width")
    return (float(speed[1]), width) if speed is not None and width in (1, 2, 4, 8, 12, 16, 32) else None


def is_off_the_bus(system: System, pci: str) -> bool:
    """Whether a card answers no more: its configuration space reads all ones, or it is not listed any more.

    PCI Local Bus Specification 3.0, 6.2.1: FFFFh is no vendor. It may wait for a card that does not answer.
    """
    if not pci:
        return False
    names = system.list(f"{_PCI}/{pci}")
    if not names:
        return True
    if "config" not in names:
        return False
    return system.read_start(f"{_PCI}/{pci}/config", 4)[:2] == b"\xff\xff"
