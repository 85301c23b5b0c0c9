"""The drives of the machine: asked beside the engine when the bench opens, their health held against them."""

import logging
import queue
import threading
from dataclasses import dataclass, replace
from pathlib import Path

from thresher.drives.file_systems import FileSystemSign, disk_of, read_file_systems
from thresher.drives.findings import CHARGES, by_code, growth_finding, health_findings
from thresher.drives.health import DriveHealth, DriveStatus, Sign, worst
from thresher.drives.reading import Drive, drives_of, read_health
from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.machine import MachineService
from thresher.inventory.identity import serial_of
from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.errors import ThresherError
from thresher.model.findings import Finding, Severity
from thresher.model.parts import Doubt, Fact, Inventory, PartKind
from thresher.model.port import System, SystemKind
from thresher.shop.drive_history import note_counts
from thresher.shop.scratch_files import remove_scratch_files

_LOG = logging.getLogger(__name__)
_MOST_COUNTED = 1000
_URGENT = {DriveStatus.COPY: "Copy the data off now", DriveStatus.REPLACE: "Copy the data off, then replace the drive"}


@dataclass(frozen=True, slots=True)
class _Answer:
    """What one drive has reported, and what has grown since its last visit."""

    drive: Drive
    health: DriveHealth
    news: tuple[str, ...] = ()
    trouble: str = ""


