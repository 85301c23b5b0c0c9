"""Faults that once ended an engine or lost its evidence, each tried the way it happened."""

from collections import deque
from dataclasses import replace
from pathlib import Path

from tests.conftest import Heard
from thresher.cli.app import main
from thresher.diagnosis.evidence import Evidence, pieces_of
from thresher.engine.assembly import open_engine
from thresher.journal.jobfile import JobFile
from thresher.loads.plan import LoadPlan
from thresher.loads.team.messages import Failed
from thresher.loads.team.team import start_team
from thresher.machine.kmsg_reader import LOST, give_up_oldest
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet, WorkingSet
from thresher.model.trials import Book, BookPart, Configuration, Ended, Outcome, Trial
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

HOLE = LOST.to_bytes(4, "little")


def test_an_overflowing_log_gives_the_oldest_up_and_comes_to_an_end() -> None:
    begun = b"rest of a record"
    waiting = deque([begun, HOLE, HOLE, b"a" * 100, b"b" * 100, b"c" * 100])
    freed = give_up_oldest(waiting, 90)
    # both holes and one record went, one hole came: 4 + 4 + 100 - 4
    assert freed == 104
    assert list(waiting) == [begun, HOLE, b"b" * 100, b"c" * 100]
    assert give_up_oldest(waiting, 0) == 0
    assert give_up_oldest(deque([begun]), 1000) == 0


def test_holes_alone_do_not_hold_it_up() -> None:
    waiting = deque([b"x" * 10, *[HOLE] * 50])
    assert give_up_oldest(waiting, 1000) == 50 * 4 - 4
    assert list(waiting) == [b"x" * 10, HOLE]


def test_a_second_worker_that_fails_while_the_team_stops_ends_nothing() -> None:
    team = start_team([0, 0], LoadPlan("matrix", 64, 1))
    team.stop()
    failed = Failed("working out", "its memory was taken away", "Look at the log.")
    team._on_report(1, failed)  # it comes out of the queue after the first has stopped the team
    assert team.poll() == []


def test_that_a_machine_does_not_start_counts_once() -> None:
    board, module = BookPart("B1", PartKind.BOARD), BookPart("M1", PartKind.MEMORY)
    whole = Configuration(("B1", "M1"))
    dead = Outcome(Ended.NO_START, "", 0.0)

    def pieces(*trials: tuple[Configuration, tuple[Outcome, ...]]) -> int:
        made = tuple(Trial(number, f"trial {number}", fit, (), told) for number, (fit, told) in enumerate(trials))
        book = Book((board, module), made)
        found = pieces_of(Evidence((), (), 4, (), book))
        return sum(piece.state is not None and piece.state.dead for piece in found)

    assert pieces((whole, (dead,))) == 1
    assert pieces((whole, (dead, dead, dead)), (whole, (dead,))) == 1
    assert pieces((whole, (dead,)), (Configuration(("B1",)), (dead,))) == 2  # another machine, another state


def test_the_verdict_speaks_of_an_end_after_the_bench_has_taken_the_job_up(
    ferry: Scenario, tmp_path: Path, capsys: object
) -> None:
    job = tmp_path / "job.thresher"
    scenario = replace(ferry, faults=(Fault(kind=FaultKind.PANICS, strength=400.0),))
    block = Block(PartKind.PROCESSOR, "matrix", 0.0, 600.0, working_set=WorkingSet.CORE)
    engine = open_engine(SimulatedMachine(scenario, 0.0), job)
    heard = Heard()
    engine.subscribe(heard)
    engine.run_to_end(RunSheet("Panic", (block,)))
    engine.close()
    main(["verdict", str(job)])
    out = capsys.readouterr().out  # type: ignore[attr-defined]
    assert "Run 1 ended by kernel panic" in out
    main(["endings", str(job)])
    assert "the kernel left its last words" in capsys.readouterr().out  # type: ignore[attr-defined]
    with JobFile(job, read_only=True) as stored:
        assert len(stored.endings()) == 1
