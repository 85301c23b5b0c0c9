"""What wrong words have in common, which module they belong to, and how to keep a machine off them."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.diagnosis.memory_shape import PAGE, ShapeOfErrors, bad_pages, boot_parameters, shape_of
from thresher.inventory.memory_map import read_memory_map, slot_of, why_no_slot
from thresher.inventory.smbios import walk
from thresher.model.findings import WrongPlace
from thresher.model.parts import AddressRange, Inventory, Part, PartKind
from thresher.simulator.firmware_tables import smbios_table
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

S = ShapeOfErrors


def wrong(address: int, *bits: int) -> WrongPlace:
    return WrongPlace(address, address, "0" * 16, f"{sum(1 << bit for bit in bits):016x}", True)


CASES = [
    (S.ONE_CELL, [wrong(0x1000, 5), wrong(0x1000, 5)]),
    (S.ONE_WORD, [wrong(0x1000, 5), wrong(0x1000, 6)]),
    (S.BIT_LANE, [wrong(0x1000 + n * 0x91238, 19) for n in range(12)]),
    (S.ROW, [wrong(0x4000 + n * 24, n % 9, 40) for n in range(12)]),
    (S.REGION, [wrong(0x400_0000 + n * 0x31238, n % 11, 3) for n in range(20)]),
    (S.EVERYWHERE, [wrong(n * 0x1234_5678 // 8 * 8, n % 13, (7 * n) % 64) for n in range(1, 20)]),
    (S.ADDRESS_LINE, [wrong((n & 31 | (n >> 5) << 6) * 8, *range(12)) for n in range(2048)]),
]


@pytest.mark.parametrize(("shape", "places"), CASES)
def test_the_shape_is_reported_whatever_the_order(shape: ShapeOfErrors, places: list[WrongPlace]) -> None:
    shuffled = list(places)
    random.Random(3).shuffle(shuffled)
    for each in (places, shuffled):
        found = shape_of(each)
        assert found is not None
        assert found.shape is shape, found.sentence
        assert "points at" in found.sentence


def test_no_wrong_words_have_no_shape_and_virtual_addresses_are_reported_to_be() -> None:
    assert shape_of([]) is None
    found = shape_of([WrongPlace(0x7F00, None, "0" * 16, "1".zfill(16), True)])
    assert found is not None
    assert not found.physical
    assert "virtual 0x7f00" in found.sentence


def test_bad_pages_become_the_kernels_own_parameters_with_neighbours_joined() -> None:
    places = [wrong(0x5008, 1), wrong(0x5FF8, 2), wrong(0x6000, 1), wrong(0x2_0000_0000, 1)]
    pages = bad_pages([*places, WrongPlace(0x99, None, "0" * 16, "f" * 16, True)])
    assert pages == (0x5000, 0x6000, 0x2_0000_0000)
    assert boot_parameters(pages) == "memmap=8K$0x5000 memmap=4K$0x200000000"
    assert boot_parameters(()) == ""


@given(st.lists(st.integers(0, 1 << 40), max_size=40))
def test_every_bad_page_is_reserved_and_no_other(addresses: list[int]) -> None:
    pages = bad_pages([wrong(address, 1) for address in addresses])
    covered = set()
    for word in boot_parameters(pages).split():
        size, _, begin = word.removeprefix("memmap=").partition("$")
        covered |= {int(begin, 16) + step for step in range(0, int(size.removesuffix("K")) * 1024, PAGE)}
    assert covered == {address // PAGE * PAGE for address in addresses}


def inventory(*ranges: AddressRange, slots: tuple[str, ...] = ("A1", "B1")) -> Inventory:
    parts = tuple(Part(f"memory {slot}", PartKind.MEMORY, "module", slot, ()) for slot in slots)
    return Inventory("bench", True, parts, (), memory_map=ranges)


def test_an_address_names_a_slot_only_where_the_map_decides_it() -> None:
    apart = (AddressRange("A1", 0, 0xFFF, False), AddressRange("B1", 0x1000, 0x1FFF, False))
    assert slot_of(inventory(*apart), 0x1800) == "B1"
    assert slot_of(inventory(*apart), 0x5000) == ""
    together = (AddressRange("A1", 0, 0x1FFF, True), AddressRange("B1", 0, 0x1FFF, True))
    assert slot_of(inventory(*together), 0x1800) == ""
    assert "interleaved" in why_no_slot(inventory(*together))
    assert "no module addresses" in why_no_slot(inventory())
    assert slot_of(inventory(slots=("B2",)), 0x77) == "B2"


def test_firmware_maps_are_read_as_written() -> None:
    apart: Scenario = load_scenario(shipped_scenarios()["museum-guide"])
    ranges = read_memory_map(list(walk(smbios_table(apart), [])))
    gib = 1 << 30
    assert ranges == (
        AddressRange("A2", 0, 8 * gib - 1, False),
        AddressRange("B2", 8 * gib, 16 * gib - 1, False),
    )
    woven = load_scenario(shipped_scenarios()["lighthouse-playout"])
    shared = read_memory_map(list(walk(smbios_table(woven), [])))
    assert [(each.slot, each.low, each.high, each.interleaved) for each in shared] == [
        ("A2", 0, 32 * gib - 1, True),
        ("B2", 0, 32 * gib - 1, True),
    ]


@given(st.binary(max_size=200))
def test_no_bytes_crash_the_map(data: bytes) -> None:
    for each in read_memory_map(list(walk(data, []))):
        assert each.low <= each.high
