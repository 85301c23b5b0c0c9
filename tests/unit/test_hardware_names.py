"""Names of devices: the kernel's, the hardware database's, or their numbers."""

from collections.abc import Callable
from pathlib import Path

from tests.unit import machine_trees as trees
from thresher.inventory.machine import read_inventory
from thresher.inventory.names import database_name, modalias_of
from thresher.machine.hardware_names import HardwareNames
from thresher.machine.tree import TreeSystem
from thresher.model.parts import PartKind

WriteTree = Callable[[dict[str, str | bytes]], Path]


class Database:
    """A hardware database of our own making."""

    reason = ""

    def __call__(self, modalias: str) -> dict[str, str]:
        """Know one graphics card and one controller."""
        known = {
            "pci:v00001F4Dd00004C40": {
                "ID_VENDOR_FROM_DATABASE": "Lumen Optics",
                "ID_MODEL_FROM_DATABASE": "Lumen L40",
            },
            "pci:v00001F4Dd00000300": {
                "ID_VENDOR_FROM_DATABASE": "Capstan",
                "ID_MODEL_FROM_DATABASE": "Capstan Hub 3",
            },
        }
        return known.get(modalias[:22], {})


def test_a_card_is_named_by_the_database_and_a_controller_with_its_driver(write_tree: WriteTree) -> None:
    hub = "/sys/bus/pci/devices/0000:00:14.0"
    files = trees.desktop() | {
        f"{hub}/class": "0x0c0330\n",
        f"{hub}/vendor": "0x1f4d\n",
        f"{hub}/device": "0x0300\n",
    }
    found = read_inventory(TreeSystem(write_tree(files)), Database())
    assert [part.name for part in found.parts_of(PartKind.GRAPHICS)] == ["Lumen Optics Lumen L40"]
    (board,) = found.parts_of(PartKind.BOARD)
    assert board.fact("USB 3 (xHCI) controller") == "0000:00:14.0, Capstan Hub 3, no driver"


def test_the_modalias_is_the_kernels_or_put_together_from_the_numbers(write_tree: WriteTree) -> None:
    folder = "/sys/bus/pci/devices/0000:01:00.0"
    system = TreeSystem(write_tree(trees.desktop()))
    assert modalias_of(system, folder) == "pci:v00001F4Dd00004C40sv00000000sd00000000bc03sc00i00"
    write_tree({f"{folder}/modalias": "pci:v00008086d1\n"})
    assert modalias_of(system, folder) == "pci:v00008086d1"
    assert modalias_of(system, "/sys/nowhere") == ""


def test_a_maker_is_not_said_twice_and_a_maker_alone_is_no_name() -> None:
    class One:
        reason = ""

        def __init__(self, found: dict[str, str]) -> None:
            self._found = found

        def __call__(self, modalias: str) -> dict[str, str]:
            return self._found

    twice = One({"ID_VENDOR_FROM_DATABASE": "Lumen", "ID_MODEL_FROM_DATABASE": "Lumen L40"})
    assert database_name(twice, "pci:x") == "Lumen L40"
    assert database_name(One({"ID_VENDOR_FROM_DATABASE": "Lumen"}), "pci:x") == ""


def test_without_a_database_the_reason_is_reported_and_nothing_is_named(write_tree: WriteTree) -> None:
    names = HardwareNames(find=lambda _name: None)
    assert names("pci:v00008086d00001234") == {}
    assert "libudev1" in names.reason
    names.close()
    found = read_inventory(TreeSystem(write_tree(trees.desktop())), names)
    assert [part.name for part in found.parts_of(PartKind.GRAPHICS)] == ["Graphics 0x1f4d 0x4c40"]
    assert any("libudev1" in fact.value for fact in found.unknown)


def test_the_database_of_this_system_answers_or_states_why_not() -> None:
    names = HardwareNames()
    answer = names("pci:v00008086d00001237sv00000000sd00000000bc06sc00i00")
    assert names.reason or answer.get("ID_MODEL_FROM_DATABASE")
    names.close()
    names.close()
