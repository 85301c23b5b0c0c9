"""What work on drives needs: the machine, the record, what the drives report, the shop, and what is shown of scans."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path

from thresher.drives.health import DriveHealth, DriveStatus, places_to_try
from thresher.drives.reading import Drive, drives_of
from thresher.engine.run.record import Record
from thresher.inventory.identity import serial_of
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, Severity
from thresher.model.parts import Part, PartKind
from thresher.model.port import System, SystemKind
from thresher.protocol.events import ScanEvent
from thresher.protocol.status import ScanStatus
from thresher.shop.drive_history import DriveScan, kept_scan

_MOST_FINDINGS = 5
"""Findings of one code on one drive; how many there were in all is in the words at the end of the work."""


class ScanBoard:
    """The scan that windows show: the one that runs, until it has ended; then the newest."""

    def __init__(self, record: Record) -> None:
        """Begin with none."""
        self._record = record
        self.status: ScanStatus | None = None

    def show(self, status: ScanStatus) -> None:
        """Show how a scan stands."""
        shown = self.status
        if shown is None or not shown.running or shown.drive == status.drive:
            self.status = status
            self._record.publish(ScanEvent(status))


@dataclass(slots=True)
class DriveAccess:
    """`parts` are the machine's parts by now, `health` what a drive reports about itself, `shop` its folder or None."""

    system: System
    record: Record
    parts: Callable[[], tuple[Part, ...]]
    health: Callable[[str], DriveHealth | None]
    shop: Path | None
    board: ScanBoard
    busy: set[str] = field(default_factory=set)

    def drives(self) -> tuple[Drive, ...]:
        """Return the machine's drives."""
        return drives_of(self.parts())

    def drive(self, name: str) -> Drive | None:
        """Return a drive by its kernel name."""
        return next((each for each in self.drives() if each.part.place == name), None)

    def why_dying(self, name: str) -> str:
        """Return why a drive is to be spared, empty where it is not."""
        health = self.health(name)
        if health is None or health.status not in (DriveStatus.COPY, DriveStatus.REPLACE):
            return ""
        return f"the drive is dying ({health.status.value}): {'; '.join(sign.words for sign in health.signs[:2])}"

    def take(self, name: str, doing: str) -> None:
        """Take a drive for one piece of work. Raises EnvironmentFault while another one has it."""
        if self.system.kind is SystemKind.TREE:
            raise EnvironmentFault(doing, "this machine is a directory of files", "Do it on the machine itself.")
        if name in self.busy:
            raise EnvironmentFault(doing, f"{name} is being read or tested", "Stop that first, or wait for its end.")
        self.busy.add(name)

    @contextmanager
    def taken(self, name: str, doing: str) -> Iterator[None]:
        """Take a drive and keep it once what is done inside has begun; give it back where that fails."""
        self.take(name, doing)
        try:
            yield
        except BaseException:
            self.release(name)
            raise

    def release(self, name: str) -> None:
        """Give a drive back."""
        self.busy.discard(name)

    def note(self, title: str, detail: str, severity: Severity = Severity.NOTE) -> None:
        """Write on the tape."""
        self.record.note(title, detail, severity, part=PartKind.DRIVE)

    def find(self, finding: Finding) -> None:
        """Keep a finding, unless the same is there, or five of its code on that drive are."""
        same = [
            each
            for each in self.record.findings
            if each.code == finding.code and each.place == finding.place and each.origin == finding.origin
        ]
        named = finding.address is not None
        if any(each.address == finding.address and (named or each.detail == finding.detail) for each in same):
            return
        if len(same) < _MOST_FINDINGS:
            self.record.find(replace(finding, at=self.system.now()))

    def places_to_try(self, drive: Drive) -> tuple[int, ...]:
        """Return the bytes of a drive that a sample has to read whatever else it reads. Raises InputError."""
        kept = self.kept(drive)
        return places_to_try(self.health(drive.part.place), kept.bad if kept is not None else ())

    def kept(self, drive: Drive) -> DriveScan | None:
        """Return what is kept of a drive's last scan. Raises InputError."""
        serial = serial_of(drive.part)
        return kept_scan(self.shop, drive.part.name, serial) if self.shop is not None and serial else None


class DriveJob:
    """What all pieces of work on a drive have in common."""

    drive: Drive

    @property
    def place(self) -> str:
        """The kernel's name of the drive."""
        return self.drive.part.place

    @property
    def tested(self) -> bool:
        """All that is done with a drive says something about it."""
        return True
