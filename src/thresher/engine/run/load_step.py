"""Blocks: steps that put a load on some logical CPUs for a time, every result checked."""

import time
from dataclasses import dataclass, field, replace

from thresher.engine.run.block_plan import choose_cpus, plan_block
from thresher.engine.run.context import RunContext
from thresher.engine.run.run import Run
from thresher.engine.run.steps import BlockStep
from thresher.engine.run.team_findings import finding_of_team_event
from thresher.journal.rows import BROKEN_OFF
from thresher.loads.load import Load
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import LOADS
from thresher.loads.status import LoadStatus
from thresher.loads.team.events import MemoryWrongSeen, MismatchSeen, StopReport, TeamEvent, WorkerLost
from thresher.loads.team.team import Team, TeamState, start_team
from thresher.loads.team.watch import LoadWatch, WatchContext
from thresher.loads.warm_up import WarmUp
from thresher.model.channels import Tick
from thresher.model.errors import EnvironmentFault
from thresher.model.exposure import ExposureMeter, some_of
from thresher.model.findings import Severity
from thresher.model.memory_patterns import PATTERNS
from thresher.model.port import BitFlip, Stress
from thresher.model.run_states import RunState, StepState
from thresher.model.shapes import TemperatureHold, edges_per_second, mean_share
from thresher.model.sheet import Block, SheetItem, clock_text
from thresher.model.verdict import Exposure
from thresher.protocol.status import PlanItem

_INTENT_WAIT_S = 2.0
_PREPARE_LOOK_S = 0.002


