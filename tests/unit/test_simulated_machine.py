"""Simulated machines: the physics, the files, the log, and scenario files that are wrong."""

import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from thresher.model.errors import InputError, SourceUnavailable
from thresher.model.port import Stress, System, SystemKind
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, parse_scenario, shipped_scenarios

WAKE = threading.Event()
TEMP = "/sys/class/hwmon/hwmon0/temp1_input"
CLOCK = "/sys/devices/system/cpu/cpu0/cpufreq/scaling_cur_freq"


def number(system: System, path: str) -> int:
    return int(system.read(path))


def heated(scenario: Scenario, seconds: float) -> SimulatedMachine:
    model = SimulatedMachine(scenario, 0.0)
    threads = scenario.processor.cores * scenario.processor.threads_per_core
    assert model.work is not None
    model.work.set_stress(dict.fromkeys(range(threads), Stress(1.0)))
    model.wait_until(model.now() + seconds, WAKE)
    return model


def test_load_heats_and_rest_cools(lighthouse: Scenario) -> None:
    model = SimulatedMachine(lighthouse, 0.0)
    idle = number(model, TEMP)
    hot = heated(lighthouse, 120)
    assert number(hot, TEMP) > idle + 40_000
    assert hot.work is not None
    hot.work.set_stress({})
    hot.wait_until(hot.now() + 300, WAKE)
    assert number(hot, TEMP) < idle + 15_000


def test_a_clogged_heatsink_makes_the_clock_fall_below_its_base_and_a_clean_one_does_not(lighthouse: Scenario) -> None:
    clean = replace(lighthouse, faults=())
    assert number(heated(lighthouse, 420), CLOCK) < lighthouse.processor.base_mhz * 1000
    assert number(heated(clean, 420), CLOCK) == lighthouse.processor.all_core_mhz * 1000
    throttled = "/sys/devices/system/cpu/cpu3/thermal_throttle/package_throttle_count"
    assert number(heated(lighthouse, 420), throttled) >= 1
    assert number(heated(clean, 420), throttled) == 0


def test_the_temperature_stays_at_the_limit_and_not_above(lighthouse: Scenario) -> None:
    model = heated(lighthouse, 240)
    readings = []
    for _ in range(200):
        model.wait_until(model.now() + 1, WAKE)
        readings.append(number(model, TEMP) / 1000)
    assert max(readings) <= lighthouse.processor.limit_c + 1
    assert min(readings) > lighthouse.processor.limit_c - 4


def test_a_dead_fan_is_hotter_and_gives_no_pulses(ferry: Scenario) -> None:
    dead = replace(ferry, faults=(Fault(kind=FaultKind.DEAD_FAN),))
    assert number(heated(dead, 300), TEMP) > number(heated(ferry, 300), TEMP) + 10_000
    assert number(heated(dead, 300), "/sys/class/hwmon/hwmon1/fan1_input") == 0


def test_a_sagging_supply_sags_with_the_load(lighthouse: Scenario) -> None:
    sagging = replace(lighthouse, faults=(Fault(kind=FaultKind.SAGGING_SUPPLY, strength=0.06),))
    rail = "/sys/class/hwmon/hwmon1/in1_input"
    assert number(SimulatedMachine(sagging, 0.0), rail) > 11_700
    assert number(heated(sagging, 60), rail) < 11_400
    assert number(heated(lighthouse, 60), rail) > 11_900


def test_the_weak_core_slips_only_when_hot(lighthouse: Scenario) -> None:
    cool_running = replace(lighthouse, faults=tuple(f for f in lighthouse.faults if f.kind is FaultKind.WEAK_CORE))
    log = heated(cool_running, 400).open_kernel_log().read_records()
    hot_log = heated(lighthouse, 400).open_kernel_log().read_records()
    assert sum(b"Machine Check" in record for record in hot_log) > 3
    assert sum(b"Machine Check" in record for record in log) < sum(b"Machine Check" in record for record in hot_log)


def test_energy_grows_with_power_and_time(lighthouse: Scenario) -> None:
    model = heated(lighthouse, 100)
    path = "/sys/class/powercap/intel-rapl:0/energy_uj"
    before = number(model, path)
    model.wait_until(model.now() + 10, WAKE)
    watts = (number(model, path) - before) / 1e6 / 10
    assert 80 < watts < 150


