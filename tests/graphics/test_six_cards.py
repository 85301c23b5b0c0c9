"""Six cards of five drivers in one machine: each is listed, read, and held against its own limits."""

import math
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.unit.test_counters import FakeLibrary, wait_for_answer
from thresher.graphics.cards import cards_of
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.sensors import nvml
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler

WriteTree = Callable[[dict[str, str | bytes]], Path]
MIB = 1 << 20

DEVICES = {
    "card0": ("0000:03:00.0", "amdgpu", "0x1002"),
    "card1": ("0000:00:02.0", "i915", "0x8086"),
    "card2": ("0000:05:00.0", "xe", "0x8086"),
    "card3": ("0000:07:00.0", "nouveau", "0x10de"),
    "card4": ("0000:09:00.0", "nvidia", "0x10de"),
    "card5": ("0000:0b:00.0", "amdgpu", "0x1002"),
}
"""Kernel name, PCI address, driver, vendor by the PCI registry."""

FILES: dict[str, dict[str, str]] = {
    # amdgpu (kernel document gpu/amdgpu/thermal): millidegrees, microwatts, hertz, rpm
    "card0": {
        "gpu_busy_percent": "98",
        "mem_busy_percent": "41",
        "mem_info_vram_total": str(12288 * MIB),
        "mem_info_vram_used": str(9216 * MIB),
        "current_link_width": "16",
        "max_link_width": "16",
        "current_link_speed": "16.0 GT/s PCIe",
        "max_link_speed": "16.0 GT/s PCIe",
        "hwmon/hwmon0/name": "amdgpu",
        "hwmon/hwmon0/temp1_input": "71000",
        "hwmon/hwmon0/temp1_label": "edge",
        "hwmon/hwmon0/temp1_crit": "100000",
        "hwmon/hwmon0/temp2_input": "88000",
        "hwmon/hwmon0/temp2_label": "junction",
        "hwmon/hwmon0/temp2_crit": "110000",
        "hwmon/hwmon0/temp3_input": "82000",
        "hwmon/hwmon0/temp3_label": "mem",
        "hwmon/hwmon0/temp3_crit": "105000",
        "hwmon/hwmon0/power1_average": "203000000",
        "hwmon/hwmon0/power1_cap": "220000000",
        "hwmon/hwmon0/freq1_input": "2310000000",
        "hwmon/hwmon0/freq1_label": "sclk",
        "hwmon/hwmon0/fan1_input": "1710",
    },
    # i915 (kernel document ABI sysfs-driver-intel-i915-hwmon): power by difference, millivolts
    "card1": {
        "hwmon/hwmon1/name": "i915",
        "hwmon/hwmon1/energy1_input": "90000000",
        "hwmon/hwmon1/in0_input": "712",
    },
    "card2": {
        "tile0/gt0/freq0/act_freq": "2050",
        "hwmon/hwmon2/name": "xe",
        "hwmon/hwmon2/energy1_input": "120000000",
        "hwmon/hwmon2/in1_input": "690",
    },
    "card3": {
        "hwmon/hwmon3/name": "nouveau",
        "hwmon/hwmon3/temp1_input": "63000",
        "hwmon/hwmon3/temp1_crit": "103000",
    },
    "card4": {},
    "card5": {
        "gpu_busy_percent": "3",
        "hwmon/hwmon4/name": "amdgpu",
        "hwmon/hwmon4/temp1_input": "49000",
        "hwmon/hwmon4/temp1_label": "edge",
        "current_link_width": "4",
        "max_link_width": "16",
        "current_link_speed": "8.0 GT/s PCIe",
        "max_link_speed": "16.0 GT/s PCIe",
    },
}
IN_CARD = {"card1": {"gt/gt0/rps_act_freq_mhz": "1150", "gt/gt0/throttle_reason_thermal": "1"}}
"""Files beside the device's own, in the folder of the card."""


