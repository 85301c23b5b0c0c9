"""A verified load of one drive: a scratch file on one of its file systems, by a process of its own."""

import os
import queue
import threading
from dataclasses import dataclass

from thresher.drives.findings import load_findings
from thresher.drives.reading import Drive
from thresher.drives.scratch import BLOCK, Scratch, ScratchPlan, ScratchProgress, timing_words
from thresher.drives.scratch_choice import USUAL_BYTES, ScratchWish, blocks_of, choose_place
from thresher.drives.scratch_process import ScratchProcess
from thresher.drives.scratch_worker import ScratchOrder
from thresher.engine.drive_jobs.access import DriveAccess, DriveJob
from thresher.machine.mounts import ScratchPlace
from thresher.machine.scratch_file import scratch_name
from thresher.model.errors import EnvironmentFault, SourceUnavailable, ThresherError
from thresher.model.findings import Severity
from thresher.model.port import BlockOpener, SystemKind
from thresher.shop.scratch_files import forget_scratch_file, note_scratch_file

_SIMULATED_BLOCK, _SIMULATED_BLOCKS = 4096, 512
_SLOWED = 0.6
"""A drive that ends below this share of its best rate while it is warm has slowed itself down."""


@dataclass(frozen=True, slots=True)
class _Made:
    """The scratch file is there."""

    place: ScratchPlace
    size: int
    direct: bool


class ScratchJob(DriveJob):
    """One verified load on its way."""

    def __init__(self, access: DriveAccess, drive: Drive, wish: ScratchWish) -> None:
        """`wish` says where and how much."""
        self.drive = drive
        self.over = False
        self.words = ""
        self._access, self._wish = access, wish
        self._came: queue.SimpleQueue[_Made | ScratchProgress | str] = queue.SimpleQueue()
        self._process: ScratchProcess | None = None
        self._paced: Scratch | None = None
        self._stopped = threading.Event()
        self._began = 0.0
        self.progress: ScratchProgress | None = None

    @property
    def _name(self) -> str:
        return self.drive.part.place

    def begin(self) -> None:
        """Begin."""
        access, doing = self._access, f"loading {self._name}"
        if access.system.kind is SystemKind.LIVE and access.shop is None:
            raise EnvironmentFault(doing, "no shop folder is open to keep account of scratch files", "Open a bench.")
        self._began = access.system.now()
        with access.taken(self._name, doing):
            if isinstance(access.system, BlockOpener):
                amount = self._wish.amount or USUAL_BYTES
                plan = ScratchPlan(_SIMULATED_BLOCKS, _SIMULATED_BLOCK, depths=(1,))
                scale = amount / plan.size
                self._paced = Scratch(plan, access.system.open_scratch(f"/dev/{self._name}", scale), scale)
                self._access.note(f"Scratch file on {self._name}", f"{amount / (1 << 30):.1f} GiB, simulated")
                return
            threading.Thread(target=self._work_beside, name=f"scratch {self._name}", daemon=True).start()

    # ---- on this computer, beside the engine

    def _work_beside(self) -> None:
        """Choose a place, make the file and follow the load; asking a sick drive's file system may take long."""
        try:
            place = choose_place(self._name, self._wish)
            blocks = blocks_of(self._wish, place.room)
            path = f"{place.folder.rstrip('/')}/{scratch_name(os.urandom(8))}"
            assert self._access.shop is not None
            note_scratch_file(self._access.shop, path)
            seed = int.from_bytes(os.urandom(6), "little") or 1
            if self._stopped.is_set():
                return
            process = self._process = ScratchProcess(ScratchOrder(path, ScratchPlan(blocks, seed=seed)))
            if self._stopped.is_set():  # stopped while the process was started
                self._clear_up(process)
            self._follow_reports(process, place, blocks * BLOCK)
        except SourceUnavailable as error:
            self._came.put(f"{error.path}: {error.reason}")
        except ThresherError as error:
            self._came.put(str(error))

    def _follow_reports(self, process: ScratchProcess, place: ScratchPlace, size: int) -> None:
        made = False
        for report in process.reports():
            if report is None:
                continue
            if not made:
                made = True
                self._came.put(_Made(place, size, report.direct))
            if report.progress is not None:
                self._came.put(report.progress)
            if report.ended and report.progress is not None and not report.progress.over:
                return

    # ---- in the engine

    def follow(self, now: float) -> None:
        """Take in how far it is."""
        if self._paced is not None and not self.over:
            self._paced.advance(now - self._began)
            self._came.put(self._paced.progress())
        while not self._came.empty() and not self.over:
            came = self._came.get()
            if isinstance(came, str):
                self._end(f"could not be carried out: {came}", Severity.WARNING)
            elif isinstance(came, _Made):
                cache = "" if came.direct else "; this file system has no unbuffered requests, so each block is dropped"
                size = f"{came.size / (1 << 30):.1f} GiB in {came.place.folder} ({came.place.mount.kind})"
                self._access.note(f"Scratch file on {self._name}", f"{size}{cache}")
            else:
                self._take(came)

    def _take(self, progress: ScratchProgress) -> None:
        self.progress = progress
        for finding in load_findings(self._name, progress):
            self._access.find(finding)
        if progress.over:
            self._end(f"ended: {progress.over}", Severity.WARNING)

    def share(self) -> float | None:
        """A verified load has no end of its own."""
        return None

    def left_s(self) -> float | None:
        """A verified load has no end of its own."""
        return None

    def stop(self) -> None:
        """End it; the file is removed beside the engine."""
        if self.over:
            return
        progress = self.progress
        if progress is None:
            self._end("stopped before anything was written", Severity.NOTE)
            return
        self._end(ended_words(progress), Severity.WARNING if progress.wrong_count else Severity.NOTE)

    def _end(self, words: str, severity: Severity) -> None:
        self.over, self.words = True, words
        self._stopped.set()
        if self._process is not None:
            self._clear_up(self._process)
        if self._paced is not None:
            self._paced.stop()
        self._access.release(self._name)
        self._access.note(f"Verified load of {self._name} ended", words, severity)

    def _clear_up(self, process: ScratchProcess) -> None:
        shop = self._access.shop
        process.close(lambda: forget_scratch_file(shop, process.path) if shop is not None else None)


def ended_words(progress: ScratchProgress) -> str:
    """Return in words what a verified load has shown."""
    wrong = f"{progress.wrong_count} blocks were wrong" if progress.wrong_count else "all of it as it was written"
    much = f"{progress.compared / 1e9:.1f} GB read back and compared, {wrong}"
    slowed = ""
    if progress.rate_best and progress.rate_now < _SLOWED * progress.rate_best:
        slowed = f"; it fell from {progress.rate_best / 1e6:.0f} to {progress.rate_now / 1e6:.0f} MB/s"
    return f"{much}; {timing_words(progress.timings)}{slowed}"
