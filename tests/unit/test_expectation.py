"""What should be in a machine against what is, and what has changed since it was here before."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.inventory.expectation import FIELDS, changes_since, expected_doubts, parse_expected
from thresher.inventory.machine import read_inventory
from thresher.model.errors import InputError
from thresher.model.parts import Inventory
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


def doubts_of(scenario: Scenario, **fields: str) -> dict[str, str]:
    system = SimulatedMachine(scenario, 0.0)
    found = read_inventory(system)
    return {each.code: each.detail for each in expected_doubts(system, found, parse_expected(fields))}


@pytest.mark.parametrize(
    ("text", "gib", "mts"),
    [
        ("32 GB", 32, None),
        ("2 x 16 GB 5600", 32, 5600),
        ("2x16GiB DDR5-5600 MT/s", 32, 5600),
        ("16G+8G", 24, None),
        ("4 × 512 MB 400 MHz", 2, 400),
        ("1,5 TB", 1536, None),
    ],
)
def test_memory_is_understood_as_people_write_it(text: str, gib: float, mts: int | None) -> None:
    expected = parse_expected({"memory": text})
    assert (expected.memory_gib, expected.memory_mts) == (gib, mts)


def test_memory_without_a_size_is_not_guessed_at() -> None:
    with pytest.raises(InputError, match="expected a size"):
        parse_expected({"memory": "lots of it"})


@given(st.fixed_dictionaries({name: st.text(max_size=40) for name in FIELDS}))
def test_whatever_is_typed_is_understood_or_refused_in_words(fields: dict[str, str]) -> None:
    try:
        expected = parse_expected(fields)
    except InputError as error:
        assert "memory" in str(error)
        return
    assert expected.memory_gib is None or expected.memory_gib >= 0


def test_what_is_all_there_raises_no_doubt(lighthouse: Scenario) -> None:
    assert (
        doubts_of(lighthouse, processor="tern 8-460", memory="2 x 16 GB 5600", drives="1 TB", graphics="Lumen L40")
        == {}
    )
    assert doubts_of(lighthouse) == {}
    assert doubts_of(lighthouse, memory="16 GB") == {}, "more than expected is no finding"


def test_what_is_missing_less_slower_or_other_has_a_code_each(lighthouse: Scenario) -> None:
    found = doubts_of(
        lighthouse, processor="Tern 8-480", memory="64 GB 6000", drives="1 TB, 2 TB Slipway", graphics="Lumen L60"
    )
    assert found["P-150"] == "expected Tern 8-480, found Tern 8-460"
    assert found["M-150"] == "expected 64 GiB, found 32 GiB"
    assert found["M-121"].startswith("5600 MT/s, expected 6000")
    assert found["D-110"] == "expected 2 TB Slipway, found Slipway N3 1TB 1000 GB"
    assert found["G-130"] == "expected Lumen L60, found Lumen L40"


def test_two_wanted_drives_need_two_drives(lighthouse: Scenario) -> None:
    assert "D-110" in doubts_of(lighthouse, drives="1 TB, 1 TB")


def test_memory_below_its_own_rating_is_not_reported_twice(lighthouse: Scenario) -> None:
    slow = replace(lighthouse, modules=tuple(replace(each, configured_mts=4000) for each in lighthouse.modules))
    assert "M-121" not in doubts_of(slow, memory="32 GB 5600")


def machine(scenario: Scenario) -> Inventory:
    return read_inventory(SimulatedMachine(scenario, 0.0))


def test_a_drive_and_a_module_that_are_gone_are_doubts_and_what_is_new_is_news(lighthouse: Scenario) -> None:
    before = machine(lighthouse)
    other = replace(lighthouse.drives[0], model="Slipway N9", serial="SL9K-1")
    now = machine(replace(lighthouse, modules=lighthouse.modules[:1], drives=(other,)))
    doubts, news = changes_since(before.parts, now, "2026-01-05")
    assert {each.code for each in doubts} == {"D-120", "M-160"}
    assert all("2026-01-05" in each.detail for each in doubts)
    assert news == ["Slipway N9 in nvme0n1 is new since 2026-01-05"]


def test_modules_that_changed_places_are_reported_by_their_serials(lighthouse: Scenario) -> None:
    one, two = lighthouse.modules
    swapped = replace(lighthouse, modules=(replace(two, slot="A2"), replace(one, slot="B2")))
    doubts, news = changes_since(machine(lighthouse).parts, machine(swapped), "2026-01-05")
    assert doubts == []
    assert sorted(news) == [
        "Mussel Bank MB-16D5-5600 is in A2, at the last visit it was in B2",
        "Mussel Bank MB-16D5-5600 is in B2, at the last visit it was in A2",
    ]
