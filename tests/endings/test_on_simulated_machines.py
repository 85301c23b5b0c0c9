"""Simulated machines that come to a sudden end: read back after the start, as evidence, and going on by themselves."""

import signal
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.app.open_jobs import jobs_left_open
from thresher.app.stored_verdict import job_verdict
from thresher.endings.conclude import OpenEnd, conclude
from thresher.endings.traces import LeftBehind, Traces, fatal_lines
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.engine.services import endings as endings_service
from thresher.engine.services.open_ends import open_ends
from thresher.journal.black_box import box_path, read_box
from thresher.journal.jobfile import JobFile, StoredRun
from thresher.journal.writer import Closing
from thresher.model.endings import EndingKind, LastMoments, Moment, SeenAtEnd, findings_of_ending
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import ADOPTED, ENDING_KINDS, FindingKind
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending
from thresher.model.sheet import AfterCrash, Block, CrashPlan, RunSheet, WorkingSet
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

OFTEN = 240.0


class KeptRestart:
    """Stands in for the unit that starts the program again: says what was arranged."""

    def __init__(self) -> None:
        """Nothing is arranged."""
        self.jobs: list[Path] = []
        self.removed = 0

    def install(self, job: Path) -> str:
        """Arrange for it."""
        self.jobs.append(job)
        return "arranged"

    def remove(self) -> str:
        """Undo it."""
        self.removed += 1
        return ""


Bench = Callable[..., tuple[Engine, Heard]]


@pytest.fixture
def bench(ferry: Scenario, tmp_path: Path) -> Iterator[Bench]:
    """Engines on a machine with given faults, all on one job."""
    made: list[Engine] = []

    def make(
        *faults: Fault, seed: int = 7, restart: KeptRestart | None = None, **changes: object
    ) -> tuple[Engine, Heard]:
        scenario = replace(ferry, faults=faults, seed=seed, **changes)  # type: ignore[arg-type]
        heard = Heard()
        engine = open_engine(SimulatedMachine(scenario, 0.0), tmp_path / "job.thresher", restart=restart)
        engine.subscribe(heard)
        made.append(engine)
        return engine, heard

    yield make
    for engine in made:
        engine.close()


def hunt(then: AfterCrash = AfterCrash.WAIT, *, most: int = 12, length_s: float = 900.0, loads: int = 1) -> RunSheet:
    """A sheet of one load, or of one on the processor and one on the memory beside it."""
    blocks = [
        Block(PartKind.PROCESSOR, "matrix", 0.0, length_s, working_set=WorkingSet.CORE),
        Block(
            PartKind.MEMORY,
            "memory",
            0.0,
            length_s,
            working_set=WorkingSet.MAIN_MEMORY,
            patterns=("moving inversions",),
        ),
    ]
    return RunSheet("Hunt", tuple(blocks[:loads]), crash=CrashPlan(then, most=most))


ENDS = {
    FaultKind.FREEZES: (OFTEN, EndingKind.FREEZE, FindingKind.FROZE),
    FaultKind.PANICS: (OFTEN, EndingKind.PANIC, FindingKind.KERNEL_CRASH),
    FaultKind.SWITCHES_OFF: (OFTEN, EndingKind.POWER_OFF, FindingKind.SWITCHED_OFF),
    FaultKind.OVERHEATS: (0.9, EndingKind.HEAT, FindingKind.HEAT_SHUTDOWN),
}


@pytest.mark.parametrize("fault", ENDS)
def test_each_end_is_read_back_after_the_start_with_what_somebody_saw(bench: Bench, fault: FaultKind) -> None:
    strength, kind, found = ENDS[fault]
    engine, _ = bench(Fault(kind=fault, strength=strength))
    engine.run_to_end(hunt())
    (ending,) = engine.endings.endings
    if ending.question:
        seen = {EndingKind.FREEZE: SeenAtEnd.STOOD_STILL, EndingKind.POWER_OFF: SeenAtEnd.WAS_OFF}
        ending = engine.endings.answer(0, seen[kind])
    assert ending.kind is kind, ending.chances
    assert ending.run == 1
    assert ending.load_names == ("matrix",)
    assert ending.temperature_c is not None
    assert ending.loaded_s > 0
    evidence = [each for each in engine.findings if each.kind in ENDING_KINDS]
    assert [each.kind for each in evidence] == [found]
    assert evidence[0].load == "matrix"
    assert evidence[0].temperature_c == ending.temperature_c