@dataclass(slots=True)
class LoadStep(BlockStep):
    """A block of a run sheet on its way."""

    index: int
    of_sheet: Block
    load: Load
    start_s: float
    end_s: float
    state: StepState = StepState.COMING
    _team: Team | None = None
    watch: LoadWatch | None = None
    hold: TemperatureHold | None = None
    meter: ExposureMeter | None = None
    hung_since: dict[int, float] = field(default_factory=dict)
    cores: tuple[int, ...] = ()
    broken_off: bool = False
    work: "PacedBlock | None" = None

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "LoadStep":
        """Return the step of a block."""
        assert isinstance(item, Block)
        return cls(index, item, LOADS[item.load], item.start_s, item.start_s + item.length_s)

    @property
    def team(self) -> Team | None:
        """The workers, while the block is under way."""
        return self._team

    @property
    def loading(self) -> bool:
        """Whether the workers do their beats."""
        return self._team is not None and self._team.state is TeamState.RUNNING

    @property
    def run_state(self) -> RunState:
        """Preparing until all workers do their beats."""
        return RunState.LOADING if self.loading else RunState.PREPARING

    def paced_work(self) -> "PacedBlock | None":
        """Return the block as a simulated machine sees it, while its workers do their beats."""
        return self.work if self.loading else None

    def load_status(self) -> LoadStatus | None:
        """Return what the load reports about itself."""
        return self.watch.status() if self.watch is not None else None

    def exposures(self, run: int) -> list[Exposure]:
        """Return the minutes under load so far."""
        if self.meter is None:
            return []
        minutes = self.meter.exposures(run, self.index)
        return [replace(each, broken_off=self.broken_off, cores=self.cores) for each in minutes]

    def plan_item(self) -> PlanItem:
        """Return the block as the window draws it."""
        patterns = "".join(f"\n{name}: {PATTERNS[name].about}" for name in self.block.patterns)
        about = f"Strains {self.load.strains}.\nFinds {self.load.finds}.{patterns}"
        return PlanItem(False, self.block.row, self.title, self.start_s, self.end_s, self.state, about, self.index)

    # ---- beginning

    def begin(self, run: Run, context: RunContext, at: float) -> None:
        """Start the workers; with compiled kernels still on their way, wait and move everything after."""
        kernels = context.kernels()
        if kernels.usable is None and not context.system.pacing.paced:
            run.delay(self, context.interval_s)
            return
        record = context.record
        allowed = context.system.pacing.allowed_cpus()
        block = self.block
        cpus = choose_cpus(record.inventory.cpus, allowed, block.threads, block.cores, block.one_per_core)
        if not cpus:
            raise EnvironmentFault(
                f"starting {self.title}", "no CPU may be used", "Allow this process at least one CPU."
            )
        plan = plan_block(self.block, context.system, record.inventory, len(cpus), bool(kernels.usable))
        body = {"index": self.index, "title": self.title, "load": self.block.load, "cpus": cpus}
        record.writer.add_mark(run.number, at, "block begins", body)
        if not record.writer.settle(_INTENT_WAIT_S):
            detail = f"{self.title} begins before its intent is on the disk"
            record.note("The job file is slow", detail, Severity.WARNING)
        self._start_team(run, context, cpus, plan)
        self._report_begin(run, context, plan, kernels)
        self._wait_until_running(run, context)
        assert self.watch is not None
        self.watch.begin()
        context.system.pacing.feel(paced_blocks(run), context.interval_s)

    def _start_team(self, run: Run, context: RunContext, cpus: list[int], plan: LoadPlan) -> None:
        self.cores = some_of({run.cores.get(cpu, cpu) for cpu in cpus}, context.record.inventory.core_count)
        team = self._team = start_team(cpus, plan, context.system.pacing, self.block.shape)
        self.work = PacedBlock(self, team, run, context)
        clock = _BlockClock(self, run, context)
        self.watch = self.load.watch(
            WatchContext(self.block, team, context.record, context.system, context.system.pacing, clock)
        )
        self.state = StepState.RUNNING
        run.workers_started += len(cpus)
        if self.block.hold_c is not None:
            self.hold = TemperatureHold(self.block.hold_c)

    def _report_begin(self, run: Run, context: RunContext, plan: LoadPlan, kernels: WarmUp) -> None:
        record, team = context.record, self._team
        assert team is not None
        if self.block.hold_c is not None and record.hottest() is None:
            detail = "this machine reports no processor temperature; the load runs at full power"
            record.note("No temperature to hold", detail, Severity.WARNING)
        cpus = team.cpus()
        cores = len({run.cores.get(cpu, cpu) for cpu in cpus})
        # only our own kernels' width is known; a library chooses its own
        width = f", {kernels.vector_bits}-bit vectors" if self.load.vectors(plan) else ""
        form = "" if context.system.pacing.paced or plan.compiled else ", in NumPy"
        record.note(
            f"{self.title} on {len(cpus)} thread{'s' if len(cpus) > 1 else ''}",
            f"{cores} core{'s' if cores > 1 else ''}, {clock_text(self.block.length_s)},"
            f" every result checked{width}{form}",
            part=self.block.row,
        )

    def _wait_until_running(self, run: Run, context: RunContext) -> None:
        """A simulated machine's clock stops while its workers prepare."""
        while context.system.pacing.paced and not self.loading:
            self.poll(run, context)
            time.sleep(_PREPARE_LOOK_S)

    # ---- going on

    def poll(self, run: Run, context: RunContext) -> None:
        """Process what the workers report."""
        if self._team is None:
            return
        for event in self._team.poll():
            self._on_event(run, context, event)
        context.stalls.look(run, self._team, context.record.inventory)

    def _on_event(self, run: Run, context: RunContext, event: TeamEvent) -> None:
        record = context.record
        if isinstance(event, WorkerLost) and not event.by_processor:
            record.note(f"Worker on CPU {event.cpu} ended", event.sentence, Severity.WARNING, "X-810")
            context.system.pacing.feel(paced_blocks(run), context.interval_s)
            return
        if self.watch is not None and self.watch.on_event(event):
            return
        finding = finding_of_team_event(event, record.inventory, context.now())
        if not isinstance(event, MismatchSeen | MemoryWrongSeen):
            record.find(finding)
            return
        run.mismatches += finding.count
        before = len(record.findings)
        context.storms.take(finding, record.find)
        if self.watch is not None and len(record.findings) > before:
            self.watch.on_finding()

    def advance(self, run: Run, context: RunContext, tick: Tick) -> None:
        """Hold the temperature, end when it is time, count the minutes under load."""
        team, record = self._team, context.record
        assert team is not None
        hottest = record.hottest()
        if self.hold is not None and hottest is not None:
            team.status.allow(self.hold.step(hottest, context.interval_s))
        context.stalls.look_simulated(run, self, tick.at)
        if not team.alive:
            raise EnvironmentFault(f"running {self.title}", "every worker has ended", "The tape shows how.")
        if self.loading and self.watch is not None and self.watch.checking:
            if self.meter is None:
                self.meter = ExposureMeter(self.block.load)
                record.writer.add_mark(run.number, tick.at, "block checks", {"index": self.index})
            self.meter.reading(tick.at, hottest)
        if run.run_at(tick.at) >= self.end_s:
            self.end(run, context, tick.at, "carried out")

    def end(self, run: Run, context: RunContext, at: float, how: str) -> StopReport | None:
        """Stop the workers and write how they ended."""
        team, record = self._team, context.record
        self.broken_off = how == BROKEN_OFF
        if team is None:
            self.state, self.end_s = StepState.DONE, run.run_at(at)
            return None
        report = team.stop()
        for event in team.poll():
            self._on_event(run, context, event)
        context.storms.release(None, record.find)
        run.beats_before += team.beats
        if self.watch is not None:
            self.watch.end()
        self._team, self.work, self.state, self.end_s = None, None, StepState.DONE, run.run_at(at)
        context.system.pacing.feel(paced_blocks(run), context.interval_s)
        body = {"index": self.index, "title": self.title, "how": how, "workers": report.sentence}
        record.writer.add_mark(run.number, at, "block ends", body)
        record.note(f"{self.title} {how}", report.sentence, part=self.block.row)
        return report


