"""Carrying out a run sheet: gates, blocks and their teams of workers, limits, and the end.

The engine calls `pace`, then `advance` once a tick; everything here happens on its thread.
"""

import os
import time
from collections.abc import Callable
from dataclasses import replace

from thresher.diagnosis.evidence import band_of
from thresher.engine.block_plan import plan_block, words_of
from thresher.engine.evidence import Storms, finding_of_reset, finding_of_team_event
from thresher.engine.memory_watch import MemoryWatch, loads_memory
from thresher.engine.protocol import PlanEvent, RunStatus
from thresher.engine.record import Record
from thresher.engine.run import Run, Step, choose_cpus
from thresher.engine.stall_watch import StallWatch
from thresher.engine.states import Ending, Outcome, RunState, outcome_of
from thresher.engine.watchers import Watchers
from thresher.loads.catalogue import CATALOGUE
from thresher.loads.exercises import in_registers
from thresher.loads.shapes import Holder, edges_per_second, mean_share
from thresher.loads.team import Team, TeamState
from thresher.loads.team_events import (
    MemoryTakenSeen,
    MemoryWrongSeen,
    MismatchSeen,
    PassSeen,
    StopReport,
    TeamEvent,
    WorkerLost,
)
from thresher.loads.warm_up import WarmUp
from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Inventory, PartKind
from thresher.model.port import Beats, Stress, System, SystemKind
from thresher.model.sheet import Block, Gate, RunSheet, clock_text
from thresher.model.verdict import Exposure

_INTENT_WAIT_S = 2.0
_PREPARE_LOOK_S = 0.002
CORRECTED_KINDS = (FindingKind.CORRECTED_CHECK, FindingKind.MEMORY_CORRECTED)

_PACED_PER_BEAT = {"memory": 8}
"""Beats of a bench model's worker for one of the machine's: a memory beat is only a small chunk."""


