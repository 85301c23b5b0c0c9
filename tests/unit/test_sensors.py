"""Channels found in trees made after the kernel's documents, sampled, and missing with a reason."""

import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from thresher.inventory.machine import read_inventory
from thresher.machine.live import LiveSystem
from thresher.machine.tree import TreeSystem
from thresher.model.channels import UNITS, Channel, LimitSide, Quantity, Tick
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import PartKind
from thresher.model.port import System
from thresher.sensors.discovery import Discovery, discover
from thresher.sensors.extremes import Extremes, closest
from thresher.sensors.lanes import choose_lanes, value_range
from thresher.sensors.probes import Probe, cpu_use, energy_to_power, implausible, memory_used, parse_number, scaled
from thresher.sensors.pyramid import Pyramid
from thresher.sensors.sampler import Sampler
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]

DESKTOP: dict[str, str | bytes] = {
    "/sys/class/hwmon/hwmon0/name": "k10temp\n",
    "/sys/class/hwmon/hwmon0/temp1_input": "61375\n",
    "/sys/class/hwmon/hwmon0/temp1_label": "Tctl\n",
    "/sys/class/hwmon/hwmon1/name": "boardchip\n",
    "/sys/class/hwmon/hwmon1/in1_input": "12096\n",
    "/sys/class/hwmon/hwmon1/in1_label": "+12V\n",
    "/sys/class/hwmon/hwmon1/in4_input": "1104\n",
    "/sys/class/hwmon/hwmon1/fan2_input": "1422\n",
    "/sys/class/hwmon/hwmon1/fan2_label": "CPU fan\n",
    "/sys/class/hwmon/hwmon1/temp3_input": "-128000\n",
    "/sys/class/hwmon/hwmon1/temp4_input": "what\n",
    "/sys/class/hwmon/hwmon2/name": "nvme\n",
    "/sys/class/hwmon/hwmon2/temp1_input": "44850\n",
    "/sys/class/hwmon/hwmon2/temp1_crit": "84850\n",
    "/sys/class/hwmon/hwmon3/name": "amdgpu\n",
    "/sys/class/hwmon/hwmon3/power1_average": "31000000\n",
    "/sys/class/hwmon/hwmon3/power1_input": "33000000\n",
    "/sys/class/hwmon/hwmon3/temp1_input": "50000\n",
    "/sys/class/hwmon/hwmon3/temp1_max": "0\n",
    "/sys/devices/system/cpu/cpu0/topology/core_id": "0\n",
    "/sys/devices/system/cpu/cpu0/topology/physical_package_id": "0\n",
    "/sys/devices/system/cpu/cpu0/cpufreq/scaling_cur_freq": "3600000\n",
    "/sys/devices/system/cpu/cpu0/cpufreq/base_frequency": "3400000\n",
    "/proc/stat": "cpu  100 0 50 850 0 0 0 0 0 0\n",
    "/proc/meminfo": "MemTotal: 16777216 kB\nMemAvailable: 8388608 kB\n",
}


def discover_in(root: Path) -> tuple[TreeSystem, Discovery]:
    system = TreeSystem(root)
    return system, discover(system, read_inventory(system))


def by_name(discovery: Discovery) -> dict[str, Channel]:
    return {channel.name: channel for channel in discovery.channels}


def test_channels_have_unit_place_and_limits_with_their_source(write_tree: WriteTree) -> None:
    _, discovery = discover_in(write_tree(DESKTOP))
    channels = by_name(discovery)
    assert channels["Tctl"].kind is PartKind.PROCESSOR
    assert (channels["CPU fan"].kind, channels["CPU fan"].unit) == (PartKind.COOLING, "rpm")
    rail = channels["+12V"]
    assert rail.kind is PartKind.POWER
    assert [(limit.side, round(limit.value, 2)) for limit in rail.limits] == [
        (LimitSide.ABOVE, 11.4),
        (LimitSide.BELOW, 12.6),
    ]
    assert "ATX" in rail.limits[0].source
    drive = channels["nvme temp1"]
    assert (drive.kind, drive.limits[0].value) == (PartKind.DRIVE, 84.85)
    assert drive.limits[0].source == "read from the chip (temp1_crit)"
    assert channels["Core 0 clock"].limit(LimitSide.ABOVE) is not None