class DriveService:
    """Asks every drive once when the bench opens; `follow` brings in what has been answered since.

    On this computer each drive is asked on a thread of its own, which asks a process of its own: a drive that hangs
    holds up nobody. A simulated drive answers at once.
    """

    def __init__(self, system: System, record: Record, intake: IntakeService, machine: MachineService) -> None:
        """Begin to ask."""
        self._system, self._record, self._intake, self._machine = system, record, intake, machine
        self._answers: queue.SimpleQueue[_Answer] = queue.SimpleQueue()
        self.health: dict[str, DriveHealth] = {}
        self.power_cycles: dict[str, int] = {}
        self._asked = 0
        self._counted: dict[str, float] = {}
        self._left: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._signs: queue.SimpleQueue[FileSystemSign] = queue.SimpleQueue()
        if system.kind is SystemKind.LIVE:
            threading.Thread(target=self._read_file_systems, name="file systems", daemon=True).start()
        else:
            self._read_file_systems()
        if system.kind is SystemKind.LIVE and intake.shop is not None:
            threading.Thread(target=self._clear_up, args=(intake.shop,), name="scratch files", daemon=True).start()
        self.ask_again()

    def ask_again(self) -> None:
        """Ask every drive what it reports about itself."""
        system, wall = self._system, self._system.wall()
        self._asked = 0
        for drive in drives_of(self._intake.found.parts) if system.kind is not SystemKind.TREE else ():
            self._asked += 1
            if system.kind is SystemKind.LIVE:
                name = f"drive {drive.part.place}"
                threading.Thread(target=self._ask, args=(drive, wall), name=name, daemon=True).start()
            else:
                self._ask(drive, wall)

    @property
    def all_answered(self) -> bool:
        """Whether every drive has answered, or said why not."""
        return self._asked == 0

    def _ask(self, drive: Drive, wall: float) -> None:
        """Ask one drive; never on the engine's thread where it may take time."""
        try:
            health = read_health(self._system, drive)
        except ThresherError as error:
            _LOG.warning("asking %s: %s", drive.path, error)
            self._answers.put(_Answer(drive, DriveHealth(DriveStatus.UNKNOWN, (), ()), trouble=str(error)))
            return
        news, trouble = self._grown(drive, health, wall)
        self._answers.put(_Answer(drive, health, news, trouble))

    def _grown(self, drive: Drive, health: DriveHealth, wall: float) -> tuple[tuple[str, ...], str]:
        serial = serial_of(drive.part)
        shop: Path | None = self._intake.shop
        if shop is None or not serial or not health.counts:
            return (), ""
        try:
            return note_counts(shop, drive.part.name, serial, wall, health.counts), ""
        except ThresherError as error:
            return (), str(error)

    def _read_file_systems(self) -> None:
        """Read what file systems and arrays count; never on the engine's thread where it may take time."""
        for sign in read_file_systems(self._system):
            self._signs.put(sign)

    def _take_signs(self) -> None:
        """Make findings of what file systems and arrays count, once in a job: their counts stay."""
        while not self._signs.empty():
            sign = self._signs.get()
            place = disk_of(sign.device)
            known = any(each.code == sign.code and each.place == place for each in self._record.findings)
            if not known:
                title, detail = f"Reported by the file system, {sign.device}", f"{sign.words} ({sign.source})"
                now, part = self._system.now(), PartKind.DRIVE
                found = Finding(
                    sign.code, sign.kind, sign.severity, part, now, title, detail, place, origin="file system"
                )
                self._record.find(found)

    def _clear_up(self, shop: Path) -> None:
        """Remove scratch files that a crash has left; a sick drive may take its time for that."""
        for sentence in remove_scratch_files(shop):
            self._left.put(sentence)

    def follow(self) -> None:
        """Bring in what drives have answered since the last call."""
        self._take_signs()
        while not self._left.empty():
            self._record.note("Scratch file of an earlier run", self._left.get(), Severity.WARNING, part=PartKind.DRIVE)
        while not self._answers.empty():
            self._take(self._answers.get())

    def watch(self, tick: Tick, found: tuple[Channel, ...]) -> None:
        """Make a finding of every count of a drive that rises while it is on the bench."""
        for number, channel in enumerate(found):
            value = tick.values[number] if channel.quantity is Quantity.COUNT else None
            if value is None or not channel.key.startswith("drive/"):
                continue
            before = self._counted.get(channel.key)
            self._counted[channel.key] = value
            if before is not None and value > before:
                self._grew(channel, int(value - before), int(value))

    def _grew(self, channel: Channel, more: int, now: int) -> None:
        words = f"{channel.name}: {more} more, {now} in all"
        found = growth_finding(channel.place, channel.key.rpartition("/")[2], words)
        self._record.find(replace(found, at=self._system.now(), count=min(more, _MOST_COUNTED), channel=channel.key))

    def _take(self, answer: _Answer) -> None:
        part, health = answer.drive.part, answer.health
        self.health[part.place] = health
        self._asked = max(0, self._asked - 1)
        serial = serial_of(part)
        cycles = next((each.value for each in health.figures if each.name == "power cycles"), "")
        if serial and cycles.isdigit():
            self.power_cycles[serial] = int(cycles)
        if answer.trouble:
            self._record.note("Cannot keep a drive's counts", answer.trouble, Severity.WARNING, "X-861", PartKind.DRIVE)
        doubts = [_doubt(answer.drive, signs) for signs in by_code(health.signs)]
        doubts += [
            Doubt("D-344", part.tag, PartKind.DRIVE, "The drive gets worse", f"{words} ({part.place})")
            for words in answer.news
        ]
        self._intake.found = _with_health(self._intake.found, answer.drive, health, tuple(doubts))
        self._machine.expectation_changed()  # applies and reports the doubts
        for finding in health_findings(part.place, health):
            self._find_once(finding)

    def _find_once(self, finding: Finding) -> None:
        """Keep a finding once in a job: what it speaks of stays in the drive however often the job is opened."""
        same = (
            each.origin == finding.origin and each.code == finding.code and each.place == finding.place
            for each in self._record.findings
        )
        if not any(same):
            self._record.find(replace(finding, at=self._system.now()))


def _doubt(drive: Drive, signs: list[Sign]) -> Doubt:
    """Return what a group of signs is on the part: what has to be done first, then what was counted."""
    charge, status = CHARGES[signs[0].meaning], worst(tuple(signs))
    title, detail = charge.title, "; ".join(sign.words for sign in signs)
    if status in _URGENT:
        title, detail = _URGENT[status], f"{charge.title[0].lower()}{charge.title[1:]}: {detail}"
    return Doubt(charge.code, drive.part.tag, PartKind.DRIVE, title, detail)


def _with_health(found: Inventory, drive: Drive, health: DriveHealth, doubts: tuple[Doubt, ...]) -> Inventory:
    """Return the inventory with a drive's figures as facts, and with the doubts about it."""
    facts = (
        Fact("health", health.status.value, "its own figures"),
        *(Fact(figure.name, figure.value, figure.source) for figure in health.figures),
        *(Fact(f"{figure.name}, not read", figure.value, figure.source) for figure in health.not_read),
    )
    parts = tuple(
        replace(part, facts=(*part.facts, *facts)) if part.tag == drive.part.tag else part for part in found.parts
    )
    return replace(found, parts=parts, doubts=(*found.doubts, *doubts))