class Conductor:
    """Carries out one run after the other on one machine."""

    def __init__(
        self,
        system: System,
        inventory: Inventory,
        record: Record,
        watchers: Watchers,
        interval_s: float,
        runs: int,
        kernels: Callable[[], WarmUp],
    ) -> None:
        """`runs` is how many runs the job file already holds, `kernels` tells which form the loads may have."""
        self._system = system
        self.inventory = inventory
        self._record = record
        self._watchers = watchers
        self._interval = interval_s
        self._next_run = runs + 1
        self._storms = Storms()
        self._memory = MemoryWatch(system, record)
        self._stalls = StallWatch(system, record)
        self._kernels = kernels
        self.past_exposures: list[Exposure] = []
        self.sheet: RunSheet | None = None

    @property
    def run(self) -> Run | None:
        """The run that goes on or ended last."""
        return self._record.run

    @property
    def active(self) -> bool:
        """Whether a run goes on."""
        return self.run is not None and self.run.active

    @property
    def preparing(self) -> bool:
        """Whether references are being made."""
        return self.run is not None and self.run.state is RunState.PREPARING

    def put_sheet(self, sheet: RunSheet) -> None:
        """Put a sheet on the bench, to be started. Raises EnvironmentFault while a run goes on."""
        if self.active:
            raise EnvironmentFault("changing the run sheet", "a run goes on", "Stop it first.")
        self.sheet = sheet
        self._record.run = None
        self._record.tell(PlanEvent(sheet, self.status()))

    def start(self, channels: tuple[Channel, ...], boot_id: str) -> None:
        """Start the sheet on the bench. Raises EnvironmentFault when there is none, one runs, or loads cannot run."""
        if self.sheet is None:
            raise EnvironmentFault("starting a run", "no run sheet is on the bench", "Open one first.")
        if self.active:
            raise EnvironmentFault("starting a run", "one goes on already", "Stop it first.")
        if self._system.kind is SystemKind.TREE:
            raise EnvironmentFault(
                "starting a run", "this machine is a directory of files", "Loads need this computer or a bench model."
            )
        at, writer = self._system.now(), self._record.writer
        cores = {cpu.cpu: cpu.core for cpu in self.inventory.cpus}
        run = Run(self._next_run, self.sheet, at, self._record.hottest(), cores)
        self._next_run += 1
        self._record.run = run
        writer.begin_run(run.number, self.sheet, self.inventory, channels, boot_id, at, self._system.wall())
        writer.settle(_INTENT_WAIT_S)
        run.change(RunState.WAITING if isinstance(run.steps[0].item, Gate) else RunState.BETWEEN)
        planned = clock_text(self.sheet.length_s)
        self._record.note(f"Run {run.number} begins", f"{self.sheet.title}, planned {planned}")

    def stop(self) -> str:
        """Stop the run at once and return how many workers have ended."""
        return self._end(Ending.STOPPED, "stopped by hand") if self.active else "nothing was running"

    def close(self) -> None:
        """End a run that goes on because the engine closes."""
        if self.active:
            self._end(Ending.STOPPED, "the engine was closed")

    def cannot_go_on(self, error: EnvironmentFault) -> None:
        """End the run in order because the surroundings forbid it, and say why."""
        self._record.note("The run could not go on", str(error), Severity.WARNING)
        self._end(Ending.COULD_NOT_RUN, str(error))

    def advance(self, tick: Tick) -> None:
        """Take the run on by one tick. Raises EnvironmentFault when it cannot go on."""
        run = self.run
        if run is None or not run.active:
            return
        self._record.writer.add_tick(run.number, tick)
        run.note_hottest(tick.at, self._record.hottest())
        self.poll()
        if self._reset_itself(run) or self._tripped(run, tick):
            return
        self._hold_temperatures(run)
        self._stalls.look_simulated(run, tick.at, self.inventory)
        self._finish_blocks(run, tick)
        self._pass_gates(run, tick)
        for step in run.due_blocks(run.run_at(tick.at)):
            self._begin_block(run, step, tick.at)
        self._count_exposure(run, tick)
        self._settle_state(run)
        if all(step.state == "done" for step in run.steps):
            self._end(Ending.FINISHED, "carried out to its end")

    def _settle_state(self, run: Run) -> None:
        if any(isinstance(step.item, Gate) and step.state == "running" for step in run.steps):
            run.change(RunState.WAITING)
        elif any(team.state is not TeamState.RUNNING for team in run.teams):
            run.change(RunState.PREPARING)
        else:
            run.change(RunState.LOADING if run.teams else RunState.BETWEEN)

    def _pass_gates(self, run: Run, tick: Tick) -> None:
        step = run.gate_now(run.run_at(tick.at))
        if step is None or run.running_blocks():
            return
        step.state = "running"
        sentence = run.gate_opens(step, tick.at)
        if sentence is None:
            run.hold_gate(step, tick.at)
            return
        run.open_gate(step, tick.at)
        self._record.writer.add_mark(run.number, tick.at, "gate opens", {"index": step.index, "title": step.title})
        self._record.note(f"{step.title.capitalize()}: gate opens", sentence)

    def _begin_block(self, run: Run, step: Step, at: float) -> None:
        block = step.item
        assert isinstance(block, Block)
        work = self._system.work
        kernels = self._kernels()
        if kernels.usable is None and work is None:
            run.delay(step, self._interval)
            return
        allowed = None if work else os.sched_getaffinity(0)
        cpus = choose_cpus(self.inventory.cpus, allowed, block.threads, block.cores)
        if not cpus:
            raise EnvironmentFault(
                f"beginning {block.title}", "no CPU may be used", "Allow this process at least one CPU."
            )
        plan = plan_block(block, self._system, self.inventory, len(cpus), bool(kernels.usable))
        body = {"index": step.index, "title": block.title, "load": block.load, "cpus": cpus}
        self._record.writer.add_mark(run.number, at, "block begins", body)
        if not self._record.writer.settle(_INTENT_WAIT_S):
            self._record.note(
                "The job file is slow", f"{block.title} begins before its intent is on the disk", Severity.WARNING
            )
        step.team = Team(cpus, plan, work, block.shape)
        step.state = "running"
        if block.hold_c is not None and self._record.hottest() is None:
            detail = "this machine tells no processor temperature, so nothing can be held; the load is full"
            self._record.note("No temperature to hold", detail, Severity.WARNING)
        step.holder = Holder(block.hold_c) if block.hold_c is not None else None
        run.workers_started += len(cpus)
        cores = len({run.cores.get(cpu, cpu) for cpu in cpus})
        plural = "s" if len(cpus) > 1 else ""
        # only our own kernels' width is known; what a library chooses is its affair
        ours = in_registers(plan) or (plan.compiled and block.load in ("integer", "memory"))
        width = f", {kernels.vector_bits}-bit vectors" if ours else ""
        form = "" if work or plan.compiled else ", in NumPy"
        self._record.note(
            f"{block.title} on {len(cpus)} thread{plural}",
            f"{cores} core{'s' if cores > 1 else ''}, {clock_text(block.length_s)}, every result checked{width}{form}",
            part=block.row,
        )
        while work and step.team.state is not TeamState.RUNNING:
            self.poll()
            time.sleep(_PREPARE_LOOK_S)
        if work and block.load == "memory":
            self._memory.begin_simulated(step)
        self._feel_work()

    def _finish_blocks(self, run: Run, tick: Tick) -> None:
        self._storms.release(tick.at, self._record.find)
        for step in run.running_blocks():
            if step.team is not None and not step.team.alive:
                raise EnvironmentFault(f"running {step.title}", "every worker has ended", "See the tape for how.")
            if run.run_at(tick.at) >= step.end_s:
                self._end_block(run, step, tick.at, "carried out")

    def _end_block(self, run: Run, step: Step, at: float, how: str) -> StopReport | None:
        team = step.team
        if team is None:
            return None
        report = team.stop()
        for event in team.poll():
            self._on_team_event(event)
        self._storms.release(None, self._record.find)
        run.beats_before += team.beats
        step.round_trips = tuple((*pair, ns) for pair, ns in team.round_trips_ns().items())
        step.round_off = team.round_off
        self._say_round_trips(step)
        step.team, step.state, step.end_s = None, "done", run.run_at(at)
        self._feel_work()
        body = {"index": step.index, "title": step.title, "how": how, "workers": report.sentence}
        self._record.writer.add_mark(run.number, at, "block ends", body)
        block = step.item
        row = block.row if isinstance(block, Block) else None
        self._record.note(f"{step.title} {how}", report.sentence, part=row)
        return report

    def _say_round_trips(self, step: Step) -> None:
        """Say what messages between cores took, the slowest pair by name."""
        if not step.round_trips:
            return
        one, other, slowest = max(step.round_trips, key=lambda each: each[2])
        fastest = min(ns for _, _, ns in step.round_trips)
        detail = f"{fastest:.0f} to {slowest:.0f} ns there and back, slowest CPU {one} and {other}"
        self._record.note("Messages between cores", detail, part=PartKind.PROCESSOR)

    def _end(self, ending: Ending, detail: str) -> str:
        run = self.run
        assert run is not None
        at = self._system.now()
        if run.state is not RunState.STOPPING:
            run.change(RunState.STOPPING)
        how = "carried out" if ending is Ending.FINISHED else "stopped"
        reports = [report for step in run.running_blocks() if (report := self._end_block(run, step, at, how))]
        for step in run.steps:
            if step.state == "running":
                step.state, step.end_s = "done", run.run_at(at)
        run.ending, run.ending_detail = ending, detail
        run.change(RunState.ENDED)
        self.past_exposures += run.exposures()
        run.exposure_minutes.clear()
        outcome = self._outcome(run)
        self._record.writer.end_run(run.number, at, ending.value, detail)
        self._record.note(f"Run {run.number} {ending.value}: {outcome.value}", detail)
        self._record.changed = True
        if not reports:
            return "no worker was running"
        started = sum(report.started for report in reports)
        ended = sum(report.ended for report in reports)
        killed = sum(report.killed for report in reports)
        return StopReport(started, ended, killed, max(report.seconds for report in reports)).sentence

    def _outcome(self, run: Run) -> Outcome:
        if run.ending is None:
            return Outcome.NOT_FINISHED
        mine = self._found_in(run)
        minutes = sum(each.minutes for each in self.past_exposures if each.run == run.number)
        return outcome_of(run.ending, len(mine), minutes)

    def _found_in(self, run: Run) -> list[Finding]:
        return [each for each in self._record.findings if each.run_at is not None and each.at >= run.began_at]

    def _tripped(self, run: Run, tick: Tick) -> bool:
        limits = run.sheet.limits
        hottest = self._record.hottest()
        reason = ""
        if limits.temperature_c is not None and self._none_believed():
            reason = "no temperature of the processor is believed, so the sheet's limit cannot be kept (X-802)"
        if limits.temperature_c is not None and hottest is not None and hottest >= limits.temperature_c:
            reason = f"{hottest:.0f} °C reached the sheet's limit of {limits.temperature_c:.0f} °C"
        silent = self._watchers.silent(tick, Quantity.TEMPERATURE) if limits.temperature_c is not None else []
        if silent and any(channel.kind is PartKind.PROCESSOR for channel in silent):
            names = ", ".join(channel.name for channel in silent)
            reason = f"{names} gives no readings, so the sheet's limit cannot be kept (X-802)"
        wrong = sum(finding.severity is Severity.FAULT for finding in self._found_in(run))
        if limits.stop_after_faults is not None and wrong >= limits.stop_after_faults:
            reason = f"{wrong} faults; the sheet stops after {limits.stop_after_faults}"
        if self._record.writer.health().overflowing:
            reason = "the job file cannot be written and memory for waiting rows is used up (X-820)"
        if reason:
            self._record.note("Limit: run stopped", reason, Severity.WARNING)
            self._end(Ending.TRIPPED, reason)
        return bool(reason)

    def _none_believed(self) -> bool:
        """Whether the processor tells temperatures and none of them counts."""
        told = [
            channel
            for channel in self._record.channels
            if channel.kind is PartKind.PROCESSOR and channel.quantity is Quantity.TEMPERATURE
        ]
        return bool(told) and all(channel.distrust for channel in told)

    def pace(self) -> None:
        """Let the workers of a simulated machine do the beats of one tick."""
        run, work = self.run, self._system.work
        if run is None or work is None:
            return
        hung = work.hung_cpus()
        for step in run.running_blocks():
            team = step.team
            if team is None or team.state is not TeamState.RUNNING:
                continue
            full = max(1.0, work.beats_per_s * self._interval) * _PACED_PER_BEAT.get(team.plan.load, 1)
            beats, flips = {}, {}
            for cpu, share in self._shares(run, step).items():
                if cpu in hung:
                    continue
                beats[cpu] = max(1, round(full * share)) if share > 0 else 0
                flips[cpu] = work.take_flips(cpu, Beats(beats[cpu], words_of(team.plan), team.plan.load))
            if team.plan.load == "relay" and hung:
                beats = {}  # whoever waits for a core that hangs waits for ever
            team.pace(beats, {cpu: due for cpu, due in flips.items() if due}, self._interval, work.memory_temperature())
        self._feel_work()

    def _shares(self, run: Run, step: Step) -> dict[int, float]:
        """Return the share of its time that each CPU of a block works in the tick that begins."""
        team = step.team
        assert team is not None
        at = max(0.0, run.run_at(self._system.now()) - step.start_s)
        cpus = team.cpus()
        allowed = team.status.allowed
        return {
            cpu: mean_share(team.shape, at, at + self._interval, number, len(cpus)) * allowed
            for number, cpu in enumerate(cpus)
        }

    def poll(self) -> None:
        """Take in what the workers say."""
        if self.run is None:
            return
        for team in self.run.teams:
            for event in team.poll():
                self._on_team_event(event)
            self._stalls.look(self.run, team, self.inventory)
        if self.run.state is RunState.PREPARING:
            self._settle_state(self.run)

    def _on_team_event(self, event: TeamEvent) -> None:
        if isinstance(event, WorkerLost) and not event.by_processor:
            self._record.note(f"Worker on CPU {event.cpu} ended", event.sentence, Severity.WARNING, "X-810")
            self._feel_work()
            return
        if isinstance(event, MemoryTakenSeen | PassSeen):
            self._memory.on_event(self.run, event)
            return
        finding = finding_of_team_event(event, self.inventory, self._system.now())
        if isinstance(event, MismatchSeen | MemoryWrongSeen) and self.run is not None:
            self.run.mismatches += finding.count
            self._storms.take(finding, self._record.find)
            self._memory.say_shape(self.run, self.inventory)
        else:
            self._record.find(finding)

    def _feel_work(self) -> None:
        """Let a simulated machine feel what its CPUs do now."""
        work, run = self._system.work, self.run
        if work is None or run is None:
            return
        stress: dict[int, Stress] = {}
        for step in run.running_blocks():
            if step.team is None or step.team.state is not TeamState.RUNNING:
                continue
            kind = CATALOGUE[step.team.plan.load]
            edges = edges_per_second(step.team.shape)
            for cpu, share in self._shares(run, step).items():
                mine = Stress(share, kind.heat, kind.wide, kind.memory, edges)
                stress[cpu] = _together(stress[cpu], mine) if cpu in stress else mine
        work.set_stress(stress)

    def _hold_temperatures(self, run: Run) -> None:
        hottest = self._record.hottest()
        for step in run.running_blocks():
            if step.holder is not None and step.team is not None and hottest is not None:
                step.team.status.allow(step.holder.step(hottest, self._interval))

    def _reset_itself(self, run: Run) -> bool:
        """Whether a simulated machine has reset itself, which ends the run as it would end a real one."""
        work = self._system.work
        if work is None or not work.take_reset():
            return False
        titles = ", ".join(step.title for step in run.running_blocks()) or "no load"
        when = clock_text(run.run_at(self._system.now()))
        self._record.find(finding_of_reset(f"{titles}, {when} into the run", self._system.now()))
        self._end(Ending.INTERRUPTED, "the machine reset itself")
        return True

    def busy_cores(self) -> frozenset[int]:
        """Return the cores that a load runs on now."""
        if self.run is None:
            return frozenset()
        running = [team for team in self.run.teams if team.state is TeamState.RUNNING]
        return frozenset(self.run.cores.get(cpu, cpu) for team in running for cpu in team.cpus())

    def _count_exposure(self, run: Run, tick: Tick) -> None:
        for step in run.running_blocks():
            if step.team is None or step.team.state is not TeamState.RUNNING or not isinstance(step.item, Block):
                continue
            if loads_memory(step) and self._system.work is None and step.memory_workers < step.team.size:
                continue  # workers still take their memory: nothing is checked yet
            since = step.loading_since
            step.loading_since = tick.at
            if since is not None:
                run.add_exposure(step, step.item.load, band_of(self._record.hottest()), tick.at - since)

    def exposures(self) -> list[Exposure]:
        """Return the time under load of all runs of the job."""
        return [*self.past_exposures, *(self.run.exposures() if self.run else [])]

    def status(self) -> RunStatus:
        """Return where the run is."""
        run, at = self.run, self._system.now()
        if run is None:
            plan = Run(0, self.sheet, 0.0, None, {}).plan() if self.sheet else ()
            length = self.sheet.length_s if self.sheet else 0.0
            title = self.sheet.title if self.sheet else ""
            return RunStatus(title=title, length_s=length, plan=plan)
        mine = self._found_in(run)
        loaded = sum(each.minutes for each in self.exposures() if each.run == run.number)
        return RunStatus(
            state=run.state.value,
            title=run.sheet.title,
            run=run.number,
            run_at=run.run_at(at),
            began_at=run.began_at,
            length_s=run.length_s,
            plan=run.plan(),
            workers_started=sum(team.size for team in run.teams),
            workers_running=sum(team.alive for team in run.teams),
            beats=run.beats_before + sum(team.beats for team in run.teams),
            mismatches=run.mismatches,
            faults=sum(finding.severity is Severity.FAULT for finding in mine),
            corrected=sum(finding.kind in CORRECTED_KINDS for finding in mine),
            loaded_s=loaded * 60.0,
            ending=run.ending.value if run.ending else "",
            ending_detail=run.ending_detail,
            outcome=self._outcome(run).value,
            busy_cores=tuple(sorted(self.busy_cores())),
            memory=next((step.memory for step in reversed(run.steps) if step.memory is not None), None),
            round_off=max((step.team.round_off if step.team else step.round_off for step in run.steps), default=0.0),
            round_trips=_newest_round_trips(run),
            allowed=min((team.status.allowed for team in run.teams), default=1.0),
        )


def _newest_round_trips(run: Run) -> tuple[tuple[int, int, float], ...]:
    for step in reversed(run.steps):
        trips = step.team.round_trips_ns() if step.team else {}
        if trips or step.round_trips:
            return tuple((*pair, ns) for pair, ns in trips.items()) or step.round_trips
    return ()


def _together(one: Stress, other: Stress) -> Stress:
    """What a CPU does that has two workers: each gets what the other leaves."""
    busy = min(1.0, one.busy + other.busy)
    half = one.busy / (one.busy + other.busy) if busy else 0.5
    heat, memory = (half * a + (1 - half) * b for a, b in ((one.heat, other.heat), (one.memory, other.memory)))
    return replace(one, busy=busy, heat=heat, memory=memory, wide=one.wide or other.wide)
