"""Which sheet is proposed, and why."""

import pytest

from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.diagnosis.knowledge import load_knowledge
from thresher.engine.services.proposals import Candidate, propose
from thresher.model.channels import Channel, Quantity
from thresher.model.parts import PartKind
from thresher.protocol.intake import SheetOffer

SHIPPED = tuple(Candidate(name, False, str(path), load_sheet(path)) for name, path in shipped_sheets().items())
HOT = (Channel("k", "Package", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/sys/x"),)


def offers(*symptoms: str, minutes: float | None = None, channels: tuple[Channel, ...] = HOT) -> list[SheetOffer]:
    return list(propose(SHIPPED, symptoms, minutes, channels))


def test_every_shipped_sheet_states_what_it_finds_and_what_not() -> None:
    known = {symptom.text for symptom in load_knowledge().symptoms}
    for each in SHIPPED:
        assert each.sheet is not None
        assert each.sheet.about
        assert each.sheet.finds
        assert each.sheet.misses
        assert set(each.sheet.reasons) <= known


@pytest.mark.parametrize(
    ("symptoms", "first"),
    [
        (("slow under load",), "heat-hunt"),
        (("resets under load", "worse when warm"), "reset-hunt-short"),
        (("files damaged",), "memory-check-short"),
        (("drive not found",), "drive-quick-look"),
        (("once in hours or days",), "overnight"),
        (("repaired, to be proved",), "proof-after-repair"),
        ((), "short-round"),
    ],
)
def test_the_sheet_that_fits_most_symptoms_comes_first(symptoms: tuple[str, ...], first: str) -> None:
    best = offers(*symptoms)[0]
    assert best.name == first
    assert best.fits is bool(symptoms)
    assert [reason.split(":")[0] for reason in best.reasons] == list(symptoms)


def test_what_takes_longer_than_there_is_comes_last_and_states_so() -> None:
    ordered = offers("once in hours or days", minutes=45)
    too_long = [each for each in ordered if each.length_s > 45 * 60]
    longest = {"memory-check-long", "overnight", "proof-after-repair", "drive-thorough"}
    assert {each.name for each in too_long} == longest
    assert ordered[-4:] == too_long
    assert not any(each.fits for each in too_long)
    assert all("longer than the 0:45:00" in each.reasons[-1] for each in too_long)


def test_a_machine_without_temperatures_is_reported_what_that_costs() -> None:
    best = offers("hot or loud", channels=())[0]
    assert best.name == "heat-hunt"
    assert any("no processor temperature" in reason for reason in best.reasons)


def test_a_broken_sheet_of_the_shop_stands_last_with_its_error() -> None:
    broken = Candidate("shop/mine", True, "/s/mine.toml", None, "mine.toml cannot be used: blocks: expected")
    last = propose((*SHIPPED, broken), ("freezes",), None, HOT)[-1]
    assert (last.name, last.own) == ("shop/mine", True)
    assert "expected" in last.trouble
