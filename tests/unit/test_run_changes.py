"""A run that is changed while it goes on is carried out so, and its report says so."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from tests.crash.engine_process import EngineProcess
from thresher.app.stored_job import stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.compose.draft import Draft, put, put_gate
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import Block, GateKind, RunSheet
from thresher.model.sheet_changes import ChangeKind
from thresher.protocol.commands import AddTime, AppendBlock, EndBlock, LeaveOut, PutDraft, StartRun
from thresher.protocol.events import EngineEvent, TickEvent
from thresher.report.html import render
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]


def block(load: str, start: float, length: float, kind: PartKind = PartKind.PROCESSOR) -> Block:
    return Block(kind, load, start, length, patterns=("fixed",) if kind is PartKind.MEMORY else ())


def three_blocks() -> RunSheet:
    items = (block("matrix", 0, 60), block("integer", 60, 60), block("branchy", 120, 60))
    return put(Draft("Three loads"), items)[0].sheet()


class At:
    """Does things to a run when it has come so far, each once, on the engine's own thread."""

    def __init__(self, engine: Engine, *todo: tuple[float, Callable[[Engine], object]]) -> None:
        self._engine, self._todo = engine, list(todo)
        engine.subscribe(self)

    def __call__(self, event: EngineEvent) -> None:
        if isinstance(event, TickEvent) and self._todo and event.run.run_at >= self._todo[0][0]:
            self._todo.pop(0)[1](self._engine)


def ends(engine: Engine) -> list[tuple[str, int, int, StepState]]:
    return [(each.title, round(each.start_s), round(each.end_s), each.state) for each in engine.status().plan]


