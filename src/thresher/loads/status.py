"""What a load reports about itself while it runs, beside findings: a value of its own a load."""

import msgspec


class MemoryStatus(msgspec.Struct, tag="memory", frozen=True):
    """How far a memory load has come. Bytes: taken by workers now, walked through in all passes so far, in the machine.

    `covered` is None where the kernel does not report which pages were taken; `pass_s` what the last pass took.
    """

    taken: int
    covered: int | None
    total: int
    passes: int
    pass_s: float
    locked: bool


class RoundTripStatus(msgspec.Struct, tag="round trips", frozen=True):
    """Core-to-core round trips: two logical CPUs and the shortest time between them in nanoseconds."""

    pairs: tuple[tuple[int, int, float], ...]


class RoundOffStatus(msgspec.Struct, tag="round-off", frozen=True):
    """Largest round-off of any worker: distance to a whole number, 0 to 0.5."""

    largest: float


class LoadedCard(msgspec.Struct, frozen=True):
    """How one graphics card does: what it has done in words, and its newest frames in ms (or beats, without a scene).

    `software` marks a renderer on the processor. `mirror` is the file through which its frames can be seen, empty where
    it draws none.
    """

    card: str
    words: str
    software: bool = False
    middle_ms: float | None = None
    longest_ms: float | None = None
    recent_ms: tuple[float, ...] = ()
    mirror: str = ""


class CardStatus(msgspec.Struct, tag="cards", frozen=True):
    """How the cards of a load do."""

    load: str
    cards: tuple[LoadedCard, ...]


class TextStatus(msgspec.Struct, tag="text", frozen=True):
    """Anything else, as a title and a line of text."""

    title: str
    text: str


LoadStatus = MemoryStatus | RoundTripStatus | RoundOffStatus | CardStatus | TextStatus
