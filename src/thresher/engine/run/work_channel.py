"""Work done by the loads as a channel: beats a second over all workers, so that lost work shows beside lost clock."""

from collections.abc import Iterator
from dataclasses import dataclass

from thresher.model.channels import Channel, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import PartKind
from thresher.model.port import Source, System, SystemKind
from thresher.sensors.probes import Probe, rates


@dataclass(slots=True)
class WorkBoard:
    """Where the run writes how many beats its workers have done; None while none runs."""

    beats: int | None = None


class WorkDone(Source):
    """The beats on the board, as text."""

    path = "beats of all workers, counted by the loads"

    def __init__(self, board: WorkBoard) -> None:
        """Follow a board."""
        self._board = board

    def read(self) -> bytes:
        """Return the beats so far. Raises SourceUnavailable while no load runs."""
        if self._board.beats is None:
            raise SourceUnavailable(self.path, "no load runs")
        return str(self._board.beats).encode()

    def close(self) -> None:
        """Nothing is held open."""


def work_channel(system: System, board: WorkBoard) -> Iterator[Probe]:
    """Yield the channel on this computer; the workers of a simulated machine are paced, and count for nothing here."""
    if system.kind is SystemKind.LIVE:
        source = WorkDone(board)
        channel = Channel("work/beats", "Work done", Quantity.WORK, PartKind.PROCESSOR, source.path, now_and_then=True)
        yield Probe(source, (channel,), rates(lambda content: (float(content),)), lambda: source)
