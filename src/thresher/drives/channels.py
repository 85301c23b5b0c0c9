"""The drives' own counters as channels beside those of hwmon: wear, spare blocks, errors, damaged transfers.

A drive is asked every minute at most, by a process of its own; between two answers the last one stands.
"""

import math
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import msgspec

from thresher.drives import ata, nvme
from thresher.drives.fields import DamagedPage
from thresher.drives.health import attribute_meanings
from thresher.drives.reading import Drive, Family, drives_of
from thresher.model.channels import Channel, Quantity
from thresher.model.drive_commands import AtaCommand, NvmeCommand
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Part, PartKind
from thresher.model.port import Source, System, SystemKind
from thresher.sensors.probes import Parse, Probe

_EVERY_S = 60.0
_DRIVES_A_MINUTE = 4
"""With more drives each is asked more seldom, so that asking takes no more of the processor."""


@dataclass(frozen=True, slots=True)
class _Figure:
    """One figure of a drive: the end of its channel's name, its key, its quantity, and its attribute (ATA)."""

    key: str
    words: str
    quantity: Quantity
    attribute: int = 0


USED, SPARE, MEDIA, PENDING, REALLOCATED, CRC = "used", "spare", "media errors", "pending", "reallocated", "link CRC"

_FIGURES: dict[Family, tuple[_Figure, ...]] = {
    Family.NVME: (
        _Figure(USED, "endurance used", Quantity.WEAR),
        _Figure(SPARE, "spare blocks left", Quantity.WEAR),
        _Figure(MEDIA, "media errors", Quantity.COUNT),
    ),
    Family.ATA: (
        _Figure(REALLOCATED, "reallocated sectors", Quantity.COUNT, 5),
        _Figure(PENDING, "pending sectors", Quantity.COUNT, 197),
        _Figure(CRC, "CRC errors on the link", Quantity.COUNT, 199),
    ),
}


class DriveFigures(Source):
    """The figures of one drive; reading gives them as JSON, from memory while they are fresh enough."""

    def __init__(self, system: System, drive: Drive, every_s: float) -> None:
        """Ask nothing yet."""
        self.path = drive.path
        self._system, self._drive, self._every_s = system, drive, every_s
        self._asked_at = -math.inf
        self._answer: bytes | SourceUnavailable = SourceUnavailable(drive.path, "not asked yet")

    def read(self) -> bytes:
        """Return the figures, asking the drive where they are too old. Raises SourceUnavailable."""
        now = self._system.now()
        if now - self._asked_at >= self._every_s:
            self._asked_at = now
            try:
                self._answer = msgspec.json.encode(self._ask())
            except SourceUnavailable as error:
                self._answer = error
            except DamagedPage as error:
                self._answer = SourceUnavailable(self.path, "; ".join(fault.message for fault in error.faults))
        if isinstance(self._answer, SourceUnavailable):
            raise self._answer
        return self._answer

    def _ask(self) -> dict[str, int]:
        port = self._system.open_drive(self.path)
        try:
            if self._drive.family is Family.NVME:
                health = nvme.parse_health(port.nvme(NvmeCommand.HEALTH))
                return {USED: health.used, SPARE: health.spare, MEDIA: health.media_errors}
            smart = ata.parse_smart(port.ata(AtaCommand.SMART_DATA).data)
        finally:
            port.close()
        raw = {each.number: each.raw for each in smart.attributes}
        found: dict[str, int] = {}
        for figure in _FIGURES[Family.ATA]:
            meaning = attribute_meanings().get(figure.attribute)
            count = meaning.count(raw[figure.attribute]) if meaning is not None and figure.attribute in raw else None
            if count is not None:
                found[figure.key] = count
        return found

    def close(self) -> None:
        """Nothing is held open."""


def find(system: System, parts: tuple[Part, ...], unknown: list[Fact]) -> Iterator[Probe]:
    """Yield the figures of every drive that may be asked; of the others note why not."""
    drives = [each for each in drives_of(parts) if each.family in _FIGURES]
    if system.kind is SystemKind.TREE:
        return
    every_s = _EVERY_S * max(1.0, len(drives) / _DRIVES_A_MINUTE)
    for drive in drives:
        name = drive.part.place
        if system.kind is SystemKind.LIVE and not os.access(drive.path, os.R_OK):
            why = "only root may ask a drive; its temperature may be there all the same"
            unknown.append(Fact(f"error counts of {name}", why, drive.path))
            continue
        figures = _FIGURES[drive.family]
        channels = tuple(
            Channel(
                f"drive/{name}/{each.key}",
                f"drive {name} {each.words}",
                each.quantity,
                PartKind.DRIVE,
                f"{drive.path}, its own count",
                place=name,
            )
            for each in figures
        )
        source = DriveFigures(system, drive, every_s)
        yield Probe(source, channels, _parse(figures), lambda source=source: source)  # type: ignore[misc]


def _parse(figures: tuple[_Figure, ...]) -> Parse:
    """Return a parse function to one value a channel; what a drive does not count is NaN."""

    def parse(content: bytes, _at: float) -> Sequence[float]:
        found = msgspec.json.decode(content, type=dict[str, int])
        return [float(found.get(each.key, math.nan)) for each in figures]

    return parse
