"""Every fault of a simulated machine shows in the loads documented to show it, and healthy machines show nothing."""

import re
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import pytest

from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.engine.run.team_findings import Storms
from thresher.model.channels import Quantity
from thresher.model.findings import Finding, FindingKind, Severity, WrongPlace
from thresher.model.parts import PartKind
from thresher.protocol.events import EngineEvent, TickEvent
from thresher.simulator.fault_kinds import STRENGTH_MEANS, Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, explain, load_scenario, shipped_scenarios

F, K = FaultKind, FindingKind
Run = Callable[[tuple[Fault, ...], str], tuple[Finding, ...]]


def block(load: str, seconds: int, extra: str = "", start: int = 0) -> str:
    row = "memory" if load == "memory" else "processor"
    return f'\n[[blocks]]\nrow = "{row}"\nload = "{load}"\nstart = {start}\nlength = {seconds}\n{extra}\n'


def sheet(*blocks: str) -> str:
    return 'format = "thresher-sheet/1"\ntitle = "One fault"\n' + "".join(blocks)


@pytest.fixture
def small() -> Scenario:
    """The ferry office's machine with two cores: as few processes as can disagree."""
    whole = load_scenario(shipped_scenarios()["ferry-office"])
    processor = replace(whole.processor, cores=2, threads_per_core=1, power_limit_w=40.0)
    return replace(whole, processor=processor)


@pytest.fixture
def run(small: Scenario, tmp_path: Path) -> Iterator[Run]:
    engines: list[Engine] = []

    def carry_out(faults: tuple[Fault, ...], text: str) -> tuple[Finding, ...]:
        model = SimulatedMachine(replace(small, faults=faults), 0.0)
        engine = open_engine(model, tmp_path / f"{len(engines)}.thresher", {})
        engines.append(engine)
        engine.run_to_end(parse_sheet(text, "test"))
        return engine.findings

    yield carry_out
    for engine in engines:
        engine.close()


CORE = 'working_set = "inside the core"'
SHOWS = [
    (Fault(kind=F.WEAK_VECTOR_UNIT, core=1, strength=40), sheet(block("matrix", 60, CORE)), K.WRONG_RESULT, "core 1"),
    (Fault(kind=F.CACHE_BIT, core=1, strength=30), sheet(block("sieve", 30, CORE)), K.CORRECTED_CHECK, "core 1"),
    (Fault(kind=F.CACHE_BIT, core=0, strength=90), sheet(block("integer", 30, CORE)), K.WRONG_RESULT, "core 0"),
    (Fault(kind=F.COHERENCE, core=0, strength=30), sheet(block("relay", 30)), K.MESSAGE_WRONG, "cores 0 and 1"),
    (Fault(kind=F.OVERCLOCK, strength=600), sheet(block("transform", 60, CORE)), K.WRONG_RESULT, ""),
    (Fault(kind=F.UNDERVOLT, strength=90), sheet(block("branchy", 40, CORE)), K.WRONG_RESULT, ""),
    (Fault(kind=F.CORE_HANGS, core=1, strength=3000), sheet(block("solve", 40, CORE)), K.CORE_HANG, "core 1"),
    (Fault(kind=F.RESETS, strength=600), sheet(block("matrix", 60, CORE)), K.ENDED_SUDDENLY, ""),
    (Fault(kind=F.CELL_STUCK, slot="A1", strength=1), sheet(block("memory", 8)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.CELL_TRANSITION, slot="A1", strength=1), sheet(block("memory", 8)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.CELL_COUPLED, slot="A1", strength=2), sheet(block("memory", 8)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.ADDRESS_LINE, slot="A1", strength=4), sheet(block("memory", 8)), K.MEMORY_WRONG, "A1"),
    (
        Fault(kind=F.RETENTION, slot="A1", strength=10),
        sheet(block("memory", 70, 'patterns = "retention"\nwait = 25')),
        K.MEMORY_WRONG,
        "A1",
    ),
    (Fault(kind=F.SLOT_CONTACT, slot="A1", strength=1500), sheet(block("memory", 20)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.BAD_SLOT, slot="A1", strength=3000), sheet(block("memory", 20)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.MEMORY_CONTROLLER, strength=3000), sheet(block("memory", 20)), K.MEMORY_WRONG, "A1"),
    (Fault(kind=F.MEMORY_TIMING, strength=3000), sheet(block("memory", 20)), K.MEMORY_WRONG, "A1"),
]


@pytest.mark.parametrize(("fault", "text", "kind", "place"), SHOWS)
def test_a_fault_shows_as_documented(run: Run, fault: Fault, text: str, kind: FindingKind, place: str) -> None:
    findings = run((fault,), text)
    mine = [finding for finding in findings if finding.kind is kind]
    assert mine, f"{explain(fault)} showed nothing: {[each.title for each in findings]}"
    assert all(place in finding.place for finding in mine)


def test_a_weak_vector_unit_shows_in_wide_loads_only(run: Run) -> None:
    fault = Fault(kind=F.WEAK_VECTOR_UNIT, core=1, strength=40)
    findings = run((fault,), sheet(block("branchy", 30, CORE), block("sieve", 30, CORE, 30)))
    assert findings == ()


