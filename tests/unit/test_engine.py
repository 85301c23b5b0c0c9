"""Runs carried out on simulated machines: found, not found, repeated, stopped, tripped."""

import itertools
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.compose.sheet_file import load_sheet, parse_sheet, shipped_sheets
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.machine.tree import TreeSystem
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import FindingKind
from thresher.model.parts import PartStatus
from thresher.model.sheet import RunSheet, SheetLimits
from thresher.protocol.events import EngineEvent, TickEvent
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

MakeEngine = Callable[..., tuple[Engine, Heard]]
MakeSheet = Callable[[float], RunSheet]


@pytest.fixture
def demo_sheet() -> RunSheet:
    return load_sheet(shipped_sheets()["reset-hunt-short"])


@pytest.fixture
def hasty(lighthouse: Scenario) -> Scenario:
    """The demo machine with a core that errs within its first minute."""
    clogged = next(fault for fault in lighthouse.faults if fault.kind is FaultKind.CLOGGED_HEATSINK)
    return replace(lighthouse, faults=(Fault(kind=FaultKind.WEAK_CORE, core=5, strength=80.0), clogged))


@pytest.fixture(scope="module")
def demo_run(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Engine, Heard]]:
    """The whole demo run, carried out once."""
    scenario = load_scenario(shipped_scenarios()["lighthouse-playout"])
    heard = Heard()
    engine = open_engine(SimulatedMachine(scenario, 0.0), tmp_path_factory.mktemp("demo") / "job.thresher")
    engine.subscribe(heard)
    engine.run_to_end(load_sheet(shipped_sheets()["reset-hunt-short"]))
    yield engine, heard
    engine.close()


def test_the_demo_finds_the_weak_core_and_the_clogged_cooler(demo_run: tuple[Engine, Heard]) -> None:
    engine, heard = demo_run
    status = engine.status()
    assert (status.state, status.ending, status.outcome) == ("ended", "finished", "faults found")
    assert {"P-310", "P-104", "C-201", "C-220"} <= heard.codes()
    assert {finding.core for finding in engine.findings if finding.code in ("P-104", "P-310")} == {5}
    verdict = engine.verdict
    assert verdict is not None
    assert {each.mode for each in verdict.suspects[:2]} == {"processor.weak-core", "cooling.clogged"}
    assert verdict.statuses["processor"] is PartStatus.REPLACE
    assert verdict.statuses["cooling"] is PartStatus.IN_DOUBT
    wrong = next(finding for finding in engine.findings if finding.kind is FindingKind.WRONG_RESULT)
    assert wrong.temperature_c is not None
    assert wrong.temperature_c > 80
    assert wrong.load == "matrix"
    assert "expected" in wrong.raw


def test_a_healthy_machine_comes_out_clean(make_engine: MakeEngine, ferry: Scenario, demo_sheet: RunSheet) -> None:
    engine, heard = make_engine(ferry)
    status = engine.run_to_end(demo_sheet)
    assert (status.ending, status.outcome, status.mismatches) == ("finished", "clean", 0)
    assert heard.codes() == set()
    assert engine.verdict is not None
    assert engine.verdict.suspects[0].kind is None


def test_a_run_repeats_exactly(make_engine: MakeEngine, hasty: Scenario, sheet: MakeSheet) -> None:
    runs = []
    for job in ("one.thresher", "two.thresher"):
        engine, heard = make_engine(hasty, job)
        engine.run_to_end(sheet(100))
        assert engine.findings
        ticks = [event.tick for event in heard.events if isinstance(event, TickEvent)]
        runs.append((engine.findings, [(tick.at, tick.values) for tick in ticks]))
    assert runs[0] == runs[1]


def test_another_seed_gives_another_run(make_engine: MakeEngine, hasty: Scenario, sheet: MakeSheet) -> None:
    found = []
    for seed in (hasty.seed, 99):
        engine, _ = make_engine(replace(hasty, seed=seed), f"{seed}.thresher")
        engine.run_to_end(sheet(100))
        assert engine.findings
        found.append([finding.at for finding in engine.findings])
    assert found[0] != found[1]