def test_a_crash_never_makes_the_machine_look_better(bench: Bench) -> None:
    engine, _ = bench(Fault(kind=FaultKind.SWITCHES_OFF, strength=OFTEN))
    engine.run_to_end(hunt())
    engine.endings.answer(0, SeenAtEnd.WAS_OFF)
    engine.watch(2)
    verdict = engine.verdict
    assert verdict is not None
    healthy = next(each.probability for each in verdict.suspects if each.kind is None)
    assert healthy < 0.2
    assert verdict.suspects[0].kind is PartKind.POWER
    assert verdict.shown_share == pytest.approx(0.0, abs=1e-9)  # the minutes before the end are no clean time
    assert all(each.broken_off for each in engine.conductor.exposures())


def test_the_file_says_the_same_as_the_bench(bench: Bench, tmp_path: Path) -> None:
    engine, _ = bench(Fault(kind=FaultKind.PANICS, strength=OFTEN))
    engine.run_to_end(hunt())
    engine.watch(2)
    live = engine.verdict
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        assert [each.kind for each in stored.endings()] == [EndingKind.PANIC]
        (run,) = stored.runs()
        assert [each.code for each in stored.findings(run)] == ["E-905"]
        assert all(each.broken_off for each in stored.exposures(run))
        moments = stored.last_moments(stored.endings()[0])
        assert moments is not None
        assert moments.rows[-1].workers
        again = job_verdict(stored)
    assert live is not None
    assert again.suspects[0].mode == live.suspects[0].mode
    assert again.suspects[0].probability == pytest.approx(live.suspects[0].probability, abs=1e-6)


def test_an_answer_changes_what_it_was_and_an_innocent_end_is_no_evidence(bench: Bench) -> None:
    engine, heard = bench(Fault(kind=FaultKind.SWITCHES_OFF, strength=OFTEN))
    engine.run_to_end(hunt())
    engine.watch(2)
    before = [each for each in engine.findings if each.kind in ENDING_KINDS]
    assert before
    said = engine.endings.answer(0, SeenAtEnd.PLUG_PULLED)
    assert said.kind is EndingKind.POWER_CUT
    assert not [each for each in engine.findings if each.kind in ENDING_KINDS]
    engine.watch(2)
    verdict = engine.verdict
    assert verdict is not None
    assert verdict.suspects[0].kind is None
    assert verdict.shown_share == pytest.approx(0.0, abs=1e-9)  # and its minutes are still no clean time
    assert any("somebody said" in line for line in heard.tape())
    with pytest.raises(EnvironmentFault, match="no such end"):
        engine.endings.answer(3, SeenAtEnd.STOOD_STILL)


def test_an_engine_that_dies_with_the_machine_alive_condemns_nothing(bench: Bench, tmp_path: Path) -> None:
    first, _ = bench()
    first.sheets.put(hunt())
    first.start()
    first.watch(30)
    abandon(first)
    (left,) = jobs_left_open(tmp_path)
    assert "run 1 was in progress" in left.words
    second, heard = bench()
    second.watch(20)
    (ending,) = second.endings.endings
    assert ending.kind is EndingKind.KILLED
    assert not ending.question
    assert not [each for each in second.findings if each.kind in ENDING_KINDS]
    assert any("program killed" in line for line in heard.tape())
    second.close()
    assert jobs_left_open(tmp_path) == ()