@dataclass(frozen=True, slots=True)
class _BlockClock:
    """How much time a block has left."""

    step: LoadStep
    run: Run
    context: RunContext

    def left_s(self) -> float:
        """Return the seconds until the block ends."""
        return max(0.0, self.step.end_s - self.run.run_at(self.context.now()))


@dataclass(frozen=True, slots=True)
class PacedBlock:
    """A running block as a simulated machine sees it."""

    step: LoadStep
    block_team: Team
    run: Run
    context: RunContext

    @property
    def load_stress(self) -> Stress:
        """What the load does to a logical CPU that works all the time."""
        load = self.step.load
        return Stress(1.0, load.heat, load.wide, load.memory, edges_per_second(self.block_team.shape))

    @property
    def load_name(self) -> str:
        """The load."""
        return self.step.load.name

    @property
    def words_in_beat(self) -> int:
        """64-bit words that a fault may spoil in one beat."""
        return self.step.load.words_in_beat(self.block_team.plan)

    @property
    def paced_beats(self) -> int:
        """Beats of a worker that stand for one of the machine's."""
        return self.step.load.paced_beats

    @property
    def pairs_workers(self) -> bool:
        """Whether workers wait for each other."""
        return self.step.load.pairs_workers

    def shares(self, seconds: float) -> dict[int, float]:
        """Return the share of its time that each logical CPU works in the coming seconds."""
        team = self.block_team
        at = max(0.0, self.run.run_at(self.context.now()) - self.step.start_s)
        cpus = team.cpus()
        allowed = team.status.allowed
        return {
            cpu: mean_share(team.shape, at, at + seconds, number, len(cpus)) * allowed
            for number, cpu in enumerate(cpus)
        }

    def pace(
        self, beats: dict[int, int], flips: dict[int, list[BitFlip]], seconds: float = 0.0, memory_c: float = 40.0
    ) -> None:
        """Let each worker do its beats by CPU, disturbed by `flips`, and wait until all are done."""
        self.block_team.pace(beats, flips, seconds, memory_c)


def paced_blocks(run: Run) -> list[PacedBlock]:
    """Return the blocks whose workers do their beats now."""
    return [work for step in run.running() if (work := step.paced_work()) is not None]
