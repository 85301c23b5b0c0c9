"""Machines that nobody has seen before: read in full, judged rightly, and nothing accused that is not at fault."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.unit import more_machine_trees as trees
from thresher.engine.watch.readings import Watchers
from thresher.inventory.identity import masked
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, LimitSide, Quantity, SensorDoubt, Tick
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import Inventory, PartKind
from thresher.sensors.alarms import find_alarms
from thresher.sensors.discovery import Discovery, discover
from thresher.sensors.running_sanity import RunningSanity
from thresher.sensors.sampler import Sampler

WriteTree = Callable[[dict[str, str | bytes]], Path]


class Watched:
    """A tree read again and again as an engine does, a second of its own clock apart."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.system = TreeSystem(root)
        self.inventory: Inventory = read_inventory(self.system)
        self.discovery: Discovery = discover(self.system, self.inventory)
        self.channels = self.discovery.channels
        self.sampler = Sampler(self.system, self.discovery)
        self.watchers = Watchers(self.channels)
        self.sanity = RunningSanity(self.channels)
        self.findings: list[Finding] = []
        self.entries: list[TapeEntry] = []
        self.doubts: list[SensorDoubt] = []
        self._at = 100.0

    def look(self, seconds: int) -> None:
        for _ in range(seconds):
            self._at += 1.0
            tick: Tick = replace(self.sampler.sample(), at=self._at)
            new = self.sanity.look(tick)
            self.doubts += new
            ignored = {doubt.channel for doubt in self.doubts}
            self.watchers.channels = tuple(
                replace(each, distrust="doubted") if each.key in ignored else each for each in self.channels
            )
            findings, entries = self.watchers.look(tick, frozenset())
            self.findings += findings
            self.entries += entries

    def channel(self, name: str) -> Channel:
        return next(each for each in self.channels if each.name == name)

    def write(self, path: str, text: str) -> None:
        (self.root / path.lstrip("/")).write_text(text)


@pytest.fixture
def watched(write_tree: WriteTree) -> Callable[[str], Watched]:
    return lambda name: Watched(write_tree(trees.ALL[name]()))


def doubts(machine: Watched) -> dict[str, str]:
    return {each.code: each.detail for each in machine.inventory.doubts}


@pytest.mark.parametrize("name", trees.ALL)
def test_no_machine_accuses_anything_it_should_not(watched: Callable[[str], Watched], name: str) -> None:
    machine = watched(name)
    machine.look(20)
    expected = {"two-socket server": {"S-410"}, "noisy board": {"C-230"}}.get(name, set())
    assert {finding.code for finding in machine.findings} == expected
    words = [fact.value for fact in (*machine.inventory.unknown, *machine.discovery.unknown)]
    assert not any("virtual machine" in each for each in words)
    assert len({part.tag for part in machine.inventory.parts}) == len(machine.inventory.parts)


def test_slots_of_one_name_are_told_apart_and_fillers_are_no_names(watched: Callable[[str], Watched]) -> None:
    machine = watched("small desktop")
    modules = machine.inventory.parts_of(PartKind.MEMORY)
    assert [part.name for part in modules] == ["Memory module", "Memory module"]
    assert len({part.place for part in modules}) == 2
    assert all("P0 CHANNEL A DIMM 1" in part.place for part in modules)
    assert doubts(machine)["M-130"] == "2 modules on channel 0/A, none on 0/B"
    assert "M-140" not in doubts(machine)


def test_no_serial_is_left_in_masked_output(watched: Callable[[str], Watched]) -> None:
    machine = watched("small desktop")
    everything = "".join(fact.value for part in machine.inventory.parts for fact in part.facts)
    assert "PIER-77-0042" in everything
    hidden = "".join(fact.value for part in masked(machine.inventory).parts for fact in part.facts)
    assert "PIER-77-0042" not in hidden
    assert "Chassis Manufacturer" not in everything