def abandon(engine: Engine) -> None:
    """Let go of a job as a killed program does: nothing is ended, nothing is written any more."""
    for step in engine.conductor.run.running() if engine.conductor.run is not None else ():
        if step.team is not None:
            step.team.stop()
    engine._record.writer.settle(5.0)
    engine._record.writer.close()
    engine.endings.box._let_go()
    engine.close = Closing  # type: ignore[method-assign]  # the fixture closes what is left


def test_a_run_goes_on_with_what_was_left(bench: Bench) -> None:
    restart = KeptRestart()
    engine, heard = bench(Fault(kind=FaultKind.PANICS, strength=12.0), restart=restart)
    status = engine.run_to_end(hunt(AfterCrash.GO_ON, most=30, length_s=1800.0))
    ends = len(engine.endings.endings)
    assert ends >= 2
    assert status.ending == "finished"
    assert len(restart.jobs) == ends + 1
    assert restart.removed >= 1
    done = sum(each.loaded_s for each in engine.endings.endings) + status.length_s
    assert done == pytest.approx(1800.0, abs=60.0 * ends + 5)  # each end costs at most the least that is done again
    assert any("Goes on by itself" in line for line in heard.tape())


def test_a_run_that_repeats_begins_anew_after_what_was_left_and_counts_its_ends_on(bench: Bench) -> None:
    engine, _ = bench(Fault(kind=FaultKind.PANICS, strength=20.0))
    engine.sheets.put(replace(hunt(AfterCrash.GO_ON, most=50, length_s=240.0), repeat=True))
    engine.start()
    for _ in range(400):
        engine.watch(30)
        lengths = [(run.sheet.length_s, run.ending) for run in runs_of(engine)]
        ended = [index for index, (length, how) in enumerate(lengths) if length < 240.0 and how is Ending.FINISHED]
        if ended and len(lengths) > ended[0] + 2:
            break
    assert lengths[ended[0] + 1][0] == 240.0  # the whole sheet, not the rest over and over
    assert len(engine.endings.endings) >= 1
    assert engine.going_on.event().ends == len(engine.endings.endings)
    engine.stop()


def test_a_run_with_crashes_names_the_core_by_itself(bench: Bench) -> None:
    engine, heard = bench(Fault(kind=FaultKind.CRASHING_CORE, core=2, strength=600.0), seed=3)
    engine.run_to_end(hunt(AfterCrash.ISOLATE, loads=2))
    event = engine.going_on.event()
    assert event.named.endswith(" on core 2")  # either load brings it down
    assert {ended for _, ended, _, _ in event.tried} == {True, False}
    assert "E-907" in heard.codes()
    verdict = engine.verdict
    assert verdict is not None
    assert (verdict.suspects[0].kind, verdict.suspects[0].place) == (PartKind.PROCESSOR, "core 2")


def test_a_loop_of_ends_comes_to_its_own_end(bench: Bench) -> None:
    engine, heard = bench(Fault(kind=FaultKind.PANICS, strength=50_000.0))
    engine.run_to_end(hunt(AfterCrash.GO_ON, most=3))
    assert len(engine.endings.endings) == 3
    starts = [run.began_wall for run in runs_of(engine)]
    assert len(starts) == 3
    # never sooner after the start before than the sheet allows, 120 s
    assert all(later - earlier >= 120.0 for earlier, later in pairwise(starts))
    assert any("end 3 of 3" in line for line in heard.tape())


def runs_of(engine: Engine) -> list[StoredRun]:
    """The runs of an engine's job."""
    with JobFile(engine.job_file, read_only=True) as stored:
        return list(stored.runs())


def test_a_file_beside_the_job_stops_it(bench: Bench, tmp_path: Path) -> None:
    engine, heard = bench(Fault(kind=FaultKind.PANICS, strength=OFTEN))
    (tmp_path / "job.thresher.stop").touch()
    engine.run_to_end(hunt(AfterCrash.GO_ON))
    assert len(engine.endings.endings) == 1
    assert any("says stop" in line for line in heard.tape())