def test_everything_is_in_the_job_file(
    make_engine: MakeEngine, hasty: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    engine, heard = make_engine(hasty)
    engine.run_to_end(sheet(100))
    verdict, findings = engine.verdict, engine.findings
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        (run,) = stored.runs()
        assert (run.ending, run.simulated) == ("finished", True)
        assert stored.findings(run) == list(findings)
        readings = stored.readings(run)
        assert len(readings.at) == 101
        assert [entry.title for entry in stored.tape(run)] == [
            event.entry.title for event in heard.events if hasattr(event, "entry")
        ]
        (block,) = stored.blocks(run)
        assert block.ended_at is not None
        minutes = sum(exposure.minutes for exposure in stored.exposures(run))
        assert minutes == pytest.approx(100 / 60, abs=0.1)
    again = open_engine(SimulatedMachine(hasty, 0.0), tmp_path / "job.thresher")
    again.watch(1.0)
    assert again.verdict is not None
    assert verdict is not None
    assert again.verdict.suspects[0].probability == pytest.approx(verdict.suspects[0].probability, abs=0.02)
    again.close()


def test_the_sheets_temperature_limit_stops_the_run(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet
) -> None:
    engine, heard = make_engine(lighthouse)
    status = engine.run_to_end(replace(sheet(600), limits=SheetLimits(temperature_c=80)))
    assert status.ending == "tripped"
    assert "reached the sheet's limit of 80" in status.ending_detail
    assert status.run_at < 300
    assert any("workers have ended" in line for line in heard.tape())


def test_the_run_stops_after_so_many_faults(make_engine: MakeEngine, hasty: Scenario, sheet: MakeSheet) -> None:
    engine, _ = make_engine(hasty)
    status = engine.run_to_end(replace(sheet(900), limits=SheetLimits(stop_after_faults=1)))
    assert (status.ending, status.outcome, status.faults) == ("tripped", "faults found", 1)


def test_a_limit_channel_that_falls_silent_counts_as_tripped(
    make_engine: MakeEngine, ferry: Scenario, sheet: MakeSheet
) -> None:
    gone = Fault(kind=FaultKind.CHANNEL_VANISHES, path="/sys/class/hwmon/hwmon0/temp1_input", after_s=30.0)
    engine, heard = make_engine(replace(ferry, faults=(gone,)))
    status = engine.run_to_end(replace(sheet(300), limits=SheetLimits(temperature_c=95)))
    assert status.ending == "tripped"
    assert "Package id 0 gives no readings" in status.ending_detail
    assert "X-801" in heard.codes()


def test_without_a_limit_on_it_a_lost_channel_ends_nothing(
    make_engine: MakeEngine, ferry: Scenario, sheet: MakeSheet
) -> None:
    gone = Fault(kind=FaultKind.CHANNEL_VANISHES, path="/sys/class/hwmon/hwmon1/fan1_input", after_s=20.0)
    garbage = Fault(kind=FaultKind.CHANNEL_GARBAGE, path="/sys/class/hwmon/hwmon1/in1_input", after_s=20.0)
    engine, heard = make_engine(replace(ferry, faults=(gone, garbage)))
    status = engine.run_to_end(sheet(60))
    assert (status.ending, status.outcome) == ("finished", "clean")
    lost = [line for line in heard.tape() if " lost: " in line]
    assert any(
        line.startswith("CPU fan lost: the device is gone (/sys/class/hwmon/hwmon1/fan1_input)") for line in lost
    )
    assert any(line.startswith("+12V lost: expected a number, found") for line in lost)


def test_gates_wait_for_their_condition_and_shift_what_follows(demo_run: tuple[Engine, Heard]) -> None:
    engine, heard = demo_run
    opened = [line for line in heard.tape() if "gate opens" in line]
    assert opened[0] == "Settle: gate opens: steady at 35 °C"
    assert opened[1].startswith("Cool down: gate opens: down to")
    plan = engine.status().plan
    assert all(item.state == "done" for item in plan)
    assert [item.gate for item in plan] == [True, False, True, False]
    for earlier, later in itertools.pairwise(plan):
        assert later.start_s == pytest.approx(earlier.end_s, abs=1.1)


def test_a_gate_that_never_opens_goes_on_after_its_longest_wait(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    text = """
format = "thresher-sheet/1"
title = "impatient"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 120
[[gates]]
kind = "cool down"
start = 120
length = 5
at_most = 10
within_k = 0.5
[[blocks]]
row = "processor"
load = "matrix"
start = 125
length = 10
"""
    engine, heard = make_engine(lighthouse)
    status = engine.run_to_end(parse_sheet(text, "impatient"))
    assert any("after the longest wait; the run continues" in line for line in heard.tape())
    assert status.ending == "finished"
    assert status.run_at == pytest.approx(140, abs=3)


def test_a_gate_waits_for_a_given_temperature_and_says_when_it_will_be_reached(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    text = """
format = "thresher-sheet/1"
title = "from warm to cool"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 180
[[gates]]
kind = "cool down"
start = 180
length = 20
at_most = 900
within_k = 2
to_c = 45
[[blocks]]
row = "processor"
load = "matrix"
start = 200
length = 10
"""
    engine, heard = make_engine(lighthouse)
    expected: list[float] = []

    def follow(event: EngineEvent) -> None:
        plan = engine.status().plan
        if isinstance(event, TickEvent) and len(plan) == 3 and plan[1].state == "running":
            expected.append(plan[1].end_s)

    engine.subscribe(follow)
    engine.run_to_end(parse_sheet(text, "from warm to cool"))
    opens = next(line for line in heard.tape() if "gate opens" in line)
    assert opens == "Cool down: gate opens: down to 47 °C, waited for 45 °C"
    really = engine.status().plan[1].end_s
    # once it has watched the fall for half a minute, what it says is near what came
    later = [each for each in expected if each > 200.5]
    assert later and abs(later[-1] - really) < 15.0


def test_threads_are_spread_one_a_core_first(make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet) -> None:
    engine, heard = make_engine(lighthouse)
    one_sheet = sheet(10)
    few = replace(one_sheet, blocks=(replace(one_sheet.blocks[0], threads=10),))
    engine.run_to_end(few)
    assert "matrix, shared cache on 10 threads: 8 cores, 0:00:10, every result checked" in heard.tape()


def test_stopping_ends_every_worker_and_is_not_a_pass(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet
) -> None:
    engine, _heard = make_engine(lighthouse)
    engine.sheets.put(sheet(600))
    engine.start()
    engine.watch(30)
    assert engine.status().workers_running == 16
    sentence = engine.stop()
    assert sentence.startswith("16 of 16 workers have ended")
    status = engine.status()
    assert (status.state, status.ending, status.outcome) == ("ended", "stopped", "could not tell")
    assert status.workers_running == 0
    assert engine.stop() == "nothing was running"


def test_what_cannot_be_done_is_refused_with_a_sentence(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    engine, _ = make_engine(lighthouse)
    with pytest.raises(EnvironmentFault, match="no run sheet is on the bench"):
        engine.start()
    engine.sheets.put(sheet(60))
    engine.start()
    with pytest.raises(EnvironmentFault, match="a run is in progress"):
        engine.start()
    with pytest.raises(EnvironmentFault, match="Stop it first"):
        engine.sheets.put(sheet(60))
    with pytest.raises(InputError, match=r"0\.1 to 60 seconds"):
        make_engine(lighthouse, "other.thresher", interval_s=0.01)
    (tmp_path / "tree").mkdir()
    on_tree = open_engine(TreeSystem(tmp_path / "tree"), tmp_path / "tree.thresher")
    on_tree.sheets.put(sheet(60))
    with pytest.raises(EnvironmentFault, match="a directory of files"):
        on_tree.start()
    on_tree.close()


def test_machine_checks_from_before_are_reported_and_are_no_findings(
    hasty: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    system = SimulatedMachine(hasty, 0.0)
    first = open_engine(system, tmp_path / "first.thresher")
    first.run_to_end(sheet(100))
    assert any(finding.code == "P-310" for finding in first.findings)
    second = open_engine(system, tmp_path / "second.thresher")
    assert second.findings == ()
    assert any("hardware events from before the bench was opened" in entry.title for entry in second.snapshot().tape)
    second.close()
    first.close()


def test_sampling_can_be_faster_and_slower_than_once_a_second(
    make_engine: MakeEngine, ferry: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    for interval, rows in ((0.5, 41), (5.0, 5)):
        engine, _ = make_engine(ferry, f"{interval}.thresher", interval_s=interval)
        engine.run_to_end(sheet(20))
        engine.close()
        with JobFile(tmp_path / f"{interval}.thresher") as stored:
            assert len(stored.readings(stored.runs()[0]).at) == rows


def test_late_ticks_are_counted_and_reported(tmp_path: Path) -> None:
    (tmp_path / "tree/proc").mkdir(parents=True)
    (tmp_path / "tree/proc/meminfo").write_text("MemTotal: 2048 kB\nMemAvailable: 1024 kB\n")
    engine = open_engine(TreeSystem(tmp_path / "tree"), tmp_path / "late.thresher", interval_s=0.1)
    heard = Heard()
    engine.subscribe(heard)

    def dawdle(event: object) -> None:
        if isinstance(event, TickEvent) and len(heard.events) == 3:
            time.sleep(0.36)  # the machine stops for a while

    engine.subscribe(dawdle)
    engine.watch(1.2)
    late = [event.tick.late for event in heard.events if isinstance(event, TickEvent)]
    assert sum(late) >= 2
    assert engine.health().late == sum(late)
    engine.close()


def test_a_core_gone_wild_is_reported_every_few_seconds_and_every_wrong_result_is_counted(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet
) -> None:
    wild = Fault(kind=FaultKind.WEAK_CORE, core=5, strength=400.0)
    clogged = next(fault for fault in lighthouse.faults if fault.kind is FaultKind.CLOGGED_HEATSINK)
    engine, _ = make_engine(replace(lighthouse, faults=(wild, clogged)))
    status = engine.run_to_end(sheet(260))
    shown = [finding for finding in engine.findings if finding.kind is FindingKind.WRONG_RESULT]
    assert status.mismatches > 100
    assert sum(finding.count for finding in shown) == status.mismatches
    assert len(shown) <= 260 / 5 + 2
    assert any(finding.title.endswith("wrong results, core 5") for finding in shown)


def test_a_second_boot_keeps_the_first_one_s_runs_and_its_own_clock(
    ferry: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    """Machine times begin again with each boot; runs of both stand in one job, each with its boot."""

    class SecondBoot(SimulatedMachine):
        def now(self) -> float:
            return super().now() - 1800.0  # a machine that was started half a minute ago

        def read(self, path: str) -> bytes:
            return b"second-boot\n" if path == "/proc/sys/kernel/random/boot_id" else super().read(path)

    job = tmp_path / "job.thresher"
    first = open_engine(SimulatedMachine(ferry, 0.0), job)
    assert first.run_to_end(sheet(20)).ending == "finished"
    first.close()
    second = open_engine(SecondBoot(ferry, 0.0), job)
    status = second.run_to_end(sheet(20))
    assert (status.run, status.ending, status.outcome) == (2, "finished", "clean")
    assert status.loaded_s == pytest.approx(20, abs=3), "minutes of the first boot are not counted again"
    second.close()
    with JobFile(job, read_only=True) as stored:
        one, two = stored.runs()
    assert one.boot_id != two.boot_id == "second-boot"
    assert two.began_at < one.began_at
