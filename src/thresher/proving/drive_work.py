"""Work on one drive of a simulated machine, as far as its time has passed, for runs without an engine."""

from thresher.drives import self_test
from thresher.drives.findings import load_findings, scan_findings, test_findings
from thresher.drives.reading import Drive, Family
from thresher.drives.scan import Scan, ScanForm
from thresher.drives.scan_worker import Order, scan_here
from thresher.drives.scratch import Scratch, ScratchPlan
from thresher.loads.drive_loads import DriveUse
from thresher.model.errors import ThresherError
from thresher.model.findings import Finding
from thresher.simulator.machine import SimulatedMachine

_PLAN = ScratchPlan(128, 4096, depths=(1,))
_FILE_BYTES = 64 << 30
"""A large file, of which every request stands for half a gigabyte: a quarter of an hour is some thousand requests."""
_TESTS = {DriveUse.SHORT_TEST: False, DriveUse.LONG_TEST: True}


class DriveWork:
    """One use of one drive; `over` when nothing more comes of it."""

    def __init__(self, machine: SimulatedMachine, drive: Drive, use: DriveUse) -> None:
        """Begin."""
        self._machine, self._drive, self._use = machine, drive, use
        self._name = drive.part.place
        self._scan: Scan | None = None
        self._scratch: Scratch | None = None
        self.over = drive.family is Family.NONE
        path = f"/dev/{self._name}"
        if self.over:
            return
        if use in _TESTS:
            self._begin_test(_TESTS[use])
        elif use is DriveUse.VERIFIED:
            scale = _FILE_BYTES / _PLAN.size
            self._scratch = Scratch(_PLAN, machine.open_scratch(path, scale), scale)
        else:
            form = ScanForm.QUICK if use is DriveUse.READ_SAMPLE else ScanForm.THOROUGH
            self._scan = scan_here(Order(form), machine.open_blocks(path))

    def _begin_test(self, extended: bool) -> None:
        try:
            self_test.start(self._machine.open_drive(self._drive.path), self._drive.family, extended)
        except ThresherError:
            self.over = True  # the drive has none, or refuses it: nothing comes of it

    def advance(self, elapsed_s: float) -> list[Finding]:
        """Work until so many seconds after the beginning; return everything found so far."""
        if self.over:
            return []
        if self._scan is not None:
            self.over = self._scan.advance(elapsed_s)
            return scan_findings(self._name, self._scan.progress())
        if self._scratch is not None:
            self._scratch.advance(elapsed_s)
            progress = self._scratch.progress()
            self.over = bool(progress.over)
            return load_findings(self._name, progress)
        try:
            now = self_test.progress(self._machine.open_drive(self._drive.path), self._drive.family)
        except ThresherError:
            self.over = True
            return []
        self.over = not now.running
        return test_findings(self._name, now, self._use.value)
