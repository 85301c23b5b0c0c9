"""Which machine this is, and which physical part is which."""

import struct
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from tests.unit import machine_trees as trees
from thresher.inventory.identity import machine_key, tag_parts
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.parts import Inventory
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]


def machine(scenario: Scenario) -> Inventory:
    return read_inventory(SimulatedMachine(scenario, 0.0))


def tags(found: Inventory, known: tuple = ()) -> dict[str, str]:  # type: ignore[type-arg]
    return {each.part: each.tag for each in tag_parts(found, known) if each.part}


def test_a_board_keeps_its_key_whatever_is_fitted(lighthouse: Scenario, ferry: Scenario) -> None:
    key = machine_key(machine(lighthouse))
    assert key == machine_key(machine(replace(lighthouse, modules=lighthouse.modules[:1], drives=())))
    assert key != machine_key(machine(ferry))
    assert key is not None
    assert len(key) == 16
    assert lighthouse.board.serial not in key


def test_fillers_identify_nothing_and_the_machine_id_is_the_last_resort(write_tree: WriteTree) -> None:
    table = trees.structure(1, {4: bytes([1, 2, 0, 3]), 8: b"\xff" * 16}, 27, "M", "N", "To be filled by O.E.M.")
    files: trees.Files = {"/sys/firmware/dmi/tables/DMI": table + trees.END, "/proc/cpuinfo": "model name : x\n"}
    system = TreeSystem(write_tree(files))
    assert machine_key(read_inventory(system)) is None
    write_tree({"/etc/machine-id": "7d9a3c0e5b1f4a2289c6d4e1f0a35b77\n"})
    (fact,) = read_inventory(system).identity
    assert (fact.name, fact.source) == ("machine id", "/etc/machine-id")


def test_the_systems_uuid_is_read_from_its_place(write_tree: WriteTree) -> None:
    uuid = struct.pack("<16B", *range(3, 19))
    table = trees.structure(1, {4: bytes([1, 2, 0, 0]), 8: uuid}, 27, "M", "N")
    system = TreeSystem(write_tree({"/sys/firmware/dmi/tables/DMI": table + trees.END}))
    assert [fact.value for fact in read_inventory(system).identity] == [uuid.hex()]


def test_tags_follow_serial_numbers_to_other_slots(lighthouse: Scenario) -> None:
    known = tag_parts(machine(lighthouse), ())
    one, two = lighthouse.modules
    swapped = replace(lighthouse, modules=(replace(two, slot="A2"), replace(one, slot="B2")))
    before, after = tags(machine(lighthouse)), tags(machine(swapped), known)
    assert (before["memory A2"], before["memory B2"]) == ("M-1", "M-2")
    assert (after["memory A2"], after["memory B2"]) == ("M-2", "M-1")


def test_a_part_that_has_gone_keeps_its_tag_and_a_new_one_gets_its_own(lighthouse: Scenario) -> None:
    known = tag_parts(machine(lighthouse), ())
    shop = replace(lighthouse.modules[0], serial="5E0AFFFF")
    with_shop = machine(replace(lighthouse, modules=(shop, lighthouse.modules[1])))
    second = tag_parts(with_shop, known)
    fitted = {each.part: each.tag for each in second if each.part}
    assert (fitted["memory A2"], fitted["memory B2"]) == ("M-3", "M-2")
    assert [each.tag for each in second if not each.part] == ["M-1"]
    back = {each.part: each.tag for each in tag_parts(machine(lighthouse), second) if each.part}
    assert (back["memory A2"], back["memory B2"]) == ("M-1", "M-2")


def test_without_serials_a_part_is_known_by_name_and_place(ferry: Scenario) -> None:
    known = tag_parts(machine(ferry), ())
    assert tags(machine(ferry), known) == {each.part: each.tag for each in known}
    moved = replace(ferry, modules=(replace(ferry.modules[0], slot="B1"),))
    assert tags(machine(moved), known)["memory B1"] == "M-2", "nothing tells that it is the same one"
