"""What work on a card comes to: beats, wrong results with their place, and how long frames took."""

from enum import StrEnum

import msgspec


class Source(StrEnum):
    """Which kind of work found a wrong result."""

    COMPUTE = "wrong compute result"
    MEMORY = "wrong card memory"
    PIXEL = "wrong pixel"
    TRANSFER = "wrong data after transfer"


class Wrong(msgspec.Struct, frozen=True):
    """One wrong result: its kind, the beat, its place, what was expected and found there (32-bit words), and words.

    `place` counts words of a result or of the card's memory, or pixels of a frame from its top left, row by row.
    """

    source: Source
    beat: int
    place: int
    expected: int
    found: int
    detail: str = ""


class Beat(msgspec.Struct, frozen=True):
    """One beat: how many units of work it did (see `Units`), how many results were wrong, and the first of them."""

    units: float
    wrong_count: int = 0
    wrong: tuple[Wrong, ...] = ()
    picture: str = ""


class FrameTimes(msgspec.Struct, frozen=True):
    """How long the beats of the last report took on the card and back, in ms: the middle one and the longest."""

    middle_ms: float
    longest_ms: float
    recent_ms: tuple[float, ...] = ()


class CardReport(msgspec.Struct, frozen=True, omit_defaults=True):
    """How a load on a card stands: totals since its begin, wrong results since the last report, and how it ended.

    `renderer` and `software` come with the first report. `covered` are the bytes of card memory that are checked,
    `frame_width` the pixels of a row of the frames. `broke_off` marks the end of a worker that did not say
    why, `signal` which signal ended it, 0 for none.
    """

    renderer: str = ""
    software: bool = False
    beats: int = 0
    units: float = 0.0
    seconds: float = 0.0
    busy_s: float = 0.0
    wrong_count: int = 0
    wrong: tuple[Wrong, ...] = ()
    pictures: tuple[str, ...] = ()
    frames: FrameTimes | None = None
    covered: int = 0
    frame_width: int = 0
    reset: str = ""
    trouble: str = ""
    ended: bool = False
    broke_off: bool = False
    signal: int = 0


MOST_WRONG = 64
"""Wrong results of one beat that are named; the others are counted."""
