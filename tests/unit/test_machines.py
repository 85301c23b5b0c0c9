"""Machines of six kinds: right parts and places, doubts with their codes, and a plain word for the unknown."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.unit import machine_trees as trees
from thresher.codes.directory import load_codes
from thresher.inventory.edid import parse_edid
from thresher.inventory.machine import read_inventory
from thresher.inventory.smbios import describe, walk
from thresher.machine.tree import TreeSystem
from thresher.model.channels import LimitSide
from thresher.model.errors import InputError
from thresher.model.parts import Inventory, PartKind
from thresher.sensors.discovery import discover

WriteTree = Callable[[dict[str, str | bytes]], Path]


def inventory(write_tree: WriteTree, files: trees.Files) -> Inventory:
    return read_inventory(TreeSystem(write_tree(files)))


def facts(found: Inventory, tag: str) -> dict[str, str]:
    return {fact.name: fact.value for part in found.parts if part.tag == tag for fact in part.facts}


def codes(found: Inventory) -> dict[str, str]:
    return {doubt.code: doubt.detail for doubt in found.doubts}


@pytest.mark.parametrize("kind", trees.ALL)
def test_every_kind_is_read_and_its_doubts_have_codes(write_tree: WriteTree, kind: str) -> None:
    system = TreeSystem(write_tree(trees.ALL[kind]()))
    found = read_inventory(system)
    discover(system, found)
    assert found.parts_of(PartKind.PROCESSOR)
    assert found.parts_of(PartKind.MEMORY)
    assert {doubt.code for doubt in found.doubts} <= set(load_codes())
    tags = [part.tag for part in found.parts]
    assert len(tags) == len(set(tags))
    assert all(fact.value and fact.source for part in found.parts for fact in part.facts)


def test_a_desktop_with_slow_memory_on_one_channel_and_a_narrow_link(write_tree: WriteTree) -> None:
    found = inventory(write_tree, trees.desktop())
    assert [part.place for part in found.parts_of(PartKind.MEMORY)] == ["DIMM_A1", "DIMM_A2"]
    assert found.empty_slots == ("DIMM_B1", "DIMM_B2")
    assert (found.core_count, len(found.cpus)) == (4, 8)
    doubts = codes(found)
    assert set(doubts) == {"M-120", "M-130", "G-110", "G-120"}
    assert "2133 of 3200 MT/s" in doubts["M-120"]
    assert doubts["M-130"] == "2 modules on channel A, none on B"
    assert doubts["G-110"].startswith("8 of 16 lanes")
    assert facts(found, "drive sda") == {"size": "500 GB", "kind": "spinning", "holds": "the running system"}
    assert facts(found, "processor")["instruction sets"] == "avx, avx2, fma, aes"
    assert facts(found, "board")["firmware"] == "maker Quayside Boards, version F3, date 03/02/2022"


def test_a_laptop_with_two_kinds_of_cores_and_a_worn_battery(write_tree: WriteTree) -> None:
    found = inventory(write_tree, trees.laptop())
    processor = facts(found, "processor")
    assert (processor["performance threads"], processor["efficiency threads"]) == ("0-3", "4-7")
    assert (found.core_count, len(found.cpus)) == (6, 8)
    assert processor["boost"] == "switched off"
    assert set(codes(found)) == {"P-130", "A-110"}
    assert codes(found)["A-110"] == "holds 62 % of what it was made for after 612 cycles"
    battery = facts(found, "battery BAT0")
    assert battery["full charge left"] == "31.0 of 50.0 Wh (62 %)"
    assert battery["cycles"] == "612"
    assert len(found.parts_of(PartKind.BATTERY)) == 1
    assert [part.name for part in found.parts_of(PartKind.DISPLAY)] == ["Cabin 15"]
    assert facts(found, "display eDP-1")["preferred mode"] == "1920x1080 at 60 Hz"
    assert any("HDMI-A-1" in fact.name and "byte 1" in fact.value for fact in found.unknown)
    assert [part.name for part in found.parts_of(PartKind.NETWORK)] == ["Wireless network"]
    assert [part.name for part in found.parts_of(PartKind.SOUND)] == ["Harbour Audio"]


def test_a_workstation_with_check_bits_and_two_cards(write_tree: WriteTree) -> None:
    found = inventory(write_tree, trees.workstation())
    assert facts(found, "processor")["cores and threads"] == "32 cores, 32 threads in 2 sockets"
    assert len(found.parts_of(PartKind.MEMORY)) == 8
    assert facts(found, "memory CPU0_DIMM_A1")["check bits"] == "72 bits for 64 of data"
    assert facts(found, "memory CPU1_DIMM_D1")["size"] == "32 GiB"
    assert facts(found, "board")["error-correcting controller"] == "Tern_Memory#1"
    assert facts(found, "board")["corrected errors, mc1"] == "7"
    assert "corrected errors, mc0" not in facts(found, "board")
    assert [part.name for part in found.parts_of(PartKind.GRAPHICS)] == ["Lumen W9", "Lumen W9"]
    assert set(codes(found)) == {"G-120"}


def test_check_bits_that_nobody_watches_are_reported(write_tree: WriteTree) -> None:
    files = {path: text for path, text in trees.workstation().items() if "/edac/" not in path}
    reasons = {fact.name: fact.value for fact in inventory(write_tree, files).unknown}
    assert "no EDAC driver is loaded" in reasons["memory error correction"]


def test_an_old_machine_with_lazy_and_broken_firmware(write_tree: WriteTree) -> None:
    found = inventory(write_tree, trees.old_machine())
    assert found.parts_of(PartKind.BOARD)[0].name == "Board"
    (module,) = found.parts_of(PartKind.MEMORY)
    assert (module.name, module.place) == ("Mussel Bank", "slot 1")
    assert any(fact.value.startswith("at byte ") for fact in found.unknown)
    assert "S-110" in codes(found)


def test_missing_memory_is_a_doubt_and_the_usual_share_is_not(write_tree: WriteTree) -> None:
    files = trees.desktop()
    files["/proc/meminfo"] = "MemTotal: 8100000 kB\nMemAvailable: 8000000 kB\n"
    found = inventory(write_tree, files)
    assert codes(found)["M-110"] == "16 GiB installed, the kernel counts 7.7 GiB"


def test_unlike_modules_and_a_clock_held_down(write_tree: WriteTree) -> None:
    files = trees.desktop()
    table = trees.firmware() + trees.module("A1", 8) + trees.module("B1", 16, part="MB-16D4") + trees.END
    files["/sys/firmware/dmi/tables/DMI"] = table
    files["/proc/meminfo"] = "MemTotal: 24500000 kB\nMemAvailable: 24000000 kB\n"
    files[f"{trees.CPU}/cpu0/cpufreq/scaling_max_freq"] = "2000000\n"
    doubts = codes(inventory(write_tree, files))
    assert doubts["M-140"] == "A1 MB-8D4, B1 MB-16D4"
    assert doubts["P-131"].startswith("2.00 of 4.40 GHz")
    assert "M-130" not in doubts


def test_a_virtual_machine_and_a_board_without_firmware_tables_say_so(write_tree: WriteTree) -> None:
    machine = inventory(write_tree, trees.virtual_machine())
    assert [part.tag for part in machine.parts_of(PartKind.DRIVE)] == ["drive vda"]
    assert any("firmware tables: not there" in fact.value for fact in machine.unknown)
    assert machine.doubts == ()


def test_an_arm_board_is_named_by_its_device_tree(write_tree: WriteTree) -> None:
    board = inventory(write_tree, trees.arm_board())
    assert board.parts[0].name == "1 x Cortex-A72"
    assert board.parts_of(PartKind.BOARD)[0].name == "Harbour Light Board 4"
    assert facts(board, "processor")["implementer"] == "0x41"
    assert facts(board, "processor")["instruction sets"] == "aes, asimd"
    assert board.doubts == ()


def test_structures_are_reported_in_words() -> None:
    processor = trees.structure(
        4,
        {4: b"\1", 7: b"\2", 0x11: b"\x8c", 0x12: b"\x64\0", 0x14: b"\x10\x0e", 0x23: b"\6", 0x25: b"\x0c"},
        0x28,
        "U1",
        "Tern Works",
    )
    supply = trees.structure(39, {5: b"\1\2\3", 0x0C: b"\x26\2"}, 22, "PSU", "Brackwater 550", "Brackwater")
    probe = trees.structure(26, {4: b"\1", 0x14: b"\xe8\x2e"}, 22, "+12V")
    shown = {}
    for structure in walk(processor + supply + probe + trees.END, []):
        described = describe(structure)
        if described:
            shown[described.title] = {fact.name: fact.value for fact in described.facts}
    assert shown["processor socket"] == {
        "socket": "U1",
        "maker": "Tern Works",
        "voltage": "1.2 V",
        "external clock": "100 MHz",
        "maximum speed": "3600 MHz",
        "cores": "6",
        "threads": "12",
    }
    assert shown["power supply"]["largest power"] == "550 W"
    assert shown["voltage probe"] == {"name": "+12V", "nominal": "12008 mV"}


def test_an_edid_reports_maker_size_and_mode() -> None:
    shown = parse_edid(trees.edid())
    assert (shown.maker, shown.product, shown.name, shown.year) == ("TRN", 0x1234, "Pier 24", 2020)
    assert (shown.size_cm, shown.version, shown.checksum_right) == ((53, 30), "1.4", True)
    assert shown.preferred is not None
    assert (shown.preferred.width, shown.preferred.height) == (1920, 1080)
    assert shown.preferred.rate_hz == pytest.approx(60, abs=0.1)


@given(st.binary(max_size=300))
def test_no_bytes_crash_the_edid_reader(data: bytes) -> None:
    try:
        parse_edid(data)
    except InputError as error:
        assert error.faults[0].place in ("length", *(f"byte {n}" for n in range(8)))


def test_ten_thousand_mutated_edids_are_read() -> None:
    rng = np.random.default_rng(8)
    whole = np.frombuffer(trees.edid(), dtype=np.uint8)
    for _ in range(10_000):
        mutated = whole.copy()
        mutated[rng.integers(8, 128, 5)] = rng.integers(0, 256, 5)
        shown = parse_edid(mutated.tobytes())
        assert len(shown.name) <= 13
        if shown.preferred is not None:
            assert shown.preferred.width < 4096
            assert np.isfinite(shown.preferred.rate_hz)


@given(st.binary(max_size=500))
def test_no_bytes_crash_the_description_of_structures(table: bytes) -> None:
    for structure in walk(table, []):
        described = describe(structure)
        assert described is None or all(fact.value for fact in described.facts)


def test_cores_of_two_sockets_are_distinguished(write_tree: WriteTree) -> None:
    files = trees.workstation()
    for package in range(2):
        chip = f"/sys/devices/platform/coretemp.{package}/hwmon/hwmon{package}"
        files |= {f"{chip}/name": "coretemp\n", f"{chip}/temp5_input": "50000\n", f"{chip}/temp5_label": "Core 3\n"}
    root = write_tree(files)
    for package in range(2):
        link = root / f"sys/class/hwmon/hwmon{package}"
        link.parent.mkdir(parents=True, exist_ok=True)
        link.symlink_to(f"/sys/devices/platform/coretemp.{package}/hwmon/hwmon{package}")
        (root / f"sys/devices/platform/coretemp.{package}/hwmon/hwmon{package}/device").symlink_to(
            f"/sys/devices/platform/coretemp.{package}"
        )
    system = TreeSystem(root)
    found = read_inventory(system)
    assert found.core_count == 32
    assert sorted(cpu.core for cpu in found.cpus) == list(range(32))
    assert (found.core_of(3), found.core_of(19)) == (3, 19)
    named = {channel.name: channel.core for channel in discover(system, found).channels if channel.core is not None}
    assert (named["Core 3 (coretemp.0)"], named["Core 3 (coretemp.1)"]) == (3, 19)


def limits(write_tree: WriteTree, files: trees.Files) -> dict[str, tuple[float, str]]:
    """Each channel's limit that counts on its upper side, else on its lower, with who says so."""
    system = TreeSystem(write_tree(files))
    found = {}
    for channel in discover(system, read_inventory(system)).channels:
        limit = channel.limit(LimitSide.BELOW) or channel.limit(LimitSide.ABOVE)
        if limit:
            found[channel.key.partition("/")[0] + " " + channel.name] = (limit.value, limit.source.split(":")[0])
    return found


