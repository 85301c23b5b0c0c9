"""What work on graphics cards needs: the machine, the record, the newest frame times, and where frames are kept."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from thresher.engine.run.record import Record
from thresher.engine.run.team_findings import Storms
from thresher.graphics.cards import SOFTWARE, Card, cards_of
from thresher.graphics.results import FrameTimes
from thresher.model.channels import Channel
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Part, PartKind
from thresher.model.port import System, SystemKind
from thresher.model.private_folder import made_folder

_SAME_LOSS_S = 60.0
"""What the kernel reports and what we see of one hang come within this time."""


@dataclass(slots=True)
class FrameBoard:
    """The newest frame times by card, while a load runs on it; channels read them."""

    times: dict[str, FrameTimes] = field(default_factory=dict)


@dataclass(slots=True)
class CardAccess:
    """`parts` are the machine's parts by now; `frames` is the folder for pictures of wrong frames."""

    system: System
    record: Record
    parts: Callable[[], tuple[Part, ...]]
    board: FrameBoard
    storms: Storms
    frames: Path
    busy: set[str] = field(default_factory=set)

    def cards(self) -> tuple[Card, ...]:
        """Return the machine's cards; the software renderer where this computer has none."""
        found = cards_of(self.parts())
        return found or ((SOFTWARE,) if self.system.kind is SystemKind.LIVE else ())

    def frame_folder(self) -> Path | None:
        """Return the folder for frames, made where it is missing; None where it cannot be, which is said."""
        try:
            return made_folder(self.frames)
        except EnvironmentFault as error:
            self.note("Frames cannot be kept or shown", str(error), Severity.WARNING)
            return None

    @contextmanager
    def taken(self, name: str, doing: str) -> Iterator[None]:
        """Take a card and keep it once what is done inside has begun; give it back where that fails."""
        if self.system.kind is SystemKind.TREE:
            raise EnvironmentFault(doing, "this machine is a directory of files", "Do it on the machine itself.")
        if name in self.busy:
            raise EnvironmentFault(doing, f"{name} is being worked", "Stop that first, or wait for its end.")
        self.busy.add(name)
        try:
            yield
        except BaseException:
            self.release(name)
            raise

    def release(self, name: str) -> None:
        """Give a card back."""
        self.busy.discard(name)
        self.board.times.pop(name, None)

    def note(self, title: str, detail: str, severity: Severity = Severity.NOTE, code: str = "") -> None:
        """Write on the tape."""
        self.record.note(title, detail, severity, code, PartKind.GRAPHICS)

    def find(self, finding: Finding, temperature_c: float | None) -> None:
        """Keep a finding at the card's temperature; equal ones of one card are held together."""
        placed = replace(finding, at=self.system.now(), temperature_c=temperature_c)
        self.storms.take(placed, self.record.find)

    def has_reported(self, kind: FindingKind) -> bool:
        """Whether a finding of this kind came a moment ago: the kernel reports what happens to a card too."""
        since = self.system.now() - _SAME_LOSS_S
        return any(each.kind is kind and each.at >= since for each in self.record.findings)

    def readings(self, card: Card) -> list[tuple[Channel, float]]:
        """Return the newest readings of a card's own channels."""
        tick = self.record.tick
        if tick is None:
            return []
        return [
            (channel, value)
            for channel, value in zip(self.record.channels, tick.values, strict=True)
            if channel.kind is PartKind.GRAPHICS and channel.place == card.name and value is not None
            if not channel.distrust
        ]
