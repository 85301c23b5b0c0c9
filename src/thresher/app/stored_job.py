"""A stored job as a window would have seen it: the snapshot and history that the engine itself would give."""

import os

from thresher.app.stored_verdict import shop_of
from thresher.engine.run.step_kinds import STEP_KINDS, steps_of
from thresher.journal.jobfile import JobFile, Readings, StoredRun
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import CORRECTED_KINDS, FindingKind, Severity
from thresher.model.job import parse_complaints
from thresher.model.run_states import Ending, RunState, StepState, outcome_of
from thresher.model.sheet import Block
from thresher.model.sheet_changes import ChangeKind
from thresher.model.verdict import Verdict
from thresher.protocol.answers import Snapshot
from thresher.protocol.intake import Intake
from thresher.protocol.status import EngineHealth, PlanItem, RunStatus
from thresher.protocol.wire import VERSION


def stored_snapshot(stored: JobFile, verdict: Verdict) -> Snapshot:
    """Return the snapshot of a job's last run. Raises EnvironmentFault when it has none."""
    run = _last_run(stored)
    job = stored.job()
    readings = stored.readings(run)
    return Snapshot(
        version=VERSION,
        pid=os.getpid(),
        job=job,
        job_file=str(stored.path),
        machine=run.machine,
        kind="stored job",
        speed=1.0,
        channels=run.channels,
        unknown=run.machine.unknown,
        wall_offset=run.began_wall - run.began_at,
        sheet=run.sheet,
        run=_status(stored, run),
        tape=tuple(stored.tape(run)),
        findings=(*stored.findings(run), *stored.findings_outside()),
        verdict=verdict,
        symptoms=tuple(each.text for each in parse_complaints(job.get("symptoms", ""))),
        health=EngineHealth(len(run.channels), 1.0, 0.0, readings.late, None, 0, None),
        last_event=0,
        draft=stored.draft(),
        endings=tuple(stored.endings()),
        shop=str(shop_of(stored)),
        intake=Intake(instances=stored.part_instances(), baseline=stored.baseline()),
    )


def stored_history(stored: JobFile) -> Readings:
    """Return all ticks of a job's last run."""
    return stored.readings(_last_run(stored))


def _last_run(stored: JobFile) -> StoredRun:
    runs = stored.runs()
    if not runs:
        raise EnvironmentFault(f"showing the job file {stored.path}", "it holds no run", "Start one first.")
    return runs[-1]


def _status(stored: JobFile, run: StoredRun) -> RunStatus:
    findings = stored.findings(run)
    minutes = sum(exposure.minutes for exposure in stored.exposures(run))
    last = run.ended_at if run.ended_at is not None else (stored.last_tick_at(run) or run.began_at)
    interruption = stored.interruption(run)
    ending = run.ending if run.ending is not None and not interruption else Ending.INTERRUPTED
    return RunStatus(
        state=RunState.ENDED,
        title=run.title,
        run=run.number,
        run_at=last - run.began_at,
        began_at=run.began_at,
        length_s=max(run.sheet.length_s, last - run.began_at),
        plan=_plan(stored, run),
        mismatches=sum(each.count for each in findings if each.kind is FindingKind.WRONG_RESULT),
        faults=sum(each.severity is Severity.FAULT for each in findings),
        corrected=sum(each.kind in CORRECTED_KINDS for each in findings),
        loaded_s=minutes * 60.0,
        ending=ending,
        ending_detail=interruption or str(run.ending_detail),
        outcome=outcome_of(ending, len(findings), minutes),
    )


def _plan(stored: JobFile, run: StoredRun) -> tuple[PlanItem, ...]:
    """The plan with the times at which its steps really began and ended, as far as they came."""
    real: dict[int, tuple[float, float]] = {}
    for block in stored.blocks(run):
        end = block.ended_at if block.ended_at is not None else (stored.last_tick_at(run) or block.began_at)
        real[block.index] = (block.began_at - run.began_at, end - run.began_at)
    changes = stored.changes(run)
    left_out = {change.step for change in changes if change.kind is ChangeKind.LEAVE_OUT}
    steps = steps_of(run.sheet)
    steps += [STEP_KINDS[Block](each.step, each.block) for each in changes if each.block is not None]
    items = []
    before = 0.0
    for index, item in enumerate(step.plan_item() for step in steps):
        start, end = real.get(index, (before, item.end_s))
        if item.gate and index + 1 in real:
            end = real[index + 1][0]
        if index in left_out:
            items.append(PlanItem(item.gate, item.row, item.title, before, before, StepState.LEFT_OUT, step=index))
            continue
        state = StepState.DONE if index in real or item.gate else StepState.COMING
        items.append(PlanItem(item.gate, item.row, item.title, start, max(start, end), state, step=index))
        before = max(start, end)
    return tuple(items)
