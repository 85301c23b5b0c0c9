"""The proving ground draws machines whose cards fail, works them without an engine, and sees what an engine would."""

from dataclasses import replace

import pytest

from thresher.decoding.recognise import load_tables
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.trials import ALL_SETTINGS
from thresher.proving.cases import SETTINGS, draw_case
from thresher.proving.fault_catalogue import OF_CARDS, WITH_A_CARD
from thresher.proving.quick_run import QuickBench, Stint
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import GraphicsSpec, Scenario


def test_only_faults_of_cards_are_drawn_where_that_is_wanted() -> None:
    cases = [draw_case(7, number, only=OF_CARDS) for number in range(300)]
    drawn = {trouble.fault.kind for case in cases for trouble in case.own_troubles}
    assert drawn == set(OF_CARDS)
    assert all(case.machine.graphics for case in cases)


def test_a_machine_without_a_card_has_nothing_that_needs_one() -> None:
    for case in (draw_case(7, number) for number in range(300)):
        if not case.machine.graphics:
            assert not {trouble.fault.kind for trouble in case.own_troubles} & set(WITH_A_CARD)
            assert not {part.kind for part in case.own} & {PartKind.GRAPHICS, PartKind.DISPLAY}


def test_what_settings_make_goes_with_all_settings() -> None:
    cases = [draw_case(7, number, only=OF_CARDS) for number in range(200)]
    of_settings = (FaultKind.CARD_CLOCKS, FaultKind.CARD_DRIVER)
    troubles = [each for case in cases for each in case.own_troubles if each.fault.kind in of_settings]
    assert troubles
    assert {trouble.tag for trouble in troubles} == {SETTINGS}
    assert {trouble.kind for trouble in troubles} <= set(ALL_SETTINGS)


@pytest.mark.parametrize(
    ("kind", "strength", "load", "finding"),
    [
        (FaultKind.CARD_CORE, 300.0, "card compute", FindingKind.CARD_RESULT),
        (FaultKind.CARD_MEMORY, 300.0, "card memory", FindingKind.CARD_MEMORY),
        (FaultKind.CARD_PLUG, 100.0, "raster", FindingKind.CARD_GONE),
        (FaultKind.CARD_COOLER, 0.7, "raster", FindingKind.CARD_HOT),
        (FaultKind.CARD_FAN, 1.0, "raster", FindingKind.CARD_FAN),
        (FaultKind.DISPLAY_CABLE, 100.0, "raster", FindingKind.ARTEFACT_SHOWN),
        (FaultKind.SLOT_LINK, 30.0, "transfer", FindingKind.CARD_LINK),
    ],
)
def test_each_fault_shows_without_an_engine_too(
    ferry: Scenario, kind: FaultKind, strength: float, load: str, finding: FindingKind
) -> None:
    card = GraphicsSpec(name="Lumen L40", memory_gib=8)
    machine = replace(ferry, graphics=(card,), faults=(Fault(kind=kind, strength=strength),))
    carried = QuickBench(machine, load_tables(), 1).carry_out((Stint(load, 20.0),), 3)
    assert finding in {each.kind for each in carried.findings}
    assert {each.load for each in carried.findings} == {load}
    assert sum(each.minutes for each in carried.exposures) > 0


def test_a_sound_card_shows_nothing(ferry: Scenario) -> None:
    machine = replace(ferry, graphics=(GraphicsSpec(name="Lumen L40", memory_gib=8),), faults=())
    stints = tuple(Stint(load, 10.0) for load in ("raster", "card compute", "card memory", "transfer"))
    carried = QuickBench(machine, load_tables(), 1).carry_out(stints, 3)
    assert carried.findings == ()
    assert {each.load for each in carried.exposures} == {stint.load for stint in stints}
