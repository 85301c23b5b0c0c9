"""Blocks of drives: read scans, self-tests and verified loads, one piece of work a drive, all of them side by side."""

from collections.abc import Callable
from dataclasses import dataclass, field

from thresher.drives.reading import Drive
from thresher.drives.scan import ScanForm
from thresher.drives.scan_worker import Order
from thresher.drives.scratch_choice import ScratchWish
from thresher.engine.drive_jobs.access import DriveAccess, DriveJob
from thresher.engine.drive_jobs.scanning import ScanJob
from thresher.engine.drive_jobs.scratching import ScratchJob
from thresher.engine.drive_jobs.testing import SelfTestJob
from thresher.engine.run.context import RunContext
from thresher.engine.run.run import Run
from thresher.engine.run.steps import BlockStep
from thresher.loads.drive_loads import DRIVE_LOADS, DriveLoad, DriveUse
from thresher.loads.status import LoadStatus, TextStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Tick
from thresher.model.errors import ThresherError
from thresher.model.exposure import ExposureMeter
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block, SheetItem, clock_text
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

MakeJob = Callable[[DriveAccess, Drive, Block], DriveJob]


def _sample(access: DriveAccess, drive: Drive, _block: Block) -> DriveJob:
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
class DriveStep(BlockStep):
    """A block of drives on its way."""

    index: int
    of_sheet: Block
    load: DriveLoad
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    jobs: list[DriveJob] = field(default_factory=list)
    meter: ExposureMeter | None = None

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "DriveStep":
        """Return the step of a block."""
        assert isinstance(item, Block)
        return cls(index, item, DRIVE_LOADS[item.load], item.start_s, item.start_s + item.length_s)

    @property
    def run_state(self) -> RunState:
        """Drives are under load from their first request on."""
        return RunState.LOADING

    @property
    def team(self) -> Team | None:
        """No team of workers does it."""
        return None

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Begin on every drive that may be used; say of the others why not."""
        self.state = StepState.RUNNING
        record = context.record
        body = {"index": self.index, "title": self.title, "load": self.load.name, "cpus": []}
        record.writer.add_mark(run.number, at, "block begins", body)
        for drive in self._drives(context.drives):
            try:
                job = MAKE_JOB[self.load.use](context.drives, drive, self.block)
                job.begin()
            except ThresherError as error:
                record.note(f"{self.load.name.capitalize()} of {drive.part.place} left out", str(error), part=_DRIVE)
            else:
                self.jobs.append(job)
        if not self.jobs:
            record.note(f"{self.title} has nothing to do", "no drive of it can be used", Severity.WARNING, part=_DRIVE)
            return
        names = ", ".join(job.drive.part.place for job in self.jobs)
        length = clock_text(self.block.length_s)
        record.note(
            f"{self.load.name.capitalize()} on {names}", f"planned {length}; {_WRITES[self.load.use]}", part=_DRIVE
        )
        record.writer.add_mark(run.number, at, "block checks", {"index": self.index})
        self.meter = ExposureMeter(self.load.name)

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

    def poll(self, run: Run, context: RunContext) -> None:
        """Nothing happens between ticks."""

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Follow every drive; end when all are through, or when it is time."""
        for job in self.jobs:
            job.follow(tick.at)
        running = [job for job in self.jobs if not job.over]
        if running and self.meter is not None:
            self.meter.reading(tick.at, context.record.hottest())
        at = run.run_at(tick.at)
        if not running:
            planned = self.end_s
            self.end(run, context, tick.at, "carried out")
            if not any(each is not self for each in run.running()):
                run.move_later(self, planned, self.end_s - planned)
        elif at >= self.end_s:
            if not self.load.ends_itself:
                self.end(run, context, tick.at, "carried out")
                return
            late = at + context.interval_s - self.end_s
            self.end_s += late
            run.shift_after(self, late)
        elif self.load.ends_itself:
            self._expect(run, at, running)

    def _expect(self, run: Run, at: float, running: list[DriveJob]) -> None:
        """Move the end to where it is expected now, and what follows with it, once that is well off the plan."""
        left = [seconds for job in running if (seconds := job.left_s()) is not None]
        if len(left) < len(running):
            return
        expected = at + max(left)
        if abs(expected - self.end_s) > max(30.0, 0.1 * (self.end_s - self.start_s)):
            run.move_later(self, self.end_s, expected - self.end_s)
            self.end_s = expected

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop what still runs."""
        begun = len(self.jobs)
        for job in self.jobs:
            job.stop()
        self.state, self.end_s = StepState.DONE, run.run_at(at)
        words = "; ".join(f"{job.drive.part.place}: {job.words}" for job in self.jobs)
        body = {"index": self.index, "title": self.title, "how": how, "workers": words}
        context.record.writer.add_mark(run.number, at, "block ends", body)
        return StopReport(begun, begun, 0, 0.0) if begun and how != "carried out" else None

    def load_status(self) -> LoadStatus | None:
        """Return how each drive does, in a line."""
        if self.state is not StepState.RUNNING or not self.jobs:
            return None
        return TextStatus(self.load.name, "; ".join(_status(job) for job in self.jobs))

    def exposures(self, run: int) -> list[Exposure]:
        """Return the minutes of work so far."""
        return self.meter.exposures(run, self.index) if self.meter is not None else []

    def plan_item(self) -> PlanItem:
        """Return the block as the window draws it."""
        about = f"Strains {self.load.strains}.\nFinds {self.load.finds}."
        return PlanItem(False, self.block.row, self.title, self.start_s, self.end_s, self.state, about, self.index)


def _status(job: DriveJob) -> str:
    name, share = job.drive.part.place, job.share()
    if job.over:
        return f"{name}: {job.words}"
    left = job.left_s()
    time = f", {clock_text(left)} left" if left is not None else ""
    return f"{name}: {share * 100:.0f} %{time}" if share is not None else f"{name}: under way"


_DRIVE = PartKind.DRIVE
_WRITES = {
    DriveUse.READ_SAMPLE: "nothing is written",
    DriveUse.READ_ALL: "nothing is written",
    DriveUse.SHORT_TEST: "the drive tests itself, nothing is written",
    DriveUse.LONG_TEST: "the drive tests itself, nothing is written",
    DriveUse.VERIFIED: "only a scratch file is written, and removed at the end",
}
