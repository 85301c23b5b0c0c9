"""Checks carried out by the engine on simulated machines: found, passed, stopped, asked, kept."""

import itertools
import queue
import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.app.stored_verdict import job_verdict
from thresher.checks.check import CheckSteps, beside, progress
from thresher.checks.registry import CHECKS
from thresher.compose.rounds import named_checks, round_sheet
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.engine.run.load_step import LoadStep
from thresher.journal.jobfile import JobFile
from thresher.loads.check_loads import CHECK_LOADS
from thresher.machine.live import LiveSystem
from thresher.model.checks import CheckOutcome, CheckResult
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import FindingKind
from thresher.model.questions import Answer, Question
from thresher.model.run_states import Ending, Outcome
from thresher.protocol.events import CheckEvent, QuestionEvent, TickEvent
from thresher.report.html import render
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import InterfaceSpec, Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
F = FaultKind


def run(engine: Engine, *names: str, times: int = 1) -> dict[str, CheckResult]:
    before = len(engine.snapshot().checks)
    engine.run_to_end(round_sheet("test", named_checks(names), engine.inventory, times))
    return {each.title: each for each in engine.snapshot().checks[before:]}


def outcome(results: dict[str, CheckResult]) -> dict[str, str]:
    return {title: each.outcome.value for title, each in results.items()}


QUICK = (
    "memory fitted",
    "drive health",
    "clock battery",
    "battery wear",
    "network cable",
    "router",
    "names and internet",
    "wireless",
    "fans turn",
    "fans driven",
)


