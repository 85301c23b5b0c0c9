"""The processor's own clock counters, and the graphics library that answers from a thread of its own."""

import ctypes
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.unit.machine_trees import cores
from thresher.engine.watch.readings import Watchers
from thresher.inventory.machine import read_inventory
from thresher.machine.counters import PerfCounters, Registers, open_counters
from thresher.machine.tree import TreeSystem
from thresher.model.channels import LimitSide, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact, Inventory, Part, PartKind
from thresher.model.port import Source, Stress
from thresher.sensors import nvml
from thresher.sensors.discovery import discover
from thresher.sensors.probes import effective_clocks
from thresher.sensors.sampler import Sampler
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


def test_a_clock_is_counted_while_awake_and_states_how_long_that_was() -> None:
    parse = effective_clocks()
    with pytest.raises(ValueError, match="two readings"):
        parse(b"1000 1000 1000", 10.0)
    # in two seconds 4 GHz of time stamps, a quarter of it awake, at 5/4 of the base clock
    clock, awake = parse(f"{1000 + int(2.5e9)} {1000 + int(2e9)} {1000 + int(8e9)}".encode(), 12.0)
    assert clock == pytest.approx(5.0)
    assert awake == pytest.approx(25.0)


@pytest.mark.parametrize(
    ("content", "reason"),
    [(b"2 2", "expected the counters"), (b"0 2 2", "went back"), (b"2 1 2", "slept the whole time"), (b"", "expected")],
)
def test_counters_that_make_no_sense_say_so(content: bytes, reason: str) -> None:
    parse = effective_clocks()
    with pytest.raises(ValueError, match="two readings"):
        parse(b"1 1 1", 0.0)
    with pytest.raises(ValueError, match=reason):
        parse(content, 1.0)


@given(st.binary(max_size=40), st.binary(max_size=40))
def test_no_counters_crash_the_parser(first: bytes, second: bytes) -> None:
    parse = effective_clocks()
    for at, content in enumerate((first, second)):
        try:
            clock, awake = parse(content, float(at))
        except ValueError as error:
            assert str(error)
        else:
            assert clock >= 0
            assert 0 <= awake <= 100


def test_a_busy_simulated_machine_counts_the_clock_that_it_sets(lighthouse: Scenario) -> None:
    model = SimulatedMachine(lighthouse, 0.0)
    discovery = discover(model, read_inventory(model))
    sampler = Sampler(model, discovery)
    assert model.work is not None
    model.work.set_stress(dict.fromkeys(range(16), Stress(1.0)))
    sampler.sample()
    model.wait_until(model.now() + 2.0, threading.Event())
    values = dict(zip((each.name for each in discovery.channels), sampler.sample().values, strict=True))
    counted, set_now = values["Core 3 counted clock"], values["Core 3 clock"]
    assert counted == pytest.approx(set_now, rel=0.02)
    assert values["Core 3 awake"] == pytest.approx(100.0)
    clocks = {each.name: each for each in discovery.channels if each.quantity is Quantity.CLOCK}
    assert clocks["Core 3 counted clock"].limit(LimitSide.ABOVE) is not None
    assert clocks["Core 3 clock"].limit(LimitSide.ABOVE) is None, "the counted one is judged"


def test_this_computer_counts_or_states_what_would_change_that() -> None:
    try:
        counters = open_counters(0)
    except SourceUnavailable as error:
        assert "CPU 0" in error.path
        assert "/dev/cpu/0/msr" in error.reason
        return
    assert len(counters.read().split()) == 3
    counters.close()
    counters.close()


def test_a_cpu_that_is_not_there_has_no_counters() -> None:
    with pytest.raises(SourceUnavailable):
        PerfCounters(4095)
    with pytest.raises(SourceUnavailable):
        Registers(4095, (0x10,))


class FakeLibrary:
    """Answers like the management library, for one card; `hang` holds the answers back."""

    def __init__(self, start: int = 0) -> None:
        self.start, self.hang = start, 0.0

    def nvmlInit_v2(self) -> int:  # noqa: N802
        return self.start

    def nvmlDeviceGetCount_v2(self, count: Any) -> int:  # noqa: N802
        count._obj.value = 1
        return 0

    def nvmlDeviceGetHandleByIndex_v2(self, _number: int, handle: Any) -> int:  # noqa: N802
        handle._obj.value = 7
        return 0

    def nvmlDeviceGetName(self, _card: Any, text: Any, _size: int) -> int:  # noqa: N802
        text.value = b"Lumen V12"
        return 0

    def nvmlDeviceGetTemperature(self, _card: Any, _kind: int, value: Any) -> int:  # noqa: N802
        time.sleep(self.hang)
        value._obj.value = 57
        return 0

    def nvmlDeviceGetPowerUsage(self, _card: Any, value: Any) -> int:  # noqa: N802
        value._obj.value = 123_500
        return 0

    def nvmlDeviceGetFanSpeed(self, _card: Any, _value: Any) -> int:  # noqa: N802
        return 3  # not supported, as on a card without a fan

    def nvmlDeviceGetUtilizationRates(self, _card: Any, use: Any) -> int:  # noqa: N802
        use._obj.gpu, use._obj.memory = 64, 12
        return 0

    def nvmlDeviceGetMemoryInfo(self, _card: Any, memory: Any) -> int:  # noqa: N802
        memory._obj.used = 6 << 30
        return 0

    def nvmlDeviceGetClockInfo(self, _card: Any, kind: int, value: Any) -> int:  # noqa: N802
        value._obj.value = 1905 if kind == 0 else 7001
        return 0