def test_a_zero_limit_is_no_limit_and_power_is_read_once(write_tree: WriteTree) -> None:
    _, discovery = discover_in(write_tree(DESKTOP))
    graphics = [channel for channel in discovery.channels if channel.kind is PartKind.GRAPHICS]
    assert [channel.source.rpartition("/")[2] for channel in graphics] == ["power1_average", "temp1_input"]
    (limit,) = graphics[1].limits
    assert limit.source.startswith("judgement"), "the chip's 0 is none, so that the knowledge base speaks"


def test_readings_come_scaled_and_what_cannot_be_true_is_missing_with_its_reason(write_tree: WriteTree) -> None:
    system, discovery = discover_in(write_tree(DESKTOP))
    sampler = Sampler(system, discovery)
    sampler.sample()
    tick = sampler.sample()
    names = [channel.name for channel in sampler.channels]
    values = dict(zip(names, tick.values, strict=True))
    assert values["Tctl"] == pytest.approx(61.375)
    assert values["+12V"] == pytest.approx(12.096)
    assert values["Core 0 clock"] == pytest.approx(3.6)
    assert values["Memory in use"] == pytest.approx(8.0)
    assert "reads -128 °C, which cannot be" in tick.missing[names.index("boardchip temp3")]
    assert "expected a number, found 'what'" in tick.missing[names.index("boardchip temp4")]
    assert "no time has passed" in tick.missing[names.index("Processor use")]
    assert all((value is None) == (index in tick.missing) for index, value in enumerate(tick.values))


def test_a_channel_that_vanishes_is_missing_and_reads_again_when_it_is_back(write_tree: WriteTree) -> None:
    root = write_tree(DESKTOP)
    system, discovery = discover_in(root)
    sampler = Sampler(system, discovery)
    index = [channel.name for channel in sampler.channels].index("Tctl")
    file = root / "sys/class/hwmon/hwmon0/temp1_input"
    file.unlink()
    tick = sampler.sample()
    assert tick.values[index] is None
    assert tick.missing[index] == "not there"
    file.write_text("55000\n")
    assert sampler.sample().values[index] == 55.0


def test_a_machine_without_sensors_states_why_and_what_it_has(write_tree: WriteTree) -> None:
    root = write_tree({"/proc/cpuinfo": "processor\t: 0\nflags\t\t: fpu hypervisor\n", "/proc/stat": "cpu 1 2 3 4\n"})
    _, discovery = discover_in(root)
    reasons = {fact.name: fact.value for fact in discovery.unknown}
    assert "virtual machine has no temperature" in reasons["temperatures, voltages, fans"]
    assert {"processor clocks", "processor power", "Memory in use"} <= set(reasons)
    names = ["Processor use", "Processor, programs", "Processor, kernel", "Taken by the host"]
    assert [channel.name for channel in discovery.channels] == names


def test_this_computer_can_be_sampled() -> None:
    system = LiveSystem()
    discovery = discover(system, read_inventory(system))
    sampler = Sampler(system, discovery)
    sampler.sample()
    system.wait_until(system.now() + 0.05, threading.Event())
    tick = sampler.sample()
    memory = next(i for i, channel in enumerate(sampler.channels) if channel.name == "Memory in use")
    used = tick.values[memory]
    assert used is not None
    assert used > 0
    sampler.close()


def test_a_simulated_machine_has_the_channels_of_a_desktop(lighthouse: Scenario) -> None:
    system: System = SimulatedMachine(lighthouse, 0.0)
    discovery = discover(system, read_inventory(system))
    counts = {quantity: sum(c.quantity is quantity for c in discovery.channels) for quantity in Quantity}
    assert counts[Quantity.CLOCK] == 16, "as set and as counted"
    assert counts[Quantity.TEMPERATURE] == 15  # three of them of the graphics card
    assert counts[Quantity.FAN] == 3
    assert discovery.unknown == ()
    assert all(channel.unit == UNITS[channel.quantity] for channel in discovery.channels)


def test_power_comes_from_the_energy_counter_and_survives_its_wrap() -> None:
    parse = energy_to_power(wraps_at_uj=999_999)
    with pytest.raises(ValueError, match="needs two readings"):
        parse(b"900000\n", 10.0)
    assert parse(b"950000\n", 11.0) == (0.05,)
    assert parse(b"20000\n", 12.0) == pytest.approx((0.07,))
    without = energy_to_power(None)
    with pytest.raises(ValueError, match="first"):
        without(b"5", 0.0)
    with pytest.raises(ValueError, match="its wrap point is unknown"):
        without(b"4", 1.0)