def test_limits_come_from_device_standard_and_knowledge_in_this_order(write_tree: WriteTree) -> None:
    desktop = limits(write_tree, trees.desktop())
    assert desktop["coretemp Package id 0"] == (100.0, "read from the chip (temp1_crit)")
    assert desktop["boardmon +12V"][0] == pytest.approx(12.6)
    assert desktop["boardmon +12V"][1].startswith("ATX12V")
    assert desktop["boardmon Vbat"] == (2.6, "judgement")
    assert desktop["drivetemp drivetemp temp1"] == (60.0, "judgement")


@pytest.mark.parametrize(
    ("files", "wanted"),
    [
        (trees.laptop, {"coretemp Package id 0": (95.0, "judgement"), "nvme nvme temp1": (80.0, "judgement")}),
        (
            trees.workstation,
            {
                "spd5118 spd5118 temp1": (85.0, "JEDEC JESD79-4 and JESD79-5, operating temperature"),
                "amdgpu mem": (105.0, "judgement"),
            },
        ),
        (trees.arm_board, {"cpu_thermal cpu_thermal temp1": (110.0, "read from the chip (temp1_crit)")}),
        (trees.virtual_machine, {}),
        (trees.old_machine, {}),
    ],
)
def test_limits_of_the_other_kinds(
    write_tree: WriteTree, files: Callable[[], trees.Files], wanted: dict[str, tuple[float, str]]
) -> None:
    found = limits(write_tree, files())
    assert {name: found[name] for name in wanted} == wanted
    assert set(found) - set(wanted) <= {f"cpufreq Core {n} clock" for n in range(32)}


