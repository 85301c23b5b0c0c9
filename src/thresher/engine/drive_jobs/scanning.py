"""A read scan of one drive: by a process of its own, on a simulated machine as far as its time has passed."""

import queue
import threading

import msgspec

from thresher.drives.findings import scan_findings
from thresher.drives.reading import Drive
from thresher.drives.scan import STROKES, Scan, ScanForm, ScanProgress
from thresher.drives.scan_process import ScanProcess
from thresher.drives.scan_worker import Order, Report, report_of, scan_here
from thresher.engine.drive_jobs.access import DriveAccess, DriveJob
from thresher.inventory.identity import serial_of
from thresher.model.errors import SourceUnavailable, ThresherError
from thresher.model.findings import Severity
from thresher.model.port import BlockOpener, HandedOver
from thresher.protocol.status import ScanStatus
from thresher.shop.drive_history import keep_scan


class ScanJob(DriveJob):
    """One scan on its way."""

    def __init__(self, access: DriveAccess, drive: Drive, order: Order) -> None:
        """`order` says what is read."""
        self.drive = drive
        self.over = False
        self.words = ""
        self._access, self._order = access, order
        self._came: queue.SimpleQueue[Report | str] = queue.SimpleQueue()
        self._process: ScanProcess | None = None
        self._paced: Scan | None = None
        self._began = 0.0
        self._last: Report | None = None
        name = drive.part.place
        sampled = (order.state.plan.form if order.state is not None else order.form) is ScanForm.QUICK
        unread, no_errors = (None,) * STROKES, (0,) * STROKES
        self.status = ScanStatus(name, True, 0.0, None, 0.0, unread, no_errors, (), "begins", sampled=sampled)

    @property
    def _name(self) -> str:
        return self.drive.part.place

    def begin(self) -> None:
        """Begin to read."""
        access, path = self._access, f"/dev/{self._name}"
        self._began = access.system.now()
        with access.taken(self._name, f"scanning {self._name}"):
            if isinstance(access.system, BlockOpener):
                self._paced = scan_here(self._order, access.system.open_blocks(path))
            else:
                threading.Thread(target=self._read, args=(path,), name=f"scan {self._name}", daemon=True).start()
        access.board.show(self.status)

    def _read(self, path: str) -> None:
        """Start the process and listen to it; opening the drive may block."""
        system = self._access.system
        try:
            opened = system.opened_blocks(path) if isinstance(system, HandedOver) else None
            process = self._process = ScanProcess(path, self._order, opened)
            if self.over:
                process.close()  # stopped while it began
                return
            for report in process.reports():
                if report is not None:
                    self._came.put(report)
        except SourceUnavailable as error:
            self._came.put(error.reason)

    def follow(self, now: float) -> None:
        """Take in the newest report."""
        if self._paced is not None:
            ended = self._paced.advance(now - self._began)
            self._came.put(report_of(self._paced, ended))
        newest: Report | str | None = None
        while not self._came.empty():
            newest = self._came.get()
        if newest is None or self.over:
            return
        if isinstance(newest, str):
            self._end(f"could not be read: {newest}", Severity.WARNING)
        elif newest.progress is not None:
            self._take(newest, newest.progress)

    def share(self) -> float | None:
        """Return how much has been read."""
        return self.status.share

    def left_s(self) -> float | None:
        """Return how long it still takes."""
        return self.status.left_s

    def stop(self) -> None:
        """End it; where it was at its last report is kept."""
        if self.over:
            return
        if self._last is not None and self._last.progress is not None:
            self._find_all(self._last.progress)
            words, severity = _ending(self._last, self._last.progress)
            self._end(words, severity)
        else:
            self._end("stopped before anything was read", Severity.NOTE)

    # ---- what it finds

    def _take(self, report: Report, progress: ScanProgress) -> None:
        self._last = report
        rate = progress.read_bytes / max(progress.seconds, 1e-3) / 1e6
        bad = tuple(place.offset // 512 for place in progress.bad)
        before, placed = len(self.status.bad), len(self.status.places)
        self.status = ScanStatus(
            self._name,
            True,
            progress.share,
            progress.left_s,
            rate,
            report.slowest_ms,
            report.errors,
            bad,
            "reads",
            report.size,
            report.rates,
            report.retries,
            report.places,
            self.status.sampled,
        )
        for sector, place in zip(bad[placed:], report.places[placed:], strict=False):
            self._access.note(f"File at a bad sector of {self._name}", f"sector {sector}: {place}")
        if len(bad) > before:
            self._find_all(progress)
        if report.ended:
            self._find_all(progress)
            self._end(*_ending(report, progress))
        else:
            self._access.board.show(self.status)

    def _end(self, words: str, severity: Severity) -> None:
        self.over, self.words = True, words
        if self._process is not None:
            threading.Thread(target=self._process.close, name=f"ends the scan of {self._name}", daemon=True).start()
        self._access.release(self._name)
        self._keep()
        self.status = msgspec.structs.replace(self.status, running=False, words=words, left_s=None)
        self._access.note(f"Read scan of {self._name} ended", words, severity)
        self._access.board.show(self.status)

    def _find_all(self, progress: ScanProgress) -> None:
        for finding in scan_findings(self._name, progress):
            self._access.find(finding)

    def _keep(self) -> None:
        """Keep where the scan can be continued, and what was bad."""
        report, shop, serial = self._last, self._access.shop, serial_of(self.drive.part)
        if report is None or report.progress is None or report.state is None or shop is None or not serial:
            return
        try:
            keep_scan(shop, self.drive.part.name, serial, report.state, report.progress.share >= 1.0)
        except ThresherError as error:
            self._access.note("Cannot keep where the scan was", str(error), Severity.WARNING)


def _ending(report: Report, progress: ScanProgress) -> tuple[str, Severity]:
    """Return in words how a scan has ended, how much of the drive it has read, and how bad that is."""
    count = len(progress.bad)
    gone = "; the drive dropped out" if progress.gone else ""
    plural = "s" if count > 1 else ""
    places = f"{count} place{plural} cannot be read" if count else "every place could be read"
    slow = f", {progress.slow} slow" if progress.slow else ""
    severity = Severity.WARNING if count or progress.gone else Severity.NOTE
    return f"{_how_much(report, progress)}: {places}{slow}{gone}", severity


def _how_much(report: Report, progress: ScanProgress) -> str:
    plan = report.state.plan if report.state is not None else None
    if plan is None or plan.form is ScanForm.THOROUGH:
        return "read through" if progress.share >= 1.0 else f"stopped at {progress.share * 100:.0f} %"
    what = f"{progress.done} places" if plan.form is ScanForm.QUICK else f"{progress.read_bytes / 1e9:.1f} GB"
    stopped = "" if progress.share >= 1.0 else f", stopped at {progress.share * 100:.0f} %"
    return f"{what} of {report.size / 1e9:.0f} GB read{stopped}"