def test_a_sound_machine_passes_what_it_has(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, heard = make_engine(notebook)
    results = run(engine, *QUICK)
    assert set(outcome(results).values()) == {"pass"}, outcome(results)
    assert engine.findings == ()
    assert engine.status().outcome is Outcome.CLEAN
    assert [each.result.title for each in heard.events if isinstance(each, CheckEvent)] == list(results)
    assert {item.check for item in engine.status().plan} == {"pass"}


@pytest.mark.parametrize(
    ("fault", "check", "code", "words"),
    [
        (Fault(kind=F.BATTERY_WORN, strength=0.4), "battery wear", "A-110", "worn out"),
        (Fault(kind=F.BATTERY_GAUGE, strength=0.7), "battery rate", "A-130", "cannot be relied on"),
        (Fault(kind=F.WEAK_ADAPTER, strength=18.0), "adapter", "A-140", "although the adapter is plugged in"),
        (Fault(kind=F.CLOCK_BATTERY), "clock battery", "S-120", "before its firmware"),
        (Fault(kind=F.NETWORK_CABLE, strength=0.12), "network cable", "N-110", "rx crc errors"),
        (Fault(kind=F.NETWORK_CABLE, strength=0.5), "router", "N-120", "lost"),
        (Fault(kind=F.WRONG_NAMES), "names and internet", "N-130", "does not exist"),
        (Fault(kind=F.PROVIDER_DOWN), "names and internet", "N-130", "SERVFAIL"),
        (Fault(kind=F.WEAK_RADIO, strength=-84.0), "wireless", "N-150", "weak"),
        (Fault(kind=F.FAN_DEAF, strength=2.0), "fans driven", "C-231", "does not follow"),
        (Fault(kind=F.DEAD_FAN), "fans turn", "C-230", "CPU fan does not turn"),
    ],
)
def test_each_fault_fails_its_check(
    make_engine: MakeEngine, notebook: Scenario, fault: Fault, check: str, code: str, words: str
) -> None:
    if fault.kind is F.NETWORK_CABLE:  # a route by cable only
        notebook = replace(notebook, interfaces=notebook.interfaces[:1])
    engine, heard = make_engine(replace(notebook, faults=(fault,)))
    failed = [each for each in run(engine, check).values() if each.outcome is CheckOutcome.FAIL]
    (result,) = failed
    assert result.code == code
    assert words in result.why
    assert code in heard.codes()
    kind = CHECKS[check].kind
    assert kind is not None
    found = [each for each in engine.findings if each.kind is kind and each.code == code]
    assert found
    assert found[0].load == check or kind is FindingKind.FAN_STOPPED
    assert engine.status().outcome is Outcome.FAULTS_FOUND


@pytest.mark.parametrize(
    ("change", "check", "words"),
    [
        ({"interfaces": ()}, "network cable", "no wired network adapter"),
        ({"interfaces": (InterfaceSpec(name="enp1s0"),)}, "network cable", "no cable is plugged in"),
        ({"interfaces": (InterfaceSpec(name="enp1s0"),)}, "router", "no interface has a link"),
        ({"interfaces": (InterfaceSpec(name="wlp1s0", wireless=True),)}, "wireless", "joined no network"),
        ({"faults": (Fault(kind=F.SIGN_IN),)}, "names and internet", "sign in"),
        ({"batteries": ()}, "battery rate", "no battery answers"),
        ({"driven_fans": False}, "fans driven", "lets no fan be driven"),
        ({"adapter_w": 0.0}, "adapter", "no adapter is plugged in"),
    ],
)
def test_what_is_missing_is_said_and_is_no_failure(
    make_engine: MakeEngine, notebook: Scenario, change: dict[str, object], check: str, words: str
) -> None:
    engine, _ = make_engine(replace(notebook, **change))  # type: ignore[arg-type]
    (result,) = run(engine, check).values()
    assert result.outcome is CheckOutcome.INCONCLUSIVE
    assert words in result.missing or words in result.why
    assert engine.findings == ()


def test_a_core_that_errs_fails_the_checks_of_the_processor(make_engine: MakeEngine, ferry: Scenario) -> None:
    wild = Fault(kind=F.CACHE_BIT, core=2, strength=400.0)
    engine, _ = make_engine(replace(ferry, faults=(wild,)))
    results = run(engine, "cores", "primes", "rounding")
    assert {each.outcome for each in results.values()} == {CheckOutcome.FAIL}
    assert all(each.code.startswith("P-") for each in results.values())
    assert {finding.core for finding in engine.findings} == {2}
    checks = [each for each in engine.findings if each.title.startswith("Check failed")]
    assert checks == [], "what the loads found is evidence once, not twice"


def test_a_sound_processor_passes_its_checks(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(ferry)
    results = run(engine, "core pairs", "primes", "rounding", "clocks", "boost")
    assert set(outcome(results).values()) == {"pass"}, outcome(results)
    assert len(results["boost"].figures) == 4
    assert all(each.value == pytest.approx(4400, rel=0.03) for each in results["boost"].figures)
    assert results["clocks"].figures[0].low == pytest.approx(3600 * 0.97)


def test_drives_cards_rails_and_memory_are_checked_by_their_loads(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    engine, _ = make_engine(replace(lighthouse, faults=()))
    names = (
        "drive self-test",
        "drive places",
        "card answers",
        "card cells",
        "card link",
        "rails",
        "memory, short pass",
    )
    results = run(engine, *names)
    assert set(outcome(results).values()) == {"pass"}, outcome(results)
    assert {"matrix", "short self-test", "raster", "memory"} <= {each.load for each in engine.conductor.exposures()}


def test_the_long_pass_of_the_memory_goes_over_every_pattern(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    (result,) = run(engine, "memory, long pass").values()
    assert result.outcome is CheckOutcome.PASS, result.why
    (taken,) = [line for line in heard.tape() if "Memory taken" in line]
    assert "block moves, retention" in taken
    assert any("Memory pass 1 complete" in line for line in heard.tape())


def test_a_second_pass_of_a_check_counts_once(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(notebook)
    run(engine, "battery wear", times=3)
    assert [each.minutes for each in engine.conductor.exposures()] == [60.0]


def test_a_fault_that_was_found_already_is_no_second_finding(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(replace(notebook, faults=(Fault(kind=F.BATTERY_WORN, strength=0.4),)))
    results = run(engine, "battery wear", times=2)
    assert outcome(results) == {"battery wear, BAT0": "fail"}
    assert len(engine.snapshot().checks) == 2
    assert len([each for each in engine.findings if each.kind is FindingKind.BATTERY_WORN]) == 1


def test_a_pass_speaks_for_the_part_and_is_kept(make_engine: MakeEngine, notebook: Scenario, tmp_path: Path) -> None:
    engine, _ = make_engine(notebook)
    run(engine, "battery wear", "fans turn")
    worth = {each.load: each.minutes for each in engine.conductor.exposures()}
    assert worth == {"battery wear": 60.0, "fans turn": 30.0}
    results = engine.snapshot().checks
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        (kept,) = stored.runs()
        assert tuple(stored.check_results(kept)) == results
        assert {each.load: each.minutes for each in stored.exposures(kept)} == worth


def test_checks_run_one_after_the_other_and_the_run_ends_when_they_are_through(
    make_engine: MakeEngine, notebook: Scenario
) -> None:
    engine, _ = make_engine(notebook)
    run(engine, "clock battery", "idle heat", "battery wear", times=2)
    plan = engine.status().plan
    assert [item.title for item in plan] == ["clock battery", "idle heat", "battery wear"] * 2
    for earlier, later in itertools.pairwise(plan):
        assert later.start_s >= earlier.end_s - 0.01
    assert engine.status().length_s < 50, "two seconds of reading are not drawn out to the planned time"


class _At:
    """Does something once a run has come so far."""

    def __init__(self, engine: Engine, seconds: float, action: Callable[[], object]) -> None:
        self._seconds, self._action, self.done = seconds, action, False
        engine.subscribe(self)

    def __call__(self, event: object) -> None:
        if isinstance(event, TickEvent) and event.run.run_at >= self._seconds and not self.done:
            self.done = True
            self._action()


def test_a_check_that_is_stopped_puts_the_fans_back_and_gives_no_result(
    make_engine: MakeEngine, notebook: Scenario
) -> None:
    engine, _ = make_engine(notebook)
    system = engine._system
    assert isinstance(system, SimulatedMachine)
    driven: list[dict[int, float]] = []

    def stop() -> None:
        driven.append(dict(system._physics.driven_rpm))
        engine.stop()

    _At(engine, 4.0, stop)
    results = run(engine, "fans driven")
    assert driven == [{1: 2000.0}], "it was being driven at full duty"
    assert system._physics.driven_rpm == {}
    assert results == {}
    assert engine.status().ending is Ending.STOPPED


def test_a_load_of_a_check_ends_with_it(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    _At(engine, 14.0, engine.stop)
    assert run(engine, "cores") == {}
    assert engine.status().workers_running == 0
    assert any("8 of 8 workers have ended" in line for line in heard.tape())


def test_a_person_is_asked_one_question_at_a_time(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    engine.questions.attended = True

    def answer(event: object) -> None:
        if isinstance(event, QuestionEvent) and event.question is not None:
            engine.submit(lambda: engine.questions.answer(event.number, Answer("done")))

    engine.subscribe(answer)
    (result,) = run(engine, "USB ports").values()
    assert (result.outcome, result.missing) == (CheckOutcome.INCONCLUSIVE, "no stick was plugged in")
    asked = [event.question for event in heard.events if isinstance(event, QuestionEvent)]
    assert isinstance(asked[0], Question)
    assert asked[-1] is None
    with pytest.raises(EnvironmentFault, match="not open any more"):
        engine.questions.answer(1, Answer("done"))


def test_nobody_who_answers_in_time_leaves_the_rest_going_on(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(notebook)
    engine.questions.attended = True
    results = run(engine, "USB ports", "battery wear")
    assert outcome(results) == {"USB ports": "inconclusive", "battery wear, BAT0": "pass"}
    assert engine.snapshot().asked is None


def test_every_check_is_described_for_a_beginner() -> None:
    for check in CHECKS.values():
        assert len(check.about) > 90, check.name
        assert check.about.endswith(".")
        assert check.finds
        assert check.misses
        assert check.usual_s > 0
        assert check.parts
        if check.kind is not None:
            assert check.code


def test_a_worn_battery_is_the_suspect_and_a_sound_one_is_cleared(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, _ = make_engine(replace(notebook, faults=(Fault(kind=F.BATTERY_WORN, strength=0.4),)))
    run(engine, "battery wear")
    assert engine.verdict is not None
    assert engine.verdict.suspects[0].mode == "battery.worn"
    assert engine.verdict.suspects[0].probability > 0.9
    # without the customer's word that it runs down, which makes it six times as likely
    sound, _ = make_engine(replace(notebook, symptoms=()), "sound.thresher")
    run(sound, "battery wear")
    assert sound.verdict is not None
    suspects = {each.mode: each.probability for each in sound.verdict.suspects}
    assert suspects["battery.worn"] < 0.003, "a tenth of what it was before"
    desk, _ = make_engine(replace(notebook, batteries=()), "desk.thresher")
    run(desk, "fans turn")
    assert desk.verdict is not None
    assert not any(each.mode.startswith("battery.") for each in desk.verdict.suspects), "it has no battery"


def test_results_stay_with_the_machine_over_its_visits(notebook: Scenario, tmp_path: Path) -> None:
    shop = tmp_path / "shop"

    def visit(number: int, worn: float, start: str) -> tuple[CheckResult, ...]:
        faults = (Fault(kind=F.BATTERY_WORN, strength=worn),) if worn else ()
        system = SimulatedMachine(replace(notebook, faults=faults, start=start), 0.0)
        engine = open_engine(system, tmp_path / f"{number}.thresher", shop=shop)
        engine.run_to_end(round_sheet("visit", named_checks(("battery wear", "memory fitted")), engine.inventory))
        before = engine.snapshot().checks_before
        engine.close()
        return before

    assert visit(1, 0.0, "2026-01-10T09:00:00+00:00") == ()
    assert [each.title for each in visit(2, 0.15, "2026-06-10T09:00:00+00:00")] == [
        "battery wear, BAT0",
        "memory fitted",
    ]
    third = visit(3, 0.4, "2026-11-10T09:00:00+00:00")
    wear = [each for each in third if each.check == "battery wear"]
    assert [each.job for each in wear] == ["1.thresher", "2.thresher"]
    assert [each.outcome for each in wear] == [CheckOutcome.PASS, CheckOutcome.PASS]
    shares = [each.figures[0].value for each in wear]
    assert shares == [94.0, 79.0]
    assert all(each.run is None and each.worth_min == 0 for each in third), "minutes count in their own job only"
    again = open_engine(SimulatedMachine(notebook, 0.0), tmp_path / "1.thresher", shop=shop)
    assert [each.job for each in again.snapshot().checks_before if each.check == "battery wear"] == [
        "2.thresher",
        "3.thresher",
    ]
    assert len(again.snapshot().checks) == 2
    again.close()


def test_a_damaged_history_is_reported_and_stops_nothing(notebook: Scenario, tmp_path: Path) -> None:
    shop = tmp_path / "shop"
    for number, job in enumerate(("1.thresher", "2.thresher")):
        engine = open_engine(SimulatedMachine(notebook, 0.0), tmp_path / job, shop=shop)
        engine.run_to_end(round_sheet("visit", named_checks(("memory fitted",)), engine.inventory))
        told = [entry for entry in engine.snapshot().tape if entry.code == "X-860"]
        assert bool(told) == bool(number)
        engine.close()
        (history,) = shop.glob("machines/*.checks.json")
        history.write_text("{ not json")


def test_the_report_has_every_check_with_its_figures(
    make_engine: MakeEngine, notebook: Scenario, tmp_path: Path
) -> None:
    engine, _ = make_engine(replace(notebook, faults=(Fault(kind=F.BATTERY_WORN, strength=0.4),)))
    run(engine, "battery wear", "memory fitted")
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        page = render(stored, job_verdict(stored))
    for words in ("battery wear, BAT0", "worn out", "full charge left 54 % (at least 70) (judgement)", "memory fitted"):
        assert words in page
    assert "A-110" in page


def test_a_bug_in_a_check_takes_nothing_else_with_it(
    make_engine: MakeEngine, notebook: Scenario, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(_bench: object) -> CheckSteps:
        yield from progress("about to fail", 0.5)
        raise ZeroDivisionError("division by zero")

    named = CHECK_LOADS["battery wear"]
    monkeypatch.setitem(CHECK_LOADS, "battery wear", replace(named, check=replace(named.check, run=broken)))
    engine, _ = make_engine(notebook)
    results = run(engine, "battery wear", "memory fitted")
    assert outcome(results) == {"battery wear": "inconclusive", "memory fitted": "pass"}
    assert "bug" in results["battery wear"].missing
    assert "ZeroDivisionError" in results["battery wear"].missing


def test_a_load_that_cannot_go_on_ends_its_check_and_not_the_round(
    make_engine: MakeEngine, notebook: Scenario, monkeypatch: pytest.MonkeyPatch
) -> None:
    def gone(*_arguments: object) -> None:
        raise EnvironmentFault("running matrix", "every worker has ended", "The tape shows how.")

    monkeypatch.setattr(LoadStep, "advance", gone)
    engine, _ = make_engine(notebook)
    results = run(engine, "cores", "memory fitted")
    assert outcome(results) == {"cores": "inconclusive", "memory fitted": "pass"}
    assert "every worker has ended" in results["cores"].missing
    assert engine.status().ending is Ending.FINISHED


def test_what_a_stopped_check_had_asked_for_is_undone_when_it_comes(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    gate, undone = threading.Event(), queue.SimpleQueue[str]()

    def open_it() -> str:
        gate.wait(30.0)
        return "opened"

    def opening(_bench: object) -> CheckSteps:
        yield from beside(open_it, undone.put)
        return ()

    named = CHECK_LOADS["battery wear"]
    monkeypatch.setitem(CHECK_LOADS, "battery wear", replace(named, check=replace(named.check, run=opening)))
    engine = open_engine(LiveSystem(), tmp_path / "job.thresher")
    try:
        _At(engine, 1.0, engine.stop)
        assert run(engine, "battery wear") == {}
        assert undone.empty(), "nothing waits for what may never come"
        gate.set()
        assert undone.get(timeout=10.0) == "opened"
    finally:
        engine.close()