def test_busy_time_shows_in_proc_stat(lighthouse: Scenario) -> None:
    fields = heated(lighthouse, 10).read("/proc/stat").split(b"\n")[0].split()
    assert int(fields[1]) > 10_000
    assert int(fields[4]) < int(fields[1])


def test_its_directories_and_links_are_as_in_sysfs(lighthouse: Scenario) -> None:
    model = SimulatedMachine(lighthouse, 0.0)
    assert model.kind is SystemKind.SIMULATED
    assert model.list("/sys/class/hwmon") == ["hwmon0", "hwmon1", "hwmon2", "hwmon3"]
    assert "temp1_input" in model.list("/sys/class/hwmon/hwmon2")
    assert model.resolve("/sys/class/hwmon/hwmon0/device") == "/sys/devices/platform/coretemp.0"
    assert model.read("/sys/class/drm/card0/device/product_name") == b"Lumen L40\n"
    assert model.list("/no/such/folder") == []
    with pytest.raises(SourceUnavailable, match="not there"):
        model.open("/sys/no/such/file")


def test_channels_vanish_and_spoil_when_they_are_due(ferry: Scenario) -> None:
    faults = (
        Fault(kind=FaultKind.CHANNEL_VANISHES, path=TEMP, after_s=5.0),
        Fault(kind=FaultKind.CHANNEL_GARBAGE, path="/sys/class/hwmon/hwmon1/fan1_input", after_s=5.0),
    )
    model = SimulatedMachine(replace(ferry, faults=faults), 0.0)
    source = model.open(TEMP)
    assert source.read()
    model.wait_until(model.now() + 6, WAKE)
    with pytest.raises(SourceUnavailable, match="the device is gone"):
        source.read()
    assert b"not a number" in model.read("/sys/class/hwmon/hwmon1/fan1_input")


def test_its_clock_waits_for_ours_and_can_be_woken(ferry: Scenario) -> None:
    model = SimulatedMachine(ferry, 1.0)
    wake = threading.Event()
    wake.set()
    model.wait_until(model.now() + 0.5, wake)  # returns at once although half a second of ours is due
    assert model.wall() - SimulatedMachine(ferry, 1.0).wall() == pytest.approx(0.5)


GOOD = shipped_scenarios()["lighthouse-playout"].read_text(encoding="utf-8")


@pytest.mark.parametrize(
    ("old", "new", "place", "words"),
    [
        ("core = 5", "core = 8", "faults[0].core", "0 to 7, found 8"),
        ("strength = 0.6", "strength = 1.6", "faults[1].strength", "0.001 to 0.999"),
        ('kind = "weak core"', 'kind = "sulking core"', "faults[0]", "sulking core"),
        ('slot = "A2"', 'slot = "C9"', "memory[0].slot", "A1, A2, B1, B2"),
        ("base_mhz = 4200", "base_mhz = 5200", "processor", "base_mhz <= all_core_mhz"),
        ("limit_c = 100.0", "limit_c = 400.0", "processor.limit_c", "50 to 125"),
        ("speed = 10.0", "speed = 0.0", "speed", "0.1 to 10000"),
        ("ambient_c = 24.0", "ambient_c = 240.0", "ambient_c", "-20 to 60"),
        ("cores = 8", 'cores = "eight"', "processor", "int"),
        ("seed = 417", "seeds = 417", "seeds", "nothing of this name"),
        ('name = "Tern 8-460"', "", "processor", "name"),
    ],
)
def test_a_scenario_that_is_wrong_states_what_and_where(old: str, new: str, place: str, words: str) -> None:
    assert old in GOOD
    with pytest.raises(InputError) as caught:
        parse_scenario(GOOD.replace(old, new, 1), "s.toml")
    assert any(fault.place.startswith(place) and words in fault.message for fault in caught.value.faults), caught.value


def test_channel_faults_need_a_path() -> None:
    text = GOOD + '\n[[faults]]\nkind = "channel vanishes"\n'
    with pytest.raises(InputError, match="absolute path"):
        parse_scenario(text, "s.toml")


