"""Blocks of drives: read scans, self-tests and verified loads."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.drives.reading import Drive
from thresher.drives.scan import ScanForm
from thresher.drives.scan_worker import Order
from thresher.drives.scratch_choice import ScratchWish
from thresher.engine.drive_jobs.access import DriveAccess
from thresher.engine.drive_jobs.scanning import ScanJob
from thresher.engine.drive_jobs.scratching import ScratchJob
from thresher.engine.drive_jobs.testing import SelfTestJob
from thresher.engine.run.context import RunContext
from thresher.engine.run.device_step import DeviceJob, DeviceStep
from thresher.engine.run.run import Run
from thresher.loads.drive_loads import DRIVE_LOADS, DriveLoad, DriveUse
from thresher.model.errors import ThresherError
from thresher.model.findings import Severity
from thresher.model.sheet import Block, SheetItem

MakeJob = Callable[[DriveAccess, Drive, Block], DeviceJob]


def _sample(access: DriveAccess, drive: Drive, _block: Block) -> DeviceJob:
    return ScanJob(access, drive, Order(ScanForm.QUICK, again=access.places_to_try(drive)))


MAKE_JOB: dict[DriveUse, MakeJob] = {
    DriveUse.READ_SAMPLE: _sample,
    DriveUse.READ_ALL: lambda access, drive, _block: ScanJob(access, drive, Order()),
    DriveUse.SHORT_TEST: lambda access, drive, _block: SelfTestJob(access, drive, extended=False),
    DriveUse.LONG_TEST: lambda access, drive, _block: SelfTestJob(access, drive, extended=True),
    DriveUse.VERIFIED: lambda access, drive, block: ScratchJob(access, drive, ScratchWish(block.folder, block.amount)),
}
"""How each use of a drive is begun."""


@dataclass(slots=True)
class DriveStep(DeviceStep):
    """A block of drives on its way."""

    load: DriveLoad

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "DriveStep":
        """Return the step of a block."""
        assert isinstance(item, Block)
        return cls(index, item, DRIVE_LOADS[item.load], item.start_s, item.start_s + item.length_s)

    def make_jobs(self, run: Run, context: RunContext) -> list[DeviceJob]:
        """Return a job for every drive that may be used."""
        access, jobs = context.drives, list[DeviceJob]()
        for drive in self._drives(access):
            try:
                jobs.append(MAKE_JOB[self.load.use](access, drive, self.block))
            except ThresherError as error:
                access.note(f"{self.load.name.capitalize()} of {drive.part.place} left out", str(error))
        return jobs

    def promise(self) -> str:
        """Return what is written, if anything."""
        return _WRITES[self.load.use]

    def _drives(self, access: DriveAccess) -> list[Drive]:
        """Return the drives of the block; what a dying drive is spared is said."""
        found = []
        wanted = self.block.drives
        for name in [each for each in wanted if access.drive(each) is None]:
            access.note(f"{self.load.name.capitalize()} of {name} left out", "the drive is not there", Severity.WARNING)
        for drive in access.drives():
            name = drive.part.place
            if wanted and name not in wanted:
                continue
            why = access.why_dying(name) if self.load.hard else ""
            if why:
                remedy = "copy the data off first; the read scan of the single drive asks, and does it all the same"
                access.note(f"{self.load.name.capitalize()} of {name} left out", f"{why}; {remedy}", Severity.WARNING)
            else:
                found.append(drive)
        return found


_WRITES = {
    DriveUse.READ_SAMPLE: "nothing is written",
    DriveUse.READ_ALL: "nothing is written",
    DriveUse.SHORT_TEST: "the drive tests itself, nothing is written",
    DriveUse.LONG_TEST: "the drive tests itself, nothing is written",
    DriveUse.VERIFIED: "only a scratch file is written, and removed at the end",
}