def test_a_block_is_extended_and_what_follows_moves(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    At(engine, (20, lambda engine: engine.sheets.changes().add_time(0, 100)))
    engine.run_to_end(three_blocks())
    assert [(start, end) for _, start, end, _ in ends(engine)] == [(0, 160), (160, 220), (220, 280)]
    assert "Run changed: matrix, shared cache: 0:01:40 more" in heard.tape()
    assert sum(each.minutes for each in engine.conductor.exposures()) * 60 == pytest.approx(280, abs=3)


def test_a_block_is_ended_and_the_next_begins_at_once(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    At(engine, (20, lambda engine: engine.sheets.changes().end_block(0)))
    engine.run_to_end(three_blocks())
    first, second, third = ends(engine)
    assert first[2] <= 22
    assert second[1] <= first[2] + 2
    assert 60 <= second[2] - second[1] <= 61
    assert third[2] - third[1] >= 60
    assert engine.status().length_s < 150
    assert any(line.startswith("matrix, shared cache ended by hand: 8 of 8 workers") for line in heard.tape())


def test_a_block_still_to_come_is_left_out_and_the_run_goes_on_without_it(
    make_engine: MakeEngine, ferry: Scenario
) -> None:
    engine, heard = make_engine(ferry)
    At(engine, (20, lambda engine: engine.sheets.changes().leave_out(1)))
    engine.run_to_end(three_blocks())
    assert ends(engine)[1][3] is StepState.LEFT_OUT
    assert engine.status().ending == "finished"
    assert 118 <= engine.status().length_s <= 124
    assert not any(line.startswith("integer, shared cache on") for line in heard.tape())


def test_a_block_is_put_behind_the_last_and_the_report_shows_all_changes(
    make_engine: MakeEngine, ferry: Scenario, tmp_path: Path
) -> None:
    engine, heard = make_engine(ferry)
    sieve = block("sieve", 999, 30)

    def change(engine: Engine) -> None:
        engine.sheets.changes().append(sieve)
        engine.sheets.changes().leave_out(2)
        engine.added_evidence.note("opened the side panel")

    At(engine, (70, change))
    engine.run_to_end(three_blocks())
    assert any(line.startswith("sieve, shared cache on 8 threads") for line in heard.tape())
    assert [change.kind for change in engine.status().changes] == [ChangeKind.APPEND, ChangeKind.LEAVE_OUT]
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        verdict = job_verdict(stored)
        page = render(stored, verdict)
        plan = stored_snapshot(stored, verdict).run.plan
    assert "Changed and noted while it ran" in page
    for words in ("sieve, shared cache: added, 0:00:30", "branchy, shared cache: left out", "opened the side panel"):
        assert words in page
    assert [(item.title, item.state) for item in plan[2:]] == [
        ("branchy, shared cache", StepState.LEFT_OUT),
        ("sieve, shared cache", StepState.DONE),
    ]


def test_the_gate_that_asks_waits_for_an_answer_and_then_for_none(make_engine: MakeEngine, ferry: Scenario) -> None:
    asked = put_gate(put(Draft(), (block("matrix", 0, 30), block("integer", 30, 30)))[0], GateKind.ASK, 30.0)[0]
    engine, heard = make_engine(ferry)
    At(engine, (90, lambda engine: engine.sheets.changes().go_on(1)))
    engine.run_to_end(asked.sheet())
    assert ends(engine)[1][2] == pytest.approx(91, abs=1)
    assert "Ask: gate opens: opened by the technician" in heard.tape()

    engine, heard = make_engine(ferry, "second.thresher")
    gate = replace(asked.sheet().gates[0], at_most_s=120)
    engine.run_to_end(replace(asked.sheet(), gates=(gate,)))
    assert ends(engine)[1][2] == pytest.approx(150, abs=2)
    assert "Ask: gate opens: nobody answered; the run goes on" in heard.tape()


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda changes: changes.add_time(0, 400 * 3600.0), "expected 1 second to 24:00:00"),
        (lambda changes: changes.add_time(9, 60), "the run has steps 0 to 2, not 9"),
        (lambda changes: changes.end_block(1), "integer, shared cache does not run"),
        (lambda changes: changes.leave_out(0), "matrix, shared cache has begun already"),
        (lambda changes: changes.go_on(0), "is not a gate that waits"),
        (lambda changes: changes.append(block("matrix", 0, 0)), "expected at least 1 second"),
        (lambda changes: changes.append(replace(block("matrix", 0, 60), cores=(12,))), "has no core 12"),
    ],
)
def test_what_cannot_be_changed_is_refused_and_nothing_changes(
    make_engine: MakeEngine, ferry: Scenario, change: Callable[[object], None], words: str
) -> None:
    engine, _ = make_engine(ferry)
    engine.sheets.put(three_blocks())
    engine.start()
    engine.watch(5)
    before = engine.status().plan
    with pytest.raises(InputError, match=words):
        change(engine.sheets.changes())
    assert engine.status().plan == before
    assert engine.status().changes == ()
    engine.stop()
    with pytest.raises(EnvironmentFault, match="no run is in progress"):
        change(engine.sheets.changes())


def test_a_run_on_this_computer_is_changed_too(tmp_path: Path) -> None:
    engine = EngineProcess(tmp_path)
    try:
        call = engine.client.call
        items = (block("matrix", 0, 2), block("integer", 2, 60), block("branchy", 62, 5))
        call(PutDraft(put(Draft("Live"), items)[0].sheet()))
        call(StartRun())
        engine.wait(lambda run: run.plan[0].state is StepState.RUNNING, 120)
        call(AddTime(0, 2.0))
        engine.wait(lambda run: run.plan[1].state is StepState.RUNNING, 60)
        call(LeaveOut(2))
        call(AppendBlock(block("sieve", 0, 2)))
        call(EndBlock(1))
        run = engine.wait(lambda run: run.state == "ended", 60)
    finally:
        engine.close()
    assert run.ending == "finished"
    first, second, third, fourth = run.plan
    assert first.end_s - first.start_s >= 4
    assert second.end_s - second.start_s < 30
    assert (third.state, fourth.state) == (StepState.LEFT_OUT, StepState.DONE)
    assert len(run.changes) == 4