def test_use_and_steal_are_shares_of_the_time_between_readings() -> None:
    parse = cpu_use()
    with pytest.raises(ValueError, match="two readings"):
        parse(b"cpu  100 0 100 700 100 0 0 0\n", 0.0)
    use, user, system, steal = parse(b"cpu  130 0 110 740 110 0 0 10\n", 1.0)
    assert (use, user, system, steal) == pytest.approx((40.0, 30.0, 10.0, 10.0))


def test_each_cpu_has_its_own_share() -> None:
    parse = cpu_use(2)
    row = b"cpu  0 0 0 0\ncpu0 0 0 0 0\ncpu1 0 0 0 0\n"
    with pytest.raises(ValueError, match="two readings"):
        parse(row, 0.0)
    shares = parse(b"cpu  100 0 0 100\ncpu0 100 0 0 0\ncpu1 0 0 0 100\n", 1.0)
    assert list(shares) == pytest.approx([50.0, 50.0, 0.0, 0.0, 100.0, 0.0])
    with pytest.raises(ValueError, match="expected line 3 to begin with 'cpu1'"):
        parse(b"cpu  1 2 3 4\ncpu0 1 2 3 4\n", 2.0)


@pytest.mark.parametrize("content", [b"", b"intr 5", b"cpu 1"])
def test_a_stat_file_that_is_none_states_so(content: bytes) -> None:
    with pytest.raises(ValueError, match="expected line 1 to begin with 'cpu'"):
        cpu_use()(content, 0.0)


def test_memory_needs_both_rows() -> None:
    with pytest.raises(ValueError, match="MemAvailable"):
        memory_used(b"MemTotal: 5 kB\n", 0.0)


@pytest.mark.parametrize("content", [b"", b"   ", b"12 13", b"0x10", b"\xff\xfe", b"9" * 40])
def test_a_number_is_a_number(content: bytes) -> None:
    with pytest.raises(ValueError, match=r"expected a number|too long"):
        parse_number(content)


def test_plausible_values_pass() -> None:
    assert implausible(Quantity.TEMPERATURE, 99.0) is None
    assert implausible(Quantity.THROTTLE, 1e9) is None
    assert implausible(Quantity.FAN, 65535.0) is not None


def _tick(*values: float | None) -> Tick:
    return Tick(1.0, 2.0, values, {i: "gone" for i, value in enumerate(values) if value is None})


def test_extremes_leave_missing_readings_out() -> None:
    extremes = Extremes(2)
    for tick in (_tick(1.0, None), _tick(4.0, None), _tick(None, None)):
        extremes.add(tick)
    assert (extremes.minimum[0], extremes.maximum[0], extremes.mean[0]) == (1.0, 4.0, 2.5)
    assert np.isnan(extremes.mean[1])


def test_headroom_is_of_the_channel_nearest_its_limit_and_prefers_a_core(lighthouse: Scenario) -> None:
    system: System = SimulatedMachine(lighthouse, 0.0)
    sampler = Sampler(system, discover(system, read_inventory(system)))
    room = closest(sampler.channels, sampler.sample(), Quantity.VOLTAGE, LimitSide.ABOVE)
    assert room is not None
    assert room.value == pytest.approx(room.reading - room.limit.value)
    values = [100.0 if channel.quantity is Quantity.TEMPERATURE else 1.0 for channel in sampler.channels]
    nearest = closest(sampler.channels, _tick(*values), Quantity.TEMPERATURE, LimitSide.BELOW)
    assert nearest is not None
    found = sampler.channels[nearest.index]
    assert found.kind is not PartKind.PROCESSOR or found.core is not None
    assert closest(sampler.channels, _tick(*[None] * len(values)), Quantity.FAN, LimitSide.BELOW) is None


def test_lanes_stand_in_their_order_and_only_for_what_there_is(lighthouse: Scenario, write_tree: WriteTree) -> None:
    system: System = SimulatedMachine(lighthouse, 0.0)
    lanes = choose_lanes(discover(system, read_inventory(system)).channels)
    assert [lane.title for lane in lanes][:5] == ["Core temp", "Core clock", "+12V", "Package", "Fans"]
    assert len(lanes[0].channels) == 9
    assert len(lanes[0].lead) == 8
    _, bare = discover_in(write_tree({"/proc/stat": "cpu 1 2 3 4\n"}))
    assert [lane.key for lane in choose_lanes(bare.channels)] == ["processor use"]