def machine(driver: str) -> Inventory:
    card = Part("graphics card0", PartKind.GRAPHICS, "Lumen V12", "card0", (Fact("driver", driver, "/sys/x"),))
    return Inventory("bench", False, (card,), ())


def wait_for_answer(source: nvml.CardSource) -> bytes:
    deadline = time.monotonic() + 10
    while True:
        try:
            return source.read()
        except SourceUnavailable:
            assert time.monotonic() < deadline
            time.sleep(0.01)


def test_a_card_behind_its_library_reports_what_it_knows_and_nothing_else() -> None:
    unknown: list[Fact] = []
    (probe,) = nvml.find(machine("nvidia"), unknown, lambda _name: FakeLibrary())
    assert isinstance(probe.source, nvml.CardSource)
    answer = probe.parse(wait_for_answer(probe.source), 0.0)
    values = dict(zip((each.name for each in probe.channels), answer, strict=True))
    probe.source.close()
    assert values["Lumen V12 temperature"] == 57.0
    assert values["Lumen V12 power"] == pytest.approx(123.5)
    assert values["Lumen V12 memory in use"] == 6.0
    assert (values["Lumen V12 core clock"], values["Lumen V12 memory clock"]) == (1905.0, 7001.0)
    assert values["Lumen V12 fan duty"] != values["Lumen V12 fan duty"], "not told is NaN, never a number"
    assert unknown == []


def test_a_missing_or_refusing_library_is_reported_once_and_only_where_such_a_card_is() -> None:
    def missing(_name: str) -> Any:
        raise OSError("no such library")

    unknown: list[Fact] = []
    assert nvml.find(machine("amdgpu"), unknown, missing) == []
    assert unknown == []
    assert nvml.find(machine("nvidia"), unknown, missing) == []
    assert nvml.find(machine("nvidia"), unknown, lambda _name: FakeLibrary(start=9)) == []
    assert ["not installed" in unknown[0].value, "does not start" in unknown[1].value] == [True, True]


def test_a_card_that_stops_answering_goes_stale_and_holds_nothing_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(nvml, "_FRESH_S", 0.2)
    monkeypatch.setattr(nvml, "_ASK_EVERY_S", 0.01)
    fake = FakeLibrary()
    source = nvml.CardSource(nvml.Library(lambda _name: fake), 0)
    wait_for_answer(source)
    fake.hang = 1.0
    deadline = time.monotonic() + 10
    with pytest.raises(SourceUnavailable, match="fallen off its bus"):
        while time.monotonic() < deadline:
            source.read()
            time.sleep(0.02)
    source.close()


def test_structures_are_those_of_the_published_interface() -> None:
    assert ctypes.sizeof(nvml._Utilisation) == 8
    assert ctypes.sizeof(nvml._Memory) == 24


class StatusTree(TreeSystem):
    """A directory tree that answers for the status registers too."""

    def __init__(self, root: Path, registers: dict[int, int]) -> None:
        super().__init__(root)
        self.registers = registers

    def open_register(self, cpu: int, number: int) -> Source:
        """A register by its number."""
        registers = self.registers

        class Register:
            path = f"/dev/cpu/{cpu}/msr"

            def read(self) -> bytes:
                return str(registers[number]).encode()

            def close(self) -> None:
                pass

        return Register()


def test_status_registers_say_what_holds_the_clock_down(write_tree: Callable[..., Path]) -> None:
    files = cores([(0, 0), (1, 0)], base_frequency="3600000", scaling_cur_freq="2900000")
    root = write_tree(files | {"/proc/cpuinfo": "vendor_id : GenuineIntel\n", "/proc/stat": "cpu 1 2 3 4\n"})
    system = StatusTree(root, {0x1B1: 1 << 10, 0x19C: 0})
    discovery = discover(system, read_inventory(system))
    flags = [each.name for each in discovery.channels if each.quantity is Quantity.FLAG]
    assert flags == [
        f"Package 0 held by {word}"
        for word in (
            "heat",
            "prochot",
            "critical heat",
            "power limit",
            "current limit",
            "another part's limit",
        )
    ]
    sampler, watchers = Sampler(system, discovery), Watchers(discovery.channels)

    def found(seconds: int, start: float) -> list[str]:
        ticks = (replace(sampler.sample(), at=start + n) for n in range(seconds))
        return [finding.code for tick in ticks for finding in watchers.look(tick, frozenset({0, 1}))[0]]

    assert found(10, 0.0) == ["P-121"]
    for register, bit, code in ((0x1B1, 2, "P-124"), (0x19C, 12, "P-123")):
        system.registers = {0x1B1: 0, 0x19C: 0} | {register: 1 << bit}
        sampler = Sampler(system, discover(system, read_inventory(system)))
        watchers = Watchers(discovery.channels)
        assert found(10, 0.0) == [code]


def test_registers_that_cannot_be_read_are_reported_once_and_only_where_they_are_documented(
    write_tree: Callable[..., Path],
) -> None:
    root = write_tree(cores([(0, 0), (1, 0)]) | {"/proc/cpuinfo": "vendor_id : GenuineIntel\n"})
    system = TreeSystem(root)
    shown = [fact for fact in discover(system, read_inventory(system)).unknown if "holds the processor" in fact.name]
    assert len(shown) == 1
    (root / "proc/cpuinfo").write_text("vendor_id : TernHarbour8\n")
    unknown = discover(system, read_inventory(system)).unknown
    assert not [fact for fact in unknown if "holds the processor" in fact.name]
