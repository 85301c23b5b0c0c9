"""How the machine map lays out boxes and cells: heights, the grid of the cores, which parts beside the large ones."""

from dataclasses import dataclass

from PyQt6.QtCore import QRectF

from thresher.model.channels import Channel, Quantity
from thresher.model.parts import Inventory, Part, PartKind
from thresher.ui.stations.bench.map_picks import Target


@dataclass(frozen=True, slots=True)
class Sizes:
    """Heights in pixels: of a core's cell, the supply's box, the other boxes, and the gap between them."""

    cell: float
    power: float
    box: float
    gap: float


SIZES = (Sizes(42.0, 66.0, 56.0, 10.0), Sizes(30.0, 60.0, 42.0, 6.0), Sizes(24.0, 60.0, 24.0, 4.0))
"""From roomy boxes with two lines to low ones with one; the first that fits is taken."""


@dataclass(frozen=True, slots=True)
class CoreGrid:
    """How the cells of the cores are laid out; sizes in pixels."""

    columns: int
    rows: int
    cell_high: float
    gap: float


def core_grid(cores: int, cell_high: float) -> CoreGrid:
    """Return the grid for so many cores; more cores get smaller cells in more columns, up to eight rows of sixteen."""
    columns = min(4, max(1, cores)) if cores <= 16 else 8 if cores <= 64 else 16
    rows = max(1, -(-cores // columns))
    if cores <= 16:
        return CoreGrid(columns, rows, cell_high if rows <= 2 else max(18.0, cell_high * 2.3 / rows), 6.0)
    return CoreGrid(columns, rows, max(8.0, min(18.0, 2.6 * cell_high / rows)), 2.0)


@dataclass(frozen=True, slots=True)
class Drawn:
    """A part where it was drawn, for pointing at it."""

    part: Part
    area: QRectF
    core: int | None = None

    @property
    def target(self) -> Target:
        """What is picked here."""
        return Target(self.part.tag, self.part.kind, self.core)


_OTHER_KINDS = (PartKind.BATTERY, PartKind.NETWORK, PartKind.DISPLAY, PartKind.SOUND)
_MOST_OTHERS = 6


def other_parts(machine: Inventory) -> list[Part]:
    """Return the parts beside the large ones that there are checks for."""
    return [part for kind in _OTHER_KINDS for part in machine.parts_of(kind)][:_MOST_OTHERS]


def reading_words(channel: Channel, value: float | None) -> str:
    """Return a channel with its reading, as the map says it."""
    if value is None:
        return f"{channel.name}: no reading"
    digits = 0 if channel.quantity in (Quantity.FAN, Quantity.TEMPERATURE) else 2
    return f"{channel.name}: {value:.{digits}f} {channel.unit}"