def test_a_lane_shows_its_values_and_a_limit_that_is_near(lighthouse: Scenario) -> None:
    system: System = SimulatedMachine(lighthouse, 0.0)
    channels = discover(system, read_inventory(system)).channels
    lane = choose_lanes(channels)[0]
    history = Pyramid(len(channels))
    assert value_range(lane, history, 0.0, 1.0) == (0.0, 1.0)
    for second in range(50):
        history.append(float(second), np.full(len(channels), 40.0 + second))
    low, high = value_range(lane, history, 0.0, 49.0)
    assert low < 40.0
    assert high > 100.0
    flat_low, flat_high = value_range(lane, history, 0.0, 1.0)
    assert flat_high - flat_low >= 10.0


class Unplugged:
    """A sensor file whose device goes away: once gone, an open file stays gone and only a new one reads."""

    path = "/sys/class/hwmon/hwmon9/temp1_input"

    def __init__(self, there: list[bool]) -> None:
        self._there = there
        self._dead = False
        if not there[0]:
            raise SourceUnavailable(self.path, "not there")

    def read(self) -> bytes:
        self._dead = self._dead or not self._there[0]
        if self._dead:
            raise SourceUnavailable(self.path, "the device is gone")
        return b"42000\n"

    def close(self) -> None:
        """Nothing is held."""


def test_a_device_that_is_plugged_in_again_is_found_again(lighthouse: Scenario) -> None:
    there = [True]

    class Machine(SimulatedMachine):
        def open(self, path: str) -> Unplugged:  # type: ignore[override]
            return Unplugged(there)

    channel = Channel("x/temp1", "Plugged", Quantity.TEMPERATURE, PartKind.BOARD, Unplugged.path)
    probe = Probe(Unplugged(there), (channel,), scaled(1000.0))
    sampler = Sampler(Machine(lighthouse, 0.0), Discovery((probe,), ()))
    assert sampler.sample().values == (42.0,)
    there[0] = False
    for _ in range(20):
        assert sampler.sample().missing == {0: "the device is gone"}
    there[0] = True
    readings = [sampler.sample().values[0] for _ in range(20)]
    assert readings[0] is None
    assert readings[-1] == 42.0


class SlowSource:
    """Takes its time by a clock of its own, and counts how often it was asked."""

    path = "/sys/slow"

    def __init__(self) -> None:
        self.reads = 0
        self.seconds = 0.03
        self.clock = 0.0

    def stopwatch(self) -> float:
        return self.clock

    def read(self) -> bytes:
        self.reads += 1
        self.clock += self.seconds
        return b"42000\n"

    def close(self) -> None:
        pass


def test_a_slow_source_is_read_seldom_and_its_last_reading_stands(ferry: Scenario) -> None:
    model, source = SimulatedMachine(ferry, 0.0), SlowSource()
    channel = Channel("slow/x", "Slow one", Quantity.TEMPERATURE, PartKind.DRIVE, "/sys/slow")
    sampler = Sampler(model, Discovery((Probe(source, (channel,), scaled(1000.0)),), ()), source.stopwatch)
    values = []
    for second in range(8):
        model.wait_until(model.now() + 1.0, threading.Event())
        values.append(sampler.sample().values[0])
        if second == 5:
            source.seconds = 0.0
    assert values == [42.0] * 8
    assert source.reads < 8
    (name, period) = sampler.slow_channels()[0]
    assert name == "Slow one"
    assert period >= 1.5


def test_a_source_that_was_slow_once_is_not_slow(ferry: Scenario) -> None:
    model, source = SimulatedMachine(ferry, 0.0), SlowSource()
    channel = Channel("slow/x", "Slow one", Quantity.TEMPERATURE, PartKind.DRIVE, "/sys/slow")
    sampler = Sampler(model, Discovery((Probe(source, (channel,), scaled(1000.0)),), ()), source.stopwatch)
    for second in range(8):
        source.seconds = 0.03 if second in (1, 4, 6) else 0.0
        model.wait_until(model.now() + 1.0, threading.Event())
        sampler.sample()
    assert source.reads == 8
    assert sampler.slow_channels() == []


def test_binary_files_of_sysfs_are_read_whole_through_the_live_port() -> None:
    large = Path("/sys/kernel/btf/vmlinux")
    if not large.is_file():
        pytest.skip("this kernel has no binary file of more than a page in sysfs")
    with large.open("rb") as stream:
        known = stream.read(1 << 20)
    found = LiveSystem().read(str(large))
    assert len(found) > 4096
    assert found == known[: len(found)]
    assert len(found) == min(len(known), 1 << 20)


def test_attributes_of_sysfs_are_read_through_the_live_port() -> None:
    assert LiveSystem().read("/sys/devices/system/cpu/online").strip() == (
        Path("/sys/devices/system/cpu/online").read_bytes().strip()
    )
