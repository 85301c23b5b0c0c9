"""Frame times of cards under load as channels: the middle one and the longest of the last report of each card."""

import math
from collections.abc import Iterator, Sequence

import msgspec

from thresher.engine.card_jobs.access import FrameBoard
from thresher.graphics.cards import SOFTWARE, cards_of
from thresher.model.channels import Channel, Quantity
from thresher.model.parts import Part, PartKind
from thresher.model.port import Source, System, SystemKind
from thresher.sensors.probes import Probe


class FrameFigures(Source):
    """The newest frame times of one card as JSON: two numbers, or none while no load runs on it."""

    def __init__(self, board: FrameBoard, card: str) -> None:
        """Follow one card."""
        self.path = f"frames of {card}, timed by the load itself"
        self._board, self._card = board, card

    def read(self) -> bytes:
        """Return the middle and the longest frame time in ms."""
        times = self._board.times.get(self._card)
        return msgspec.json.encode([times.middle_ms, times.longest_ms] if times is not None else [])

    def close(self) -> None:
        """Nothing is held open."""


def frame_channels(system: System, parts: tuple[Part, ...], board: FrameBoard) -> Iterator[Probe]:
    """Yield the frame times of every card, of the software renderer where this computer has none."""
    if system.kind is SystemKind.TREE:
        return
    names = [card.name for card in cards_of(parts)]
    if not names and system.kind is SystemKind.LIVE:
        names = [SOFTWARE.name]
    for name in names:
        source = FrameFigures(board, name)
        channels = tuple(
            Channel(
                f"frames/{name}/{key}",
                f"{name} frame time, {words}",
                Quantity.LATENCY,
                PartKind.GRAPHICS,
                source.path,
                place=name,
                now_and_then=True,
            )
            for key, words in (("middle", "median"), ("longest", "longest"))
        )
        yield Probe(source, channels, _parse, lambda source=source: source)  # type: ignore[misc]


def _parse(content: bytes, _at: float) -> Sequence[float]:
    return msgspec.json.decode(content, type=list[float]) or [math.nan, math.nan]
