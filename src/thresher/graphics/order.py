"""What a card is asked to do: the order that a worker process reads, and the sizes that suit a card."""

import msgspec

from thresher.model.card_port import CardUse
from thresher.model.sheet import Shape

UNITS = {
    CardUse.COMPUTE: ("million chains", 1e6),
    CardUse.RASTER: ("frames", 1.0),
    CardUse.MEMORY: ("GB", 1e9),
    CardUse.TRANSFER: ("GB", 1e9),
}
"""What the units of each use are called, and how many of them make one."""


class CardOrder(msgspec.Struct, frozen=True):
    """The card by its PCI address, or the software renderer for an empty one; what is done with it, and how.

    `amount` is in bytes of card memory and `size` in pixels of a frame, both as suits the card if left out; `folder` is
    where pictures of wrong frames go, `mirror` a file through which windows see the newest frame. `begun` is the clock
    (CLOCK_MONOTONIC) that the shape follows, so that cards and cores pulse in step.
    """

    use: CardUse
    pci: str = ""
    amount: int = 0
    size: tuple[int, int] | None = None
    folder: str = ""
    mirror: str = ""
    shape: Shape = Shape()
    begun: float = 0.0
    retention_s: float = 5.0


class Scale(msgspec.Struct, frozen=True):
    """How much work fits a card into a beat that is short enough for Stop."""

    lanes: int
    turns: int
    stalks: int
    layers: int
    size: tuple[int, int]
    most_words: int
    amount: int
    block: int


CARD = Scale(1 << 20, 512, 60_000, 12, (1920, 1080), 16 << 20, 1 << 30, 16 << 20)
SOFTWARE = Scale(1 << 13, 1536, 2500, 3, (480, 270), 2 << 20, 64 << 20, 4 << 20)
"""A renderer on the processor: the same work, so much less of it that a beat still ends within a tenth of a second."""