def test_a_scenario_that_is_not_there_is_reported(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="No such file"):
        load_scenario(tmp_path / "none.toml")


def test_every_scenario_that_ships_is_healthy_and_sampled(write_tree: Callable[..., Path]) -> None:
    for path in shipped_scenarios().values():
        scenario = load_scenario(path)
        assert SimulatedMachine(scenario, 0.0).read("/proc/cpuinfo").count(b"processor") == (
            scenario.processor.cores * scenario.processor.threads_per_core
        )


# ---- steps of any length, and faults that only talk


def settled(step_s: float, seconds: float) -> SimulatedMachine:
    scenario = replace(load_scenario(shipped_scenarios()["lighthouse-playout"]), faults=())
    model = SimulatedMachine(scenario, 0.0, step_s)
    assert model.work is not None
    model.work.set_stress({cpu: Stress(1.0) for cpu in range(16)})
    model.live_until(model.now() + seconds)
    return model


def hottest(model: SimulatedMachine) -> float:
    return max(int(model.read(f"/sys/class/hwmon/hwmon0/temp{n}_input")) for n in range(2, 10)) / 1000.0


def test_slices_of_half_a_second_come_to_the_same_temperatures() -> None:
    fine, coarse = settled(0.1, 300.0), settled(0.5, 300.0)
    assert hottest(coarse) == pytest.approx(hottest(fine), abs=2.0)
    assert coarse.now() == pytest.approx(fine.now(), abs=0.5)


def test_holding_lets_time_and_faults_go_on_and_temperatures_stand() -> None:
    model = settled(0.5, 300.0)
    before, warm = model.now(), hottest(model)
    model.hold(3600.0)
    assert model.now() == pytest.approx(before + 3600.0)
    assert hottest(model) == warm


def test_a_smaller_cooler_is_hotter_and_a_wrong_share_is_refused() -> None:
    text = shipped_scenarios()["ferry-office"].read_text(encoding="utf-8")
    small = parse_scenario(text.replace("[processor]", "cooler_share = 0.3\n\n[processor]", 1), "small")
    assert small.cooler_share == 0.3
    warm = []
    for share in (1.0, 0.3):
        model = SimulatedMachine(replace(small, cooler_share=share), 0.0, 0.5)
        assert model.work is not None
        model.work.set_stress({cpu: Stress(1.0) for cpu in range(8)})
        model.live_until(model.now() + 400.0)
        warm.append(max(int(model.read(f"/sys/class/hwmon/hwmon0/temp{n}_input")) for n in range(2, 6)) / 1000.0)
    assert warm[1] > warm[0] + 5.0
    with pytest.raises(InputError, match="cooler_share"):
        parse_scenario(text.replace("[processor]", "cooler_share = 9.0\n\n[processor]", 1), "huge")


@pytest.mark.parametrize(
    ("kind", "word"),
    [
        (FaultKind.SLOT_LINK, "PCIe Bus Error"),
        (FaultKind.GRAPHICS_HANGS, "ring gfx"),
        (FaultKind.DRIVE_SURFACE, "critical medium error"),
        (FaultKind.DRIVE_CABLE, "ata1.00"),
        (FaultKind.STRAY_ERRORS, ""),
    ],
)
def test_what_only_talks_talks_most_while_a_person_works(kind: FaultKind, word: str) -> None:
    scenario = load_scenario(shipped_scenarios()["ferry-office"])
    counts = []
    for busy in (0.15, 1.0, 0.0):
        model = SimulatedMachine(replace(scenario, faults=(Fault(kind=kind, strength=20.0),)), 0.0, 0.5)
        assert model.work is not None
        model.work.set_stress({cpu: Stress(busy) for cpu in range(8)} if busy else {})
        model.live_until(model.now() + 5.0)
        log = model.open_kernel_log()
        log.read_records()
        model.hold(10 * 3600.0)
        lines = [line for line in log.read_records() if word.encode() in line]
        counts.append(len(lines))
    assert 120 < counts[0] < 290
    assert counts[1] < counts[0] / 3
    assert counts[2] < counts[0] / 3