def test_fans_supplies_and_usb_controllers_are_reported_with_their_parts(write_tree: WriteTree) -> None:
    found = inventory(write_tree, trees.desktop())
    assert facts(found, "cooling") == {"CPU fan": "810 rpm, driven at 40 %", "fan 2": "0 rpm"}
    assert facts(found, "board")["USB 3 (xHCI) controller"] == "0000:00:14.0, no driver"
    assert facts(inventory(write_tree, trees.laptop()), "power supply") == {"Mains AC": "not connected"}


def test_a_displays_modes_come_from_all_its_blocks() -> None:
    block = bytearray(trees.edid())
    block[35], block[36] = 0x21, 0x08  # 640x480@60, 800x600@60, 1024x768@60
    block[38:40] = bytes([0xD1, 0xC0])  # 1920 wide, 16:9, 60 Hz
    block[126] = 1
    block[127] = (block[127] - sum(block)) % 256
    extension = bytearray(128)
    extension[0], extension[2] = 0x02, 4
    extension[4:22] = trees.edid(width=2560, height=1440)[54:72]
    found = parse_edid(bytes(block) + bytes(extension))
    assert [(mode.width, mode.height) for mode in found.modes[:2]] == [(2560, 1440), (1920, 1080)]
    assert {(mode.width, mode.height, mode.rate_hz) for mode in found.modes} >= {(1024, 768, 60), (640, 480, 60)}


