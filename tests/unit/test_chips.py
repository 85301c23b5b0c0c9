"""Chips, cards, counters and batteries of many kinds: right quantity, part, unit and limit."""

import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from tests.unit import chip_trees
from tests.unit.machine_trees import cores
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, LimitSide, Quantity, Tick
from thresher.model.parts import PartKind
from thresher.sensors.discovery import Discovery, discover
from thresher.sensors.sampler import Sampler

WriteTree = Callable[[dict[str, str | bytes]], Path]
BASE = cores([(0, 0), (1, 0)])


def sampled(root: Path) -> tuple[Discovery, Tick]:
    system = TreeSystem(root)
    discovery = discover(system, read_inventory(system))
    sampler = Sampler(system, discovery)
    tick = sampler.sample()
    sampler.close()
    return discovery, tick


def readings(root: Path) -> dict[str, tuple[float | None, Channel]]:
    discovery, tick = sampled(root)
    return {channel.name: (tick.values[i], channel) for i, channel in enumerate(discovery.channels)}


def upper(channel: Channel) -> float | None:
    limit = channel.limit(LimitSide.BELOW)
    return limit.value if limit else None


@pytest.mark.parametrize("name", chip_trees.CHIPS)
def test_every_reading_of_a_chip_is_a_channel(write_tree: WriteTree, name: str) -> None:
    found = readings(write_tree(BASE | chip_trees.chips(name)))
    mine = [channel for _, channel in found.values() if channel.key.startswith(f"{name}/")]
    wanted = [
        file
        for file in chip_trees.CHIPS[name]
        if file.endswith("_input") or (file.startswith("pwm") and "_" not in file)
    ]
    assert len(mine) == len(wanted)
    assert all(channel.unit for channel in mine)
    assert len({channel.name for channel in mine}) == len(mine)


@pytest.mark.parametrize(
    ("chip", "name", "value", "kind", "limit"),
    [
        ("coretemp", "Package id 0", 61.0, PartKind.PROCESSOR, 100.0),
        ("k10temp", "Tctl", 71.25, PartKind.PROCESSOR, 95.0),
        ("nct6775", "+12V", 12.192, PartKind.POWER, 12.6),
        ("nct6775", "nct6775 fan1", 1180.0, PartKind.COOLING, None),
        ("nct6775", "nct6775 pwm1", 128 / 2.55, PartKind.COOLING, None),
        ("it87", "Vbat", 2.928, PartKind.BOARD, None),
        ("drivetemp", "drivetemp temp1", 34.0, PartKind.DRIVE, 55.0),
        ("nvme", "Composite", 44.85, PartKind.DRIVE, 81.85),
        ("jc42", "jc42 temp1", 41.5, PartKind.MEMORY, 95.0),
        ("spd5118", "spd5118 temp1", 46.25, PartKind.MEMORY, 85.0),
        ("harbourflow", "Coolant temp", 33.8, PartKind.COOLING, None),
        ("harbourpsu", "power total", 141.0, PartKind.POWER, None),
        ("harbourpsu", "harbourpsu curr2", 8.125, PartKind.POWER, 62.0),
        ("sht3x", "sht3x humidity1", 48.1, PartKind.BOARD, None),
        ("acpitz", "acpitz temp1", 27.8, PartKind.BOARD, 119.0),
        ("acpitz", "acpitz temp2", None, PartKind.BOARD, None),
        ("iwlwifi_1", "iwlwifi_1 temp1", 47.0, PartKind.NETWORK, None),
    ],
)
def test_readings_parts_and_limits_of_chips(
    write_tree: WriteTree, chip: str, name: str, value: float | None, kind: PartKind, limit: float | None
) -> None:
    reading, channel = readings(write_tree(BASE | chip_trees.chips(chip)))[name]
    assert reading == (None if value is None else pytest.approx(value))
    assert channel.kind is kind
    assert upper(channel) == (None if limit is None else pytest.approx(limit))


def test_a_fans_lowest_speed_counts_as_a_limit(write_tree: WriteTree) -> None:
    _, channel = readings(write_tree(BASE | chip_trees.chips("nct6775")))["nct6775 fan1"]
    limit = channel.limit(LimitSide.ABOVE)
    assert limit is not None
    assert limit.value == 300.0


def test_an_offset_that_the_chip_adds_is_reported_with_the_source(write_tree: WriteTree) -> None:
    reading, channel = readings(write_tree(BASE | chip_trees.chips("nct6775")))["SYSTIN"]
    assert reading == 38.5
    assert channel.source.endswith("temp1_input (the chip adds -1 K, temp1_offset)")


def test_two_chips_of_one_name_are_distinguished(write_tree: WriteTree) -> None:
    root = write_tree(BASE | chip_trees.chips("nvme", "nvme"))
    for number in range(2):
        device = root / f"sys/devices/nvme{number}"
        device.mkdir(parents=True)
        (root / f"sys/class/hwmon/hwmon{number}/device").symlink_to(f"/sys/devices/nvme{number}")
    names = set(readings(root))
    assert {"Composite (nvme0)", "Composite (nvme1)", "Sensor 1 (nvme0)", "Sensor 1 (nvme1)"} <= names


def test_a_sensor_that_is_switched_off_is_reported_and_not_read(write_tree: WriteTree) -> None:
    files = BASE | chip_trees.chips("it87") | {"/sys/class/hwmon/hwmon0/fan1_enable": "0\n"}
    discovery, _ = sampled(write_tree(files))
    assert not any(channel.quantity is Quantity.FAN for channel in discovery.channels)
    assert any("switched off in the chip" in fact.value for fact in discovery.unknown)


