"""The port to a graphics card that is worked by commands in this process: a simulated one.

Cards of this computer are worked through OpenGL by a process of their own (`thresher.graphics.worker`).
"""

from enum import StrEnum
from typing import Protocol, runtime_checkable

from thresher.model.errors import ThresherError


class CardUse(StrEnum):
    """What is done with a card."""

    COMPUTE = "card compute"
    RASTER = "raster"
    MEMORY = "card memory"
    TRANSFER = "transfer"


class Artefact(StrEnum):
    """What a person may see on the display while a scene is drawn."""

    FLICKER = "flicker"
    DOTS = "dots"
    STRIPES = "stripes"
    COLOURS = "wrong colours"
    TEARING = "tearing"
    BLACK = "black"


class CardLoss(StrEnum):
    """How a card was lost while it was worked."""

    HUNG = "it does not answer"
    RESET = "its driver reset it"
    GONE = "it is off the bus"


class CardLost(ThresherError):
    """A card that no longer answers to commands."""

    def __init__(self, loss: CardLoss, detail: str = "") -> None:
        """`detail` is what the driver said, if anything."""
        super().__init__(detail or loss.value)
        self.loss, self.detail = loss, detail


class CardPort(Protocol):
    """A card and the commands it takes. Every command raises CardLost once the card does not answer."""

    memory_bytes: int
    """Its own memory, of which `write` and `read` reach `words` words that stand for all of it."""
    words: int
    frame_size: tuple[int, int]

    def keep_busy(self, use: CardUse, share: float, edges_per_s: float = 0.0) -> None:
        """Send commands of one use for this share of the time from now on, 0 for none.

        `edges_per_s` is how often a second they come on from nothing."""
        ...

    def chains(self, seed: int, lanes: int, turns: int) -> bytes:
        """Return what chains of whole numbers come to, one 32-bit word a lane, lowest byte first."""
        ...

    def draw(self, number: int) -> bytes:
        """Draw a frame of the scene; return its pixels from the bottom row on, four bytes each (R, G, B, A)."""
        ...

    def write(self, begin: int, content: bytes) -> None:
        """Write 32-bit words into the card's memory from word `begin` on."""
        ...

    def read(self, begin: int, words: int) -> bytes:
        """Read words of the card's memory."""
        ...

    def send_back(self, content: bytes) -> bytes:
        """Send data over the card's link and return what comes back."""
        ...

    def frame_ms(self) -> float:
        """Return how long the card takes over a frame at its present clock, in ms."""
        ...

    def bytes_per_s(self) -> float:
        """Return how fast its link carries data at its present speed and width."""
        ...


@runtime_checkable
class CardOpener(Protocol):
    """A machine whose cards are worked in this process: a simulated one."""

    def open_card(self, pci: str) -> CardPort:
        """Open a card by its PCI address. Raises SourceUnavailable."""
        ...