def test_drives_tell_their_link_and_driver_and_a_narrow_one_is_doubted(write_tree: WriteTree) -> None:
    pci = "/sys/devices/pci0000:00/0000:02:00.0"
    drive = f"{pci}/nvme/nvme0/nvme0n1"
    disk = "/sys/devices/pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sda"
    files: trees.Files = {
        f"{drive}/size": "1000215216\n",
        f"{pci}/current_link_width": "2\n",
        f"{pci}/max_link_width": "4\n",
        f"{pci}/current_link_speed": "8.0 GT/s PCIe\n",
        f"{disk}/size": "976773168\n",
        "/sys/class/ata_link/link3/sata_spd": "3.0 Gbps\n",
        "/sys/bus/pci/drivers/nvme/x": "",
        "/sys/class/hwmon/hwmon0/name": "harbourpsu\n",
    }
    root = write_tree(files)
    for link, target in (
        ("sys/block/nvme0n1", drive),
        ("sys/block/sda", disk),
        (f"{drive}/device", f"{pci}/nvme/nvme0"),
        (f"{pci}/nvme/nvme0/device", pci),
        (f"{pci}/driver", "/sys/bus/pci/drivers/nvme"),
        (f"{disk}/device", f"{disk}/../.."),
    ):
        path = root / link.lstrip("/")
        path.parent.mkdir(parents=True, exist_ok=True)
        path.symlink_to(target)
    found = read_inventory(TreeSystem(root))
    shown = facts(found, "drive nvme0n1")
    assert (shown["link width now"], shown["link speed now"], shown["driver"]) == ("2", "8.0 GT/s PCIe", "nvme")
    assert codes(found)["D-130"].startswith("2 of 4 lanes")
    assert facts(found, "drive sda")["link speed now"] == "3.0 Gbps"
    assert facts(found, "power supply")["reports by itself"] == "as harbourpsu"
