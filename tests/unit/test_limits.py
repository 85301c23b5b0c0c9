"""Limits that no device gives: rails by the standard, the knowledge base by kind of part, the technician's word."""

import pytest

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.sensors.limits import (
    OwnLimit,
    check_own_limit,
    load_limits,
    parse_limits,
    rail_limits,
    with_known_limits,
    with_own_limits,
)


def channel(kind: PartKind, quantity: Quantity, name: str = "x", key: str = "chip/x", *limits: Limit) -> Channel:
    return Channel(key, name, quantity, kind, "/sys/x", limits)


@pytest.mark.parametrize(
    ("label", "low", "high"),
    [
        ("+12V", 11.4, 12.6),
        ("12 V", 11.4, 12.6),
        ("+5V", 4.75, 5.25),
        ("+3.3V", 3.135, 3.465),
        ("5VSB", 4.75, 5.25),
        ("-12V", -13.2, -10.8),
    ],
)
def test_rails_have_the_tolerance_of_the_standard(label: str, low: float, high: float) -> None:
    bounds = {limit.side: limit.value for limit in rail_limits(label)}
    assert bounds[LimitSide.ABOVE] == pytest.approx(low)
    assert bounds[LimitSide.BELOW] == pytest.approx(high)
    assert all("ATX12V" in limit.source for limit in rail_limits(label))


@pytest.mark.parametrize("label", ["Vcore", "VDIMM", "in4", "12VHPWR", "+1.8V", ""])
def test_what_is_no_rail_of_the_standard_gets_no_tolerance(label: str) -> None:
    assert rail_limits(label) == ()


def test_the_knowledge_base_speaks_only_where_the_device_is_silent() -> None:
    known = load_limits()
    drive = channel(PartKind.DRIVE, Quantity.TEMPERATURE, "Composite", "nvme/0/temp1")
    spinning = channel(PartKind.DRIVE, Quantity.TEMPERATURE, "x", "drivetemp/0/temp1")
    module = channel(PartKind.MEMORY, Quantity.TEMPERATURE)
    own = Limit(70.0, LimitSide.BELOW, "read from the chip")
    limited = with_known_limits(channel(PartKind.DRIVE, Quantity.TEMPERATURE, "x", "nvme/0/temp1", own), known)
    assert limited.limits == (own,)
    assert [with_known_limits(each, known).limits[0].value for each in (drive, spinning, module)] == [80.0, 60.0, 85.0]
    assert "JESD79" in with_known_limits(module, known).limits[0].source
    assert with_known_limits(channel(PartKind.BOARD, Quantity.TEMPERATURE), known).limits == ()


def test_the_technicians_word_comes_first_and_can_be_taken_back() -> None:
    given = channel(PartKind.DRIVE, Quantity.TEMPERATURE, "x", "nvme/0/t", Limit(85.0, LimitSide.BELOW, "chip"))
    own = OwnLimit(
        channel="nvme/0/t", side=LimitSide.BELOW, value=70.0, reason="sits under the card", date="2026-03-17"
    )
    (changed,) = with_own_limits((given,), (own,))
    limit = changed.limit(LimitSide.BELOW)
    assert limit is not None
    assert (limit.value, limit.reason) == (70.0, "sits under the card")
    assert [each.value for each in changed.limits] == [70.0, 85.0], "what it replaces can still be seen"
    assert with_own_limits((changed,), ()) == (given,)


def test_a_limit_needs_a_channel_a_number_and_a_reason() -> None:
    wrong = OwnLimit(channel="nowhere", side=LimitSide.BELOW, value=float("nan"), reason=" ", date="2026-03-17")
    with pytest.raises(InputError) as caught:
        check_own_limit(wrong, ())
    assert {fault.place for fault in caught.value.faults} == {"channel", "reason", "value"}


def test_a_channel_that_is_not_trusted_has_no_limit_that_counts() -> None:
    limits = (Limit(85.0, LimitSide.BELOW, "chip"),)
    assert (
        Channel("k", "n", Quantity.TEMPERATURE, PartKind.BOARD, "s", limits, None, "off").limit(LimitSide.BELOW) is None
    )


def test_faults_of_the_limits_file_are_reported_together() -> None:
    text = (
        'format = "thresher-limits/1"\nlimit = 1\n[[limits]]\nkind = "drive"\nquantity = "temperature"\n'
        'side = "below"\nvalue = 1.0\nsource = "s"\nlabel = "("\n[[limits]]\nkind = "boat"\n'
    )
    with pytest.raises(InputError) as caught:
        parse_limits(text, "l.toml")
    assert {fault.place for fault in caught.value.faults} >= {"limit", "limits[0].label"}