@pytest.fixture
def six(write_tree: WriteTree) -> TreeSystem:
    files: dict[str, str | bytes] = {"/proc/cpuinfo": "processor\t: 0\n"}
    for card, (pci, _driver, vendor) in DEVICES.items():
        device = f"/sys/devices/pci0000:00/{pci}"
        files |= {f"{device}/{name}": f"{value}\n" for name, value in FILES[card].items()}
        files |= {f"{device}/class": "0x030000\n", f"{device}/vendor": f"{vendor}\n", f"{device}/device": "0x4c40\n"}
        files |= {f"{device}/drm/{card}/{name}": f"{value}\n" for name, value in IN_CARD.get(card, {}).items()}
        files[f"{device}/drm/{card}/dev"] = "226:0\n"
    files["/sys/class/drm/card1-eDP-1/status"] = "connected\n"
    files["/sys/devices/pci0000:00/0000:03:00.0/boot_vga"] = "0\n"
    root = write_tree(files)
    for card, (pci, driver, _vendor) in DEVICES.items():
        folder_of = root / f"sys/devices/pci0000:00/{pci}"
        for folder, name, target in (
            ("sys/bus/pci/devices", pci, f"../../../devices/pci0000:00/{pci}"),
            ("sys/class/drm", card, f"../../devices/pci0000:00/{pci}/drm/{card}"),
        ):
            (root / folder).mkdir(parents=True, exist_ok=True)
            (root / folder / name).symlink_to(target)
        (folder_of / "drm" / card / "device").symlink_to("../..")
        (folder_of / "driver").symlink_to(f"../../../bus/pci/drivers/{driver}")
        for chip in folder_of.glob("hwmon/hwmon*"):
            (root / "sys/class/hwmon").mkdir(parents=True, exist_ok=True)
            (root / "sys/class/hwmon" / chip.name).symlink_to(f"../../devices/pci0000:00/{pci}/hwmon/{chip.name}")
            (chip / "device").symlink_to("../..")
    return TreeSystem(root)


def test_all_six_are_listed_with_driver_address_and_display(six: TreeSystem) -> None:
    inventory = read_inventory(six)
    cards = cards_of(inventory.parts)
    found = {
        card.name: (card.pci, card.part.fact("driver"), card.part.fact("displays on"))
        for card in cards
        if card.part is not None
    }
    assert found == {
        name: (pci, driver, "eDP-1" if name == "card1" else "") for name, (pci, driver, _) in DEVICES.items()
    }
    narrow = [doubt.part for doubt in inventory.doubts if doubt.code == "G-110"]
    assert narrow == ["graphics card5"]


def test_each_reports_what_its_driver_has_with_its_own_limits(six: TreeSystem) -> None:
    inventory = read_inventory(six)
    discovery = discover(six, inventory)
    tick = Sampler(six, discovery).sample()
    found: dict[str, tuple[Channel, float | None]] = {
        channel.name: (channel, value)
        for channel, value in zip(discovery.channels, tick.values, strict=True)
        if channel.kind is PartKind.GRAPHICS
    }
    wanted = {
        "card0 edge": 71.0,
        "card0 hottest spot": 88.0,
        "card0 memory": 82.0,
        "card0 power1": 203.0,
        "card0 core clock": 2310.0,
        "card0 fan1": 1710.0,
        "card0 use": 98.0,
        "card0 memory in use": 9.0,
        "card1 in0": 0.712,
        "card1 clock": 1150.0,
        "card1 gt0 held by thermal": 1.0,
        "card2 clock": 2050.0,
        "card2 in1": 0.690,
        "card3 temp1": 63.0,
        "card5 edge": 49.0,
        "card5 use": 3.0,
    }
    for name, value in wanted.items():
        assert found[name][1] == pytest.approx(value), name
        assert found[name][0].place in (name.split()[0], ""), name
    limits = {
        name: found[name][0].limit(LimitSide.BELOW) for name in ("card0 hottest spot", "card0 power1", "card3 temp1")
    }
    values = {name: (limit.value, limit.source) for name, limit in limits.items() if limit is not None}
    assert values == {
        "card0 hottest spot": (110.0, "read from the chip (temp2_crit)"),
        "card0 power1": (220.0, "read from the chip (power1_cap)"),
        "card3 temp1": (103.0, "read from the chip (temp1_crit)"),
    }
    powers = [name for name, (channel, _) in found.items() if channel.quantity is Quantity.POWER]
    assert {"card1 energy1", "card2 energy1"} <= set(powers)  # watts by the difference of two readings
    silent = [fact for fact in discovery.unknown if "temperature of" in fact.name]
    assert {fact.source for fact in silent} >= {"card1", "card2", "card4"}


def test_the_card_of_the_vendor_library_is_asked_through_it_beside_the_others(six: TreeSystem) -> None:
    inventory = read_inventory(six)
    unknown: list[Fact] = []
    only = Inventory(
        inventory.name,
        inventory.simulated,
        tuple(part for part in inventory.parts if part.kind is PartKind.GRAPHICS),
        inventory.cpus,
    )
    (probe,) = nvml.find(only, unknown, lambda _name: FakeLibrary())
    assert isinstance(probe.source, nvml.CardSource)
    answer = probe.parse(wait_for_answer(probe.source), 0.0)
    probe.source.close()
    values = dict(zip((each.name for each in probe.channels), answer, strict=True))
    temperature = next(value for name, value in values.items() if name.endswith("temperature"))
    assert temperature == 57.0
    assert not math.isnan(temperature)
