"""Read scans of drives from the bench: carried out beside the engine, followed once a tick."""

import queue
import threading

import msgspec

from thresher.drives.health import DriveStatus
from thresher.drives.reading import Drive, drives_of
from thresher.drives.scan import ScanForm, ScanProgress
from thresher.drives.scan_process import ScanProcess
from thresher.drives.scan_worker import Order, Report, report_of, scan_here
from thresher.engine.run.record import Record
from thresher.engine.services.drives import DriveService
from thresher.engine.services.intake import IntakeService
from thresher.inventory.identity import serial_of
from thresher.model.errors import EnvironmentFault, InputError, InputFault, SourceUnavailable, ThresherError
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.port import BlockOpener, System, SystemKind
from thresher.protocol.events import ScanEvent
from thresher.protocol.status import ScanStatus
from thresher.shop.drive_history import DriveScan, keep_scan, kept_scan

_SHOWN = 500
"""Strokes that are sent to windows: as many as a wide one has pixels for."""
_MOST_FINDINGS = 5
_SIMULATED_BLOCKS = 20_000


class ScanService:
    """One scan at a time. The reading itself is done by a process, on a simulated machine by threads."""

    def __init__(self, system: System, record: Record, intake: IntakeService, drives: DriveService) -> None:
        """Begin with none."""
        self._system, self._record, self._intake, self._drives = system, record, intake, drives
        self._came: queue.SimpleQueue[Report | str] = queue.SimpleQueue()
        self._drive: Drive | None = None
        self._process: ScanProcess | None = None
        self.status: ScanStatus | None = None

    @property
    def running(self) -> bool:
        """Whether a scan is on its way."""
        return self.status is not None and self.status.running

    def start(self, name: str, quick: bool, go_on: bool, anyway: bool) -> ScanStatus:
        """Begin to read a drive. Raises InputError for an unknown drive, EnvironmentFault where it must not be."""
        drive = next((each for each in drives_of(self._intake.found.parts) if each.part.place == name), None)
        if drive is None:
            raise InputError("scan", [InputFault("drive", f"this machine has no drive {name!r}")])
        self._check(drive, anyway)
        kept = self._kept(drive)
        order = Order(ScanForm.QUICK if quick else ScanForm.THOROUGH, again=kept.bad if quick and kept else ())
        if go_on:
            if kept is None or kept.state is None:
                raise EnvironmentFault(f"scanning {name}", "no scan of this drive was stopped", "Start one.")
            order = Order(state=kept.state)
        self._drive = drive
        self.status = ScanStatus(name, True, 0.0, None, 0.0, (None,) * _SHOWN, (0,) * _SHOWN, (), "begins")
        how = "a sample of it" if quick else "all of it"
        self._record.note(f"Read scan of {name} begins", f"{how}; nothing is written", part=PartKind.DRIVE)
        self._begin(drive, order)
        self._record.publish(ScanEvent(self.status))
        return self.status

    def _check(self, drive: Drive, anyway: bool) -> None:
        name = drive.part.place
        if self.running:
            raise EnvironmentFault(f"scanning {name}", "a scan is in progress", "Stop it first, or wait for its end.")
        if self._system.kind is SystemKind.TREE:
            raise EnvironmentFault(f"scanning {name}", "this machine is a directory of files", "Scan it there.")
        health = self._drives.health.get(name)
        if health is not None and health.status in (DriveStatus.COPY, DriveStatus.REPLACE) and not anyway:
            why = "; ".join(sign.words for sign in health.signs[:2])
            remedy = "Copy the data off first: a long scan may be the end of it."
            raise EnvironmentFault(f"scanning {name}", f"the drive is dying: {why}", remedy)

    def _begin(self, drive: Drive, order: Order) -> None:
        path = f"/dev/{drive.part.place}"
        if isinstance(self._system, BlockOpener):
            source = self._system.open_blocks(path)
            # its blocks are no longer than they have to be for the scan to take no time
            block = max(order.block, source.size // _SIMULATED_BLOCKS >> 20 << 20)
            scan = scan_here(msgspec.structs.replace(order, block=block, depth=1), source)
            scan.start()
            scan.join()  # a simulated drive answers at once
            self._came.put(report_of(scan, ended=True))
            return
        process = self._process = ScanProcess(path, order)

        def listen() -> None:
            try:
                for report in process.reports():
                    if report is not None:
                        self._came.put(report)
            except SourceUnavailable as error:
                self._came.put(error.reason)

        threading.Thread(target=listen, name=f"scan {drive.part.place}", daemon=True).start()

    def stop(self) -> None:
        """Ask the scan to stop; its last report comes with a later tick."""
        if self._process is not None:
            self._process.stop()

    def close(self) -> None:
        """End the scan because the engine closes; where it was at its last report is kept."""
        if self._process is not None:
            self._process.close()
            self._process = None

    def follow(self) -> None:
        """Bring in the newest report."""
        newest: Report | str | None = None
        while not self._came.empty():
            newest = self._came.get()
        if newest is None or self._drive is None or self.status is None:
            return
        if isinstance(newest, str):
            self._end(f"could not be read: {newest}")
        elif newest.progress is not None:
            self._take(newest, newest.progress)

    def _take(self, report: Report, progress: ScanProgress) -> None:
        assert self._drive is not None
        bad = tuple(place.offset // 512 for place in progress.bad)
        rate = progress.read_bytes / max(progress.seconds, 1e-3) / 1e6
        self.status = ScanStatus(
            self._drive.part.place,
            not report.ended,
            progress.share,
            progress.left_s,
            rate,
            _fewer(report.slowest_ms),
            _fewer_counts(report.errors),
            bad,
            "reads" if not report.ended else "",
            report.size,
        )
        self._keep(report, progress)
        if not report.ended:
            self._record.publish(ScanEvent(self.status))
            return
        for place in progress.bad[:_MOST_FINDINGS]:
            self._find(place.offset // 512, place.length // 512)
        gone = "; the drive went away" if progress.gone else ""
        whole = "read through" if progress.share >= 1.0 else f"stopped at {progress.share * 100:.0f} %"
        plural = "s" if len(bad) > 1 else ""
        places = f"{len(bad)} place{plural} cannot be read" if bad else "every place could be read"
        slow = f", {progress.slow} slow" if progress.slow else ""
        self._end(f"{whole}: {places}{slow}{gone}")

    def _end(self, words: str) -> None:
        assert self._drive is not None
        assert self.status is not None
        self.close()
        name = self._drive.part.place
        self.status = replace_words(self.status, words)
        severity = Severity.WARNING if self.status.bad or "could not" in words else Severity.NOTE
        self._record.note(f"Read scan of {name} ended", words, severity, part=PartKind.DRIVE)
        self._record.publish(ScanEvent(self.status))

    def _find(self, sector: int, sectors: int) -> None:
        assert self._drive is not None
        name = self._drive.part.place
        what = f"sector {sector}" + (f" to {sector + sectors - 1}" if sectors > 1 else "")
        known = any(each.place == name and each.address == sector * 512 for each in self._record.findings)
        if not known:
            finding = Finding(
                "D-310",
                FindingKind.DRIVE_FAILED,
                Severity.FAULT,
                PartKind.DRIVE,
                self._system.now(),
                f"Cannot be read, {name}",
                f"{what}: found by a read scan",
                name,
                origin="read scan",
                address=sector * 512,
            )
            self._record.find(finding)

    # ---- what is kept

    def _kept(self, drive: Drive) -> DriveScan | None:
        shop, serial = self._intake.shop, serial_of(drive.part)
        if shop is None or not serial:
            return None
        return kept_scan(shop, drive.part.name, serial)

    def _keep(self, report: Report, progress: ScanProgress) -> None:
        assert self._drive is not None
        shop, serial = self._intake.shop, serial_of(self._drive.part)
        if shop is None or not serial or not report.ended:
            return
        unfinished = report.state if progress.share < 1.0 else None
        try:
            keep_scan(shop, self._drive.part.name, serial, unfinished, tuple(place.offset for place in progress.bad))
        except ThresherError as error:
            self._record.note("Cannot keep where the scan was", str(error), Severity.WARNING, "X-861", PartKind.DRIVE)


def replace_words(status: ScanStatus, words: str) -> ScanStatus:
    """Return a scan's status as one that has ended."""
    return msgspec.structs.replace(status, running=False, words=words, left_s=None)


def _fewer(strokes: tuple[float | None, ...]) -> tuple[float | None, ...]:
    """Return as many strokes as windows show, each the slowest of its group."""
    step = max(1, len(strokes) // _SHOWN)
    groups = (strokes[at : at + step] for at in range(0, len(strokes), step))
    return tuple(max((each for each in group if each is not None), default=None) for group in groups)


def _fewer_counts(counts: tuple[int, ...]) -> tuple[int, ...]:
    step = max(1, len(counts) // _SHOWN)
    return tuple(sum(counts[at : at + step]) for at in range(0, len(counts), step))