def test_a_card_that_reports_nothing_is_named_and_its_width_of_255_is_no_fault(
    watched: Callable[[str], Watched],
) -> None:
    machine = watched("gaming laptop")
    silent = [fact.name for fact in machine.discovery.unknown if fact.name.startswith("temperature of")]
    assert silent == ["temperature of Lantern graphics", "temperature of Beam graphics"]
    assert "G-110" not in doubts(machine)
    assert doubts(machine)["A-110"] == "holds 54 % of what it was made for after 931 cycles"
    fan = machine.channel("amdgpu fan1")
    assert (fan.quantity, fan.kind) == (Quantity.FAN, PartKind.GRAPHICS)
    machine.look(2)
    (before,) = [entry for entry in machine.entries if "before the bench was opened" in entry.title]
    assert "Core 0 412 times" in before.detail
    machine.write(f"{trees.SUPPLY}/ADP1/online", "0\n")
    machine.look(1)
    assert machine.entries[-1].title == "Mains lost"


def test_rails_by_other_names_have_their_limits_and_set_limits_of_a_chip_count(
    watched: Callable[[str], Watched],
) -> None:
    machine = watched("two-socket server")
    machine.look(10)
    (low,) = machine.findings
    assert (low.code, low.place) == ("S-410", "+12 Voltage")
    for name, lowest in (("+12 Voltage", 11.4), ("+5 Voltage", 4.75), ("+3.3 Voltage", 3.135)):
        limit = machine.channel(name).limit(LimitSide.ABOVE)
        assert limit is not None
        assert limit.value == pytest.approx(lowest)
    machine.write("/sys/class/hwmon/hwmon0/in3_input", "1650\n")
    machine.look(5)
    assert "harbourbmc in3 beyond its limit" in {entry.title for entry in machine.entries}


def test_worn_flash_is_reported(watched: Callable[[str], Watched]) -> None:
    assert doubts(watched("mini PC")) == {"D-140": "90 to 100 % of its life used, 80 % of the reserved blocks used"}


def test_a_small_board_shows_both_clusters_their_heat_and_what_holds_one_down(
    watched: Callable[[str], Watched],
) -> None:
    machine = watched("single-board ARM")
    assert machine.inventory.parts_of(PartKind.PROCESSOR)[0].name == "4 x Cortex-A55 + 2 x Cortex-A76"
    assert machine.inventory.parts_of(PartKind.BOARD)[0].name == "Breakwater SB-2"
    assert "1.39 of 2.21 GHz allowed for CPUs 4, 5" in doubts(machine)["P-131"]
    soc = machine.channel("soc-thermal")
    assert soc.kind is PartKind.PROCESSOR
    assert [limit.value for limit in soc.limits] == [82.0, 112.0]
    assert machine.channel("gpu-thermal").kind is PartKind.GRAPHICS
    assert machine.channel("charger").kind is PartKind.BATTERY


def test_serials_of_sata_drives_come_from_their_own_data(watched: Callable[[str], Watched]) -> None:
    drives = watched("RAID workstation").inventory.parts_of(PartKind.DRIVE)
    assert [part.fact("serial") for part in drives] == [f"BRG{number:05}" for number in range(8)]


def test_limits_that_nobody_set_do_not_bury_the_fan_that_stands_still(watched: Callable[[str], Watched]) -> None:
    machine = watched("noisy board")
    bits = find_alarms(machine.system)
    assert {bit.limits_set for bit in bits if "/in" in bit.channel} == {False}
    assert {bit.limits_set for bit in bits if bit.channel.endswith("fan3")} == {True}
    machine.look(15)
    (still,) = machine.findings
    assert still.place == "Chassis fan 3", "not the free input, not the fan that rests at duty 0"
    assert "driven at 60 %" in still.detail


def test_readings_that_cannot_be_are_doubted_before_they_are_evidence(watched: Callable[[str], Watched]) -> None:
    machine = watched("broken sensors")
    machine.look(10)
    assert machine.findings == []
    assert {doubt.channel.rpartition("/")[2] for doubt in machine.doubts} == {"temp1", "temp2"}
    assert {doubt.code for doubt in machine.doubts} == {"X-830"}
    assert not any("beyond its limit" in entry.title for entry in machine.entries)


def test_a_drive_beyond_its_recommended_temperature_is_noted_by_its_name(watched: Callable[[str], Watched]) -> None:
    machine = watched("warm drive")
    machine.look(5)
    (note,) = [entry for entry in machine.entries if entry.code == "X-851"]
    assert note.title == "drive sdc beyond its limit"
    assert note.detail.startswith("57 °C, must stay below 55")
    assert machine.channel("drive sdc").place == "sdc"
