"""Blocks of devices (drives, graphics cards): one piece of work a device, side by side, without a team of workers."""

from abc import abstractmethod
from dataclasses import dataclass, field, replace
from typing import Protocol

from thresher.engine.run.context import RunContext
from thresher.engine.run.run import Run
from thresher.engine.run.steps import BlockStep
from thresher.journal.rows import BROKEN_OFF
from thresher.loads.device_load import DeviceLoad
from thresher.loads.status import LoadStatus, TextStatus
from thresher.loads.team.events import StopReport
from thresher.loads.team.team import Team
from thresher.model.channels import Tick
from thresher.model.errors import ThresherError
from thresher.model.exposure import ExposureMeter
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import RunState, StepState
from thresher.model.sheet import Block, clock_text
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem


class DeviceJob(Protocol):
    """One piece of work on one device. Nothing in it waits: what may block is done by a process or a thread."""

    over: bool
    words: str

    @property
    def place(self) -> str:
        """The kernel's name of the device."""
        ...

    def begin(self) -> None:
        """Begin. Raises ThresherError."""
        ...

    def follow(self, now: float) -> None:
        """Take in what has happened until machine time `now`; a simulated device works until then."""
        ...

    def share(self) -> float | None:
        """Return how much of it is done, 0 to 1; None where that cannot be said."""
        ...

    def left_s(self) -> float | None:
        """Return the seconds that it still takes, None where that cannot be said."""
        ...

    @property
    def tested(self) -> bool:
        """Whether what it does says anything about the device: its time then counts as clean when nothing is found."""
        ...

    def stop(self) -> None:
        """End it now; nothing keeps running and nothing is left behind."""
        ...


@dataclass(slots=True)
class DeviceStep(BlockStep):
    """A block of devices on its way; each kind of device says which jobs there are (`make_jobs`) and what it costs."""

    index: int
    of_sheet: Block
    load: DeviceLoad
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    jobs: list[DeviceJob] = field(default_factory=list)
    meter: ExposureMeter | None = None
    broken_off: bool = False

    # ---- what a kind of device says

    @abstractmethod
    def make_jobs(self, run: Run, context: RunContext) -> list[DeviceJob]:
        """Return the work of this block, one job a device; say of those left out why. Raises nothing."""
        ...

    @abstractmethod
    def promise(self) -> str:
        """Return what a person wants to know when it begins."""
        ...

    def warmth(self, context: RunContext) -> float | None:
        """Return the temperature that its minutes count at, in °C."""
        return context.record.hottest()

    # ---- the step

    @property
    def run_state(self) -> RunState:
        """Devices are under load from their first request on."""
        return RunState.LOADING

    @property
    def team(self) -> Team | None:
        """No team of workers does it."""
        return None

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Begin on every device that may be used."""
        self.state = StepState.RUNNING
        record = context.record
        body = {"index": self.index, "title": self.title, "load": self.load.name, "cpus": []}
        record.writer.add_mark(run.number, at, "block begins", body)
        part = self.load.row
        for job in self.make_jobs(run, context):
            try:
                job.begin()
            except ThresherError as error:
                record.note(f"{self.load.name.capitalize()} of {job.place} left out", str(error), part=part)
            else:
                self.jobs.append(job)
        if not self.jobs:
            detail = f"no {_DEVICES[part]} of it can be used"
            record.note(f"{self.title} has nothing to do", detail, Severity.WARNING, part=part)
            return
        names = ", ".join(job.place for job in self.jobs)
        length = clock_text(self.block.length_s)
        record.note(f"{self.load.name.capitalize()} on {names}", f"planned {length}; {self.promise()}", part=part)
        record.writer.add_mark(run.number, at, "block checks", {"index": self.index})
        self.meter = ExposureMeter(self.load.name)

    def poll(self, run: Run, context: RunContext) -> None:
        """Nothing happens between ticks."""

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Follow every device; end when all are through, or when it is time."""
        for job in self.jobs:
            job.follow(tick.at)
        running = [job for job in self.jobs if not job.over]
        if any(job.tested for job in running) and self.meter is not None:
            self.meter.reading(tick.at, self.warmth(context))
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

    def _expect(self, run: Run, at: float, running: list[DeviceJob]) -> None:
        """Move the end to where it is expected now, and what follows with it, once that is well off the plan."""
        left = [seconds for job in running if (seconds := job.left_s()) is not None]
        of_check = not any(each is self for each in run.steps)  # the check that asked for it moves what follows
        if len(left) < len(running) or of_check:
            return
        expected = at + max(left)
        if abs(expected - self.end_s) > max(30.0, 0.1 * (self.end_s - self.start_s)):
            beside = any(each is not self for each in run.running())
            if expected > self.end_s or not beside:  # what follows waits for the others too
                run.move_later(self, self.end_s, expected - self.end_s)
            self.end_s = expected

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop what still runs."""
        self.broken_off = how == BROKEN_OFF
        begun = len(self.jobs)
        for job in self.jobs:
            job.stop()
        self.state, self.end_s = StepState.DONE, run.run_at(at)
        words = "; ".join(f"{job.place}: {job.words}" for job in self.jobs)
        body = {"index": self.index, "title": self.title, "how": how, "workers": words}
        context.record.writer.add_mark(run.number, at, "block ends", body)
        return StopReport(begun, begun, 0, 0.0) if begun and how != "carried out" else None

    def load_status(self) -> LoadStatus | None:
        """Return how each device does, in a line."""
        if self.state is not StepState.RUNNING or not self.jobs:
            return None
        return TextStatus(self.load.name, "; ".join(status_words(job) for job in self.jobs))

    def exposures(self, run: int) -> list[Exposure]:
        """Return the minutes of work so far."""
        minutes = self.meter.exposures(run, self.index) if self.meter is not None else []
        return [replace(each, broken_off=self.broken_off) for each in minutes]

    def plan_item(self) -> PlanItem:
        """Return the step as the window draws it."""
        about = f"Strains {self.load.strains}.\nFinds {self.load.finds}."
        return PlanItem(False, self.block.row, self.title, self.start_s, self.end_s, self.state, about, self.index)


def status_words(job: DeviceJob) -> str:
    """Return how far a job is, in words."""
    name, share = job.place, job.share()
    if job.over:
        return f"{name}: {job.words}"
    left = job.left_s()
    time = f", {clock_text(left)} left" if left is not None else ""
    return f"{name}: {share * 100:.0f} %{time}" if share is not None else f"{name}: {job.words or 'under way'}"


_DEVICES = {PartKind.DRIVE: "drive", PartKind.GRAPHICS: "graphics card"}
