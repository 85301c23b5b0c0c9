"""What a machine is, from trees of several kinds; and the firmware table's oddities."""

from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.inventory.machine import read_inventory
from thresher.inventory.processor import cache_bytes
from thresher.inventory.smbios import memory_device, walk
from thresher.machine.live import LiveSystem
from thresher.machine.tree import TreeSystem
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.parts import PartKind
from thresher.simulator.firmware_tables import smbios_table
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]


def test_the_demo_machine_is_found_part_by_part(lighthouse: Scenario) -> None:
    found = read_inventory(SimulatedMachine(lighthouse, 0.0))
    names = {part.tag: part.name for part in found.parts}
    assert names["processor"] == "Tern 8-460"
    assert names["memory A2"] == "Mussel Bank MB-16D5-5600"
    assert names["board"] == "Quayside Boards QB-70 Capstan"
    assert names["drive nvme0n1"] == "Slipway N3 1TB"
    assert names["graphics card0"] == "Lumen L40"
    assert (found.core_count, len(found.cpus), found.simulated) == (8, 16, True)
    assert found.empty_slots == ("A1", "B1")
    assert found.unknown == ()
    assert found.core_of(13) == 5
    assert found.core_of(99) is None
    module = found.parts_of(PartKind.MEMORY)[0]
    assert {fact.name: fact.value for fact in module.facts} == {
        "size": "16 GiB",
        "kind": "DDR5 DIMM",
        "rated speed": "5600 MT/s",
        "configured speed": "5600 MT/s",
        "lowest voltage": "1.1 V",
        "configured voltage": "1.1 V",
        "bank": "BANK 1",
        "serial": "5E0A1C41",
    }
    assert all(fact.source.startswith("/") for part in found.parts for fact in part.facts)
    assert (cache_bytes(found, 2), cache_bytes(found, 3), cache_bytes(found, 4)) == (2 << 20, 32 << 20, None)


def test_this_computer_has_a_processor_and_memory() -> None:
    found = read_inventory(LiveSystem())
    assert not found.simulated
    assert found.cpus
    assert found.parts_of(PartKind.PROCESSOR)
    assert found.parts_of(PartKind.MEMORY)


def test_a_machine_without_topology_counts_what_cpuinfo_lists(write_tree: WriteTree) -> None:
    root = write_tree({"/proc/cpuinfo": "processor\t: 0\nModel\t\t: Board of ours\n\nprocessor\t: 1\n"})
    found = read_inventory(TreeSystem(root))
    assert len(found.cpus) == 2
    assert found.parts[0].name == "Processor"
    assert found.parts_of(PartKind.BOARD)[0].name == "Board of ours"
    reasons = {fact.name: fact.value for fact in found.unknown}
    assert "no topology" in reasons["cores and threads"]
    assert "firmware tables: not there" in reasons["board and memory modules"]
    assert "MemTotal" in reasons["memory size"]


def test_an_empty_tree_is_no_crash(write_tree: WriteTree) -> None:
    found = read_inventory(TreeSystem(write_tree({})))
    assert found.cpus == ()
    assert len(found.unknown) == 4


def test_fillers_of_lazy_firmware_are_not_names(write_tree: WriteTree, lighthouse: Scenario) -> None:
    table = (
        smbios_table(lighthouse)
        .replace(b"Quayside Boards", b"Default string.")
        .replace(b"Mussel Bank", b"Unknown\0\0\0\0"[:11])
    )
    table = table.replace(b"Default string.", b"Default string\0"[:15])
    found = read_inventory(TreeSystem(write_tree({"/sys/firmware/dmi/tables/DMI": table, "/proc/meminfo": ""})))
    board = found.parts_of(PartKind.BOARD)[0]
    assert board.name == "Board"


def test_virtual_and_loop_devices_are_no_drives(write_tree: WriteTree) -> None:
    root = write_tree(
        {
            "/sys/block/loop0/size": "100\n",
            "/sys/block/dm-0/size": "100\n",
            "/sys/block/vda/size": "2000000\n",
            "/sys/block/sda/size": "7814037168\n",
            "/sys/block/sda/device/model": "Barge 4TB       \n",
            "/sys/block/sda/device/rev": "0B01\n",
        }
    )
    drives = read_inventory(TreeSystem(root)).parts_of(PartKind.DRIVE)
    assert {part.place: part.name for part in drives} == {"vda": "Drive", "sda": "Barge 4TB"}


def test_a_broken_firmware_table_gives_what_came_before_the_break(lighthouse: Scenario) -> None:
    table = smbios_table(lighthouse)
    oddities: list[str] = []
    whole = list(walk(table, oddities))
    assert oddities == []
    assert [structure.kind for structure in whole] == [0, 1, 2, 17, 17, 17, 17, 16, 19, 20, 20, 127]
    cut = list(walk(table[:200], oddities))
    assert len(cut) < len(whole)
    assert oddities
    assert oddities[0].startswith("at byte ")


def test_sizes_of_modules_in_every_encoding() -> None:
    def device(size: int, extended: int = 0) -> int | None:
        area = bytearray(0x28)
        area[0:4] = bytes([17, 0x28, 0, 0])
        area[0x0C:0x0E] = size.to_bytes(2, "little")
        area[0x1C:0x20] = extended.to_bytes(4, "little")
        (structure,) = walk(bytes(area) + b"\0\0", [])
        return memory_device(structure).size_mib

    assert device(0) == 0
    assert device(16384) == 16384
    assert device(0x7FFF, 65536) == 65536
    assert device(0x8000 | 2048) == 2
    assert device(0xFFFF) is None


def test_links_of_a_tree_never_lead_outside_it(tmp_path: Path) -> None:
    root = tmp_path / "root"
    (root / "sys").mkdir(parents=True)
    (tmp_path / "secret").write_text("outside")
    (root / "sys/abs").symlink_to("/sys/there")
    (root / "sys/there").write_text("inside")
    (root / "sys/up").symlink_to("../../secret")
    (root / "sys/loop").symlink_to("loop")
    tree = TreeSystem(root)
    assert tree.read("/sys/abs") == b"inside"
    with pytest.raises(SourceUnavailable, match="not there"):
        tree.read("/sys/up")
    with pytest.raises(SourceUnavailable, match="circle"):
        tree.read("/sys/loop")


def test_a_tree_must_be_a_directory(tmp_path: Path) -> None:
    with pytest.raises(EnvironmentFault, match="not a directory"):
        TreeSystem(tmp_path / "none")