def test_what_goes_on_is_taken_up_by_the_next_program_and_can_be_stopped(bench: Bench) -> None:
    first, _ = bench()
    first.sheets.put(hunt(AfterCrash.GO_ON))
    first.start()
    first.watch(60)
    abandon(first)
    second, _ = bench()
    second.watch(15)
    event = second.going_on.event()
    assert event.due is not None
    assert "what is left of Hunt" in event.next_words
    second.going_on.stop("a key was pressed")
    second.watch(60)
    assert not second.conductor.active
    assert second.going_on.event().given_up == "a key was pressed"
    second.close()
    third, _ = bench()
    third.watch(15)
    assert third.going_on.event().due is None


def test_a_machine_that_ends_before_the_next_run_begins_counts_that_too(bench: Bench) -> None:
    first, _ = bench()
    first.sheets.put(hunt(AfterCrash.GO_ON, most=3))
    first.start()
    first.watch(20)
    abandon(first)
    for left in (True, True, False):
        engine, _ = bench()
        engine.watch(14)  # it dies again during the countdown
        assert (engine.going_on.event().due is not None) is left
        abandon(engine)


def test_a_person_who_shuts_the_machine_down_is_not_worked_against(bench: Bench) -> None:
    engine, _ = bench(Fault(kind=FaultKind.FREEZES, strength=OFTEN))
    engine.sheets.put(hunt(AfterCrash.GO_ON))
    engine.start()
    while not engine.endings.endings:
        engine.watch(5)
    assert engine.going_on.pending
    engine.stop()
    engine.going_on.stop("stopped by hand")
    engine.watch(60)
    assert not engine.conductor.active


def test_the_watchdog_is_armed_for_the_run_and_says_that_it_froze(bench: Bench) -> None:
    engine, heard = bench(Fault(kind=FaultKind.FREEZES, strength=OFTEN), watchdog=True)
    engine.run_to_end(replace(hunt(), crash=CrashPlan(AfterCrash.WAIT, watchdog=True)))
    (ending,) = engine.endings.endings
    assert (ending.kind, ending.question) == (EndingKind.FREEZE, "")
    assert ending.off_s == pytest.approx(30.0, abs=2.0)
    assert any("Hardware watchdog armed" in line for line in heard.tape())
    assert any("Hardware watchdog off" in line for line in heard.tape())


def test_without_a_watchdog_that_is_said(bench: Bench) -> None:
    engine, heard = bench()
    engine.run_to_end(replace(hunt(length_s=20.0), crash=CrashPlan(AfterCrash.WAIT, watchdog=True)))
    assert "X-841" in heard.codes()


def test_the_box_is_gone_when_the_bench_was_closed_in_order(bench: Bench, tmp_path: Path) -> None:
    engine, _ = bench()
    engine.run_to_end(hunt(length_s=20.0))
    engine.close()
    assert read_box(box_path(tmp_path / "job.thresher")) is None  # nobody needs it any more
    again, _ = bench()
    assert again.endings.settled
    assert again.endings.endings == []