def test_a_finding_states_repeats_other_cores_and_circumstances(run: Run) -> None:
    fault = Fault(kind=F.WEAK_VECTOR_UNIT, core=1, strength=40)
    finding = run((fault,), sheet(block("matrix", 60, CORE)))[0]
    assert re.search(r"[23] of 3 repeats wrong on this core, right on core 0", finding.detail)
    assert re.search(r"; \d+ °C, \d+ MHz, \d\.\d+ V$", finding.detail)
    assert finding.repeats == 3
    assert finding.wrong_again >= 2
    assert finding.temperature_c is not None
    assert finding.clock_mhz is not None
    assert 500 < finding.clock_mhz < 6000
    assert finding.volts is not None
    assert 0.5 < finding.volts < 1.6


def test_edges_bring_resets_that_steady_load_does_not(run: Run) -> None:
    fault = Fault(kind=F.SAGGING_SUPPLY, strength=0.16)
    steady = run((fault,), sheet(block("matrix", 120, CORE)))
    pulsed = run((fault,), sheet(block("matrix", 120, CORE + '\nshape = "pulse"\nperiod = 0.5')))
    assert not any(finding.kind is K.ENDED_SUDDENLY for finding in steady)
    assert any(finding.kind is K.ENDED_SUDDENLY for finding in pulsed)


def test_a_wrong_word_of_memory_states_where_and_what_all_have_in_common(run: Run, small: Scenario) -> None:
    finding = run((Fault(kind=F.CELL_STUCK, slot="A1", strength=1, at=0.5, bit=19),), sheet(block("memory", 8)))[0]
    size = small.modules[0].size_gib << 30
    (place,) = {each.physical for each in finding.places}
    assert place is not None
    assert abs(place - size // 2) <= size // 1024
    assert finding.core is None
    assert "bit 19" in finding.detail


@pytest.mark.parametrize("load", ["matrix", "solve", "transform", "integer", "branchy", "sieve", "relay", "precision"])
def test_no_load_accuses_a_healthy_machine(run: Run, load: str) -> None:
    place = CORE if load != "relay" else ""
    assert run((), sheet(block(load, 20, place))) == ()


def test_memory_patterns_do_not_accuse_a_healthy_machine(run: Run) -> None:
    assert run((), sheet(block("memory", 60, 'patterns = "long"\nwait = 1'))) == ()


def test_every_kind_is_explained_with_what_its_strength_means() -> None:
    assert set(STRENGTH_MEANS) == set(FaultKind)
    text = (Path(__file__).parents[2] / "docs" / "simulated-machines.md").read_text(encoding="utf-8")
    for kind in FaultKind:
        assert f"| {kind.value} |" in text, f"{kind.value} is not in docs/simulated-machines.md"
    sentence = explain(Fault(kind=F.CELL_STUCK, slot="B2", strength=1, at=0.41, bit=19))
    assert sentence.startswith("cell stuck in B2, 41 % up, bit 19: 1, content that the bit is stuck at")


def memory_finding(place: str, address: int, at: float) -> Finding:
    wrong = WrongPlace(address, address, "0" * 16, "1".zfill(16), True)
    return Finding("M-210", K.MEMORY_WRONG, Severity.FAULT, PartKind.MEMORY, at, "", "", place, places=(wrong,))


def test_a_storm_in_one_slot_hides_nothing_of_another() -> None:
    storms, shown = Storms(), list[Finding]()
    for second in range(12):
        for place, address in (("A1", 0x1000 + second * 64), ("B2", 0x9000 + second * 64)):
            storms.take(memory_finding(place, address, second / 4), shown.append)
    assert [each.place for each in shown] == ["A1", "B2"]
    storms.release(None, shown.append)
    for place in ("A1", "B2"):
        mine = [each for each in shown if each.place == place]
        assert sum(each.count for each in mine) == 12
        assert len({spot.physical for each in mine for spot in each.places}) == 12
    assert shown[2].title == "11 wrong memory readings, A1"


def test_a_block_holds_the_temperature_that_it_was_given(small: Scenario, tmp_path: Path) -> None:
    """Full load would bring this machine to far above 60 °C."""
    hottest: list[float] = []

    def run_to(text: str, name: str) -> float:
        engine = open_engine(SimulatedMachine(replace(small, faults=(), ambient_c=26.0), 0.0), tmp_path / name, {})
        hottest.clear()

        def on_event(event: EngineEvent) -> None:
            if isinstance(event, TickEvent):
                cores = [
                    value
                    for channel, value in zip(engine.channels, event.tick.values, strict=True)
                    if channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR and value
                ]
                hottest.append(max(cores))

        engine.subscribe(on_event)
        engine.run_to_end(parse_sheet(sheet(text), "hold"))
        engine.close()
        return max(hottest[-60:])

    free = run_to(block("matrix", 400, CORE), "free.thresher")
    wanted = round(free - 12)
    held = run_to(block("matrix", 400, CORE + f"\nhold_c = {wanted}"), "held.thresher")
    assert held < wanted + 2.5
    assert min(hottest[-60:]) > wanted - 2.5


def test_holding_without_a_temperature_is_reported(small: Scenario, tmp_path: Path) -> None:
    blind = tuple(
        Fault(kind=F.CHANNEL_GARBAGE, path=f"/sys/class/hwmon/hwmon0/temp{number}_input") for number in range(1, 4)
    ) + tuple(Fault(kind=F.CHANNEL_GARBAGE, path="/sys/class/hwmon/hwmon1/temp2_input") for _ in range(1))
    engine = open_engine(SimulatedMachine(replace(small, faults=blind), 0.0), tmp_path / "blind.thresher", {})
    engine.watch(3.0)
    engine.run_to_end(parse_sheet(sheet(block("matrix", 5, CORE + "\nhold_c = 70")), "hold"))
    titles = [entry.title for entry in engine.snapshot().tape]
    engine.close()
    assert "No temperature to hold" in titles
