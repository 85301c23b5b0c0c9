"""Links of cards by sysfs, cards that have left the bus, and cards that hold themselves down under heat."""

from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.graphics.cards import SOFTWARE, cards_of, is_off_the_bus, read_link
from thresher.graphics.findings import link_finding
from thresher.graphics.heat import CardHeat
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind

WriteTree = Callable[[dict[str, str | bytes]], Path]
PORT = "/sys/devices/pci0000:00/0000:00:01.0"
CARD = f"{PORT}/0000:01:00.0"


def link(width: int, speed: str, port_width: int = 16, card_width: int = 16, now: str = "") -> dict[str, str | bytes]:
    return {
        f"{CARD}/class": "0x030000\n",
        f"{CARD}/current_link_width": f"{width}\n",
        f"{CARD}/current_link_speed": f"{now or speed} PCIe\n",
        f"{CARD}/max_link_width": f"{card_width}\n",
        f"{CARD}/max_link_speed": f"{speed} PCIe\n",
        f"{PORT}/max_link_width": f"{port_width}\n",
        f"{PORT}/max_link_speed": "16.0 GT/s PCIe\n",
    }


def tree(write_tree: WriteTree, files: dict[str, str | bytes]) -> TreeSystem:
    root = write_tree(files)
    bus = root / "sys/bus/pci/devices"
    bus.mkdir(parents=True, exist_ok=True)
    (bus / "0000:01:00.0").symlink_to(f"../../..{CARD.removeprefix('/sys')}")
    return TreeSystem(root)


def test_a_link_is_held_against_what_card_and_port_can_both_do(write_tree: WriteTree) -> None:
    full = read_link(tree(write_tree, link(16, "16.0 GT/s")), "0000:01:00.0")
    assert full is not None
    assert not full.narrow
    assert full.words == "16 lanes at 16 GT/s"


def test_a_card_in_a_narrow_slot_is_not_narrow(write_tree: WriteTree) -> None:
    eight = read_link(tree(write_tree, link(8, "16.0 GT/s", port_width=8)), "0000:01:00.0")
    assert eight is not None
    assert not eight.narrow


def test_a_card_that_lost_lanes_is_narrow_and_said_so(write_tree: WriteTree) -> None:
    narrow = read_link(tree(write_tree, link(4, "16.0 GT/s", now="8.0 GT/s")), "0000:01:00.0")
    assert narrow is not None
    assert narrow.narrow
    assert narrow.slow
    finding = link_finding("card0", narrow)
    assert finding.code == "G-420"
    assert finding.detail == "it runs 4 lanes at 8 GT/s of 16 at 16 GT/s"


@pytest.mark.parametrize("damage", ["", "fast", "-1", "999"])
def test_a_link_that_is_not_reported_is_unknown(write_tree: WriteTree, damage: str) -> None:
    files = link(16, "16.0 GT/s") | {f"{CARD}/current_link_width": f"{damage}\n"}
    assert read_link(tree(write_tree, files), "0000:01:00.0") is None


def test_a_card_off_the_bus_reads_all_ones(write_tree: WriteTree) -> None:
    there = tree(write_tree, link(16, "16.0 GT/s") | {f"{CARD}/config": b"\x4d\x1f\x40\x4c" + bytes(60)})
    assert not is_off_the_bus(there, "0000:01:00.0")
    assert not is_off_the_bus(there, "")  # the software renderer is on no bus
    assert is_off_the_bus(there, "0000:09:00.0")


def test_a_config_space_of_ones_is_a_card_that_is_gone(write_tree: WriteTree) -> None:
    gone = tree(write_tree, link(16, "16.0 GT/s") | {f"{CARD}/config": b"\xff" * 64})
    assert is_off_the_bus(gone, "0000:01:00.0")


def test_a_card_knows_its_address_and_its_displays(write_tree: WriteTree) -> None:
    files: dict[str, str | bytes] = link(16, "16.0 GT/s") | {
        "/sys/class/drm/card0-HDMI-A-1/status": "connected\n",
        "/sys/class/drm/card0-DP-1/status": "disconnected\n",
        "/proc/cpuinfo": "processor\t: 0\n",
    }
    files |= {f"{CARD}/drm/card0/dev": "226:0\n"}
    root = write_tree(files)
    system = tree(lambda _files: root, files)
    drm = root / "sys/class/drm"
    (drm / "card0").mkdir()
    (drm / "card0" / "device").symlink_to(f"../../..{CARD.removeprefix('/sys')}")
    inventory = read_inventory(system)
    (card,) = cards_of(inventory.parts)
    assert (card.name, card.pci) == ("card0", "0000:01:00.0")
    assert card.part is not None
    assert card.part.fact("displays on") == "HDMI-A-1"
    assert SOFTWARE.name == "software renderer"


# ---- heat


def readings(hot_c: float, mhz: float) -> list[tuple[Channel, float]]:
    limit = Limit(100.0, LimitSide.BELOW, "by hand")
    hot = Channel("a/0/temp2", "card0 hottest spot", Quantity.TEMPERATURE, PartKind.GRAPHICS, "x", (limit,))
    clock = Channel("a/0/freq1", "card0 core clock", Quantity.FREQUENCY, PartKind.GRAPHICS, "x")
    memory = Channel("a/0/freq2", "card0 memory clock", Quantity.FREQUENCY, PartKind.GRAPHICS, "x")
    return [(hot, hot_c), (clock, mhz), (memory, 9000.0)]


def test_a_clock_that_falls_near_the_limit_is_found_once() -> None:
    heat = CardHeat("card0")
    found = []
    for second in range(60):
        warm = min(97.0, 60.0 + 2 * second)
        mhz = 2100.0 if warm < 95 else 1700.0
        finding = heat.look(readings(warm, mhz), float(second))
        found += [(second, finding)] if finding is not None else []
    ((second, finding),) = found
    assert second == 18 + 8  # 96 °C from the 18th second on, and it has to last
    assert (finding.code, finding.detail) == ("G-441", "1700 MHz, 2100 MHz before; 3 K below its limit")


def test_a_clock_that_falls_cool_or_for_a_moment_is_none() -> None:
    heat = CardHeat("card0")
    assert all(heat.look(readings(70.0, 2100.0 if s < 20 else 900.0), float(s)) is None for s in range(60))
    spikes = CardHeat("card0")
    assert all(spikes.look(readings(96.0, 1700.0 if s % 5 == 4 else 2100.0), float(s)) is None for s in range(60))
    silent = CardHeat("card0")
    assert silent.look([], 0.0) is None