def test_a_fatal_machine_check_that_the_next_start_reports_stands_for_the_end(bench: Bench) -> None:
    """The kernel finds the bank still full at the next start; it belongs to the run that it ended."""
    engine, _ = bench()
    # bank 1, VAL UC EN MISCV ADDRV PCC set, code 0x0135: a data read error of the first-level cache (SDM 3B, 16.9.2)
    lines = (
        "Linux version 6.1.0",
        "mce: [Hardware Error]: Machine check events logged",
        "mce: [Hardware Error]: CPU 2: Machine Check: 0 Bank 1: be00000000000135",
        "mce: [Hardware Error]: TSC 0 ADDR 12345040 MISC 86 ",
        "mce: [Hardware Error]: PROCESSOR 0:b0671 TIME 1774357800 SOCKET 0 APIC 4 microcode 12b",
    )
    moments = LastMoments((), (Moment(500.0, 1_774_357_790.0, 4, ()),))
    left = LeftBehind("before", 500.0, 1_774_357_790.0, None, 0, 0, moments, {}, True)
    traces = Traces("now", 1_774_357_812.0, started_with=lines)
    errors = engine.events.errors_left(fatal_lines(traces, left))
    assert [(each.kind, each.part) for each in errors] == [(FindingKind.UNCORRECTED_CHECK, PartKind.PROCESSOR)]
    ended = OpenEnd(4, left, 100.0, 380.0, ("matrix, core",), ("matrix",), (0,), (), 500.0)
    ending = conclude(ended, traces, errors)
    (finding,) = findings_of_ending(ending)
    assert (finding.run, finding.load, finding.run_at, finding.origin) == (4, "matrix", 400.0, ADOPTED)
    assert finding.core is not None
    # within the same boot nothing of it can be from before
    assert fatal_lines(replace(traces, boot_id="before"), left) == ()


def test_last_words_that_were_there_before_belong_to_an_end_before(bench: Bench) -> None:
    engine, _ = bench(
        Fault(kind=FaultKind.PANICS, strength=OFTEN), Fault(kind=FaultKind.FREEZES, strength=OFTEN), watchdog=True
    )
    sheet = replace(hunt(AfterCrash.GO_ON, most=8, length_s=3600.0), crash=CrashPlan(AfterCrash.GO_ON, 8, 60.0, True))
    engine.run_to_end(sheet)
    kinds = [each.kind for each in engine.endings.endings]
    assert set(kinds) == {EndingKind.PANIC, EndingKind.FREEZE}
    words = [any(trace.name == "last words of a panic" for trace in each.traces) for each in engine.endings.endings]
    assert words == [kind is EndingKind.PANIC for kind in kinds]


def test_words_that_were_there_before_are_known_also_when_the_box_is_lost(
    bench: Bench, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(endings_service, "last_words_files", lambda _system: ["/sys/fs/pstore/dmesg-erst-7"])
    engine, _ = bench()
    engine.sheets.put(hunt())
    engine.start()
    engine.watch(20)
    time.sleep(1.5)  # the rows are on the drive
    left = tmp_path / "left.thresher"
    with closing(sqlite3.connect(tmp_path / "job.thresher")) as there, closing(sqlite3.connect(left)) as copied:
        there.backup(copied)  # as a cut of the power leaves it
    with JobFile(left, read_only=True) as stored:
        ((end, _reached),) = open_ends(stored, None, "another boot")
    engine.close()
    assert end.left.known_words == ("/sys/fs/pstore/dmesg-erst-7",)


@pytest.mark.parametrize(("number", "left"), [(signal.SIGTERM, True), (0, False)])
def test_a_countdown_outlives_a_shutdown_and_not_the_person_who_closes_the_bench(
    bench: Bench, tmp_path: Path, number: int, left: bool
) -> None:
    restart = KeptRestart()
    engine, _ = bench(Fault(kind=FaultKind.PANICS, strength=OFTEN), restart=restart)
    engine.sheets.put(hunt(AfterCrash.GO_ON))
    engine.start()
    while not engine.going_on.pending:
        engine.watch(5)
    removed = restart.removed
    engine.quit(number)
    engine.close()
    assert (restart.removed == removed) is left
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        assert bool(stored.going_on()) is left


def test_what_was_asked_of_a_run_by_sigterm_is_looked_into_at_the_next_start(bench: Bench) -> None:
    first, _ = bench()
    first.sheets.put(hunt())
    first.start()
    first.watch(30)
    first.quit(signal.SIGTERM)
    first.close()
    second, heard = bench()
    second.watch(20)
    (ending,) = second.endings.endings
    assert ending.kind is EndingKind.KILLED  # the machine has not started again since
    assert any("asked to end by signal 15" in trace.words for trace in ending.traces)
    assert not any("clean" in line for line in heard.tape())