@pytest.mark.parametrize(
    ("card", "wanted"),
    [
        (
            "amdgpu",
            {
                "edge": 54.0,
                "junction": 61.0,
                "mem": 58.0,
                "vddgfx": 0.806,
                "sclk": 1480.0,
                "mclk": 1000.0,
                "card0 use": 37.0,
                "card0 memory use": 9.0,
                "card0 memory in use": 3.0,
                "amdgpu power1": 31.0,
                "amdgpu fan1": 640.0,
            },
        ),
        (
            "i915",
            {
                "card1 clock": 1150.0,
                "card1 clock 2": 0.0,
                "i915 energy1": None,
                "i915 in0": 0.712,
                "card1 gt0 held by pl1": 1.0,
                "card1 gt0 held by thermal": 0.0,
            },
        ),
        ("xe", {"card0 clock": 2050.0, "card0 clock 2": 0.0, "xe energy1": None}),
        ("old i915", {"card0 clock": 350.0}),
    ],
)
def test_graphics_drivers_tell_use_clock_power_and_memory(
    write_tree: WriteTree, card: str, wanted: dict[str, float | None]
) -> None:
    found = readings(write_tree(BASE | chip_trees.CARDS[card]))
    for name, value in wanted.items():
        reading, channel = found[name]
        assert channel.kind is PartKind.GRAPHICS, name
        assert reading == (None if value is None else pytest.approx(value)), name


def test_throttling_energy_and_batteries_have_channels_of_their_own(write_tree: WriteTree) -> None:
    found = readings(write_tree(BASE | chip_trees.THROTTLE | chip_trees.ENERGY | chip_trees.BATTERY))
    assert found["Package 0 throttled"][0] == 4.0
    assert found["Package 0 throttled for"][0] == 1.25
    assert found["Core 0 power limited"][0] == 9.0
    assert found["Core 1 throttled"][1].core == 1
    assert sum("Package 0 throttled" in name for name in found) == 2, "a package is counted once"
    assert {"Package 0 power", "Package 1 power", "core power, zone 0:0", "dram power, zone 0:1"} <= set(found)
    assert found["dram power, zone 0:1"][1].kind is PartKind.MEMORY
    assert found["BAT0 charge"][0] == 81.0
    assert found["BAT0 temperature"][0] == pytest.approx(31.4)
    assert found["BAT0 power"][1].kind is PartKind.BATTERY


def test_the_host_reports_pressure_drives_and_each_cpu(write_tree: WriteTree) -> None:
    root = write_tree(BASE | chip_trees.HOST)
    system = TreeSystem(root)
    discovery = discover(system, read_inventory(system))
    sampler = Sampler(system, discovery)
    sampler.sample()
    (root / "proc/diskstats").write_text("   8       0 sda 110 0 6144 90 10 0 4096 150 0 100 200\n")
    (root / "proc/stat").write_text("cpu  60 0 10 130\ncpu0 55 0 5 40\ncpu1 5 0 5 90\n")
    before, tick = system.now(), sampler.sample()
    found = {channel.name: tick.values[i] for i, channel in enumerate(discovery.channels)}
    assert (found["Stalled on memory"], found["All stalled on memory"]) == (3.25, 1.5)
    assert found["sda latency"] == pytest.approx(4.0), "40 ms in 10 reads"
    assert found["sda read"] is not None
    assert found["sda read"] > 0
    assert found["sda written"] == 0
    assert (found["CPU 0 use"], found["CPU 1 use"]) == (100.0, 0.0)
    assert tick.at >= before
    sampler.close()


def test_ten_thousand_mutated_sensor_files_crash_nothing(write_tree: WriteTree) -> None:
    files = chip_trees.everything()
    root = write_tree(files)
    system = TreeSystem(root)
    discovery = discover(system, read_inventory(system))
    sampler = Sampler(system, discovery)
    sampler.sample()
    sources = sorted({channel.source.split(" ")[0] for channel in discovery.channels})
    rng = np.random.default_rng(4)
    damaged = 0
    opened = {source: os.open(root / source.lstrip("/"), os.O_WRONLY) for source in sources}
    for _round in range(-(-10_000 // len(sources))):
        for source, descriptor in opened.items():
            os.pwrite(descriptor, content := _mutated(files[source], rng), 0)
            os.ftruncate(descriptor, len(content))
            damaged += 1
        tick = sampler.sample()
        assert len(tick.values) == len(discovery.channels)
        for index, value in enumerate(tick.values):
            assert (value is None) == (index in tick.missing)
            assert value is None or np.isfinite(value)
    assert damaged >= 10_000
    sampler.close()
    for descriptor in opened.values():
        os.close(descriptor)


def _mutated(content: str | bytes, rng: np.random.Generator) -> bytes:
    data = bytearray(content if isinstance(content, bytes) else content.encode())
    match int(rng.integers(5)):
        case 0:
            return bytes(data[: int(rng.integers(len(data) + 1))])
        case 1:
            return bytes(rng.integers(0, 256, int(rng.integers(64)), dtype=np.uint8))
        case 2:
            return b"9" * int(rng.integers(1, 40))
        case 3:
            return b"-" + bytes(data)
        case _:
            data[int(rng.integers(len(data)))] = int(rng.integers(256))
            return bytes(data)
