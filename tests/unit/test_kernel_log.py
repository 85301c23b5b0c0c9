"""Records of /dev/kmsg and text of dmesg."""

from collections.abc import Callable
from pathlib import Path

import pytest

from thresher.events.kernel_log import KernelLogFollower, KernelRecord, Undecoded, parse_kmsg
from thresher.events.log_forms import parse_log_text
from thresher.machine.tree import TreeSystem
from thresher.model.errors import SourceUnavailable
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]


def test_a_record_is_read_by_the_documented_format() -> None:
    record = parse_kmsg(b"7,160,424069,-;pci_root PNP0A03:00: host bridge window\n SUBSYSTEM=acpi\n DEVICE=+acpi:X\n")
    assert record == KernelRecord(160, 0.424069, 7, "pci_root PNP0A03:00: host bridge window")


def test_facility_does_not_hide_the_level_and_unknown_fields_are_ignored() -> None:
    record = parse_kmsg(b"30,340,5690716,c,more,fields;udevd[80]: starting version 181\n")
    assert isinstance(record, KernelRecord)
    assert record.level == 6
    assert record.text == "udevd[80]: starting version 181"


def test_escaped_bytes_come_back() -> None:
    record = parse_kmsg(rb"4,1,1,-;name \x5c \xc3\xa9 end" + b"\n")
    assert isinstance(record, KernelRecord)
    assert record.text == "name \\ é end"


@pytest.mark.parametrize("raw", [b"", b"nonsense", b"1,2;text", b"x,1,2,-;text", b"1,2,3,-text"])
def test_what_is_no_record_is_kept_and_reported(raw: bytes) -> None:
    parsed = parse_kmsg(raw)
    assert isinstance(parsed, Undecoded)
    assert parsed.raw == raw


def test_dmesg_text_with_and_without_times() -> None:
    records = list(parse_log_text("[    1.500000] first\nsecond\n\n6,7,2000000,-;third\n"))
    assert [(r.at, r.text) for r in records] == [(1.5, "first"), (None, "second"), (2.0, "third")]


def test_a_follower_hands_out_each_record_once_and_goes_on_where_it_was(write_tree: WriteTree) -> None:
    root = write_tree({"/dev/kmsg": "6,1,1000000,-;one\n KEY=value\n6,2,2000000,-;two\n"})
    follower = KernelLogFollower(TreeSystem(root))
    assert [record.text for record in follower.poll()[0]] == ["one", "two"]
    assert follower.poll() == ([], None)
    with (root / "dev/kmsg").open("a") as log:
        log.write("6,3,3000000,-;three\n6,4,")
    assert [record.text for record in follower.poll()[0]] == ["three"]
    again = KernelLogFollower(TreeSystem(root), after=2)
    assert [record.sequence for record in again.poll()[0]] == [3]


def test_a_record_that_cannot_be_read_is_not_silently_gone(write_tree: WriteTree) -> None:
    root = write_tree({"/dev/kmsg": "garbage line\n6,2,2000000,-;two\n"})
    follower = KernelLogFollower(TreeSystem(root))
    records, _ = follower.poll()
    assert [record.text for record in records] == ["two"]
    assert follower.undecoded[0].raw == b"garbage line\n"


def test_a_machine_without_a_log_states_so(write_tree: WriteTree) -> None:
    with pytest.raises(SourceUnavailable, match="not there"):
        KernelLogFollower(TreeSystem(write_tree({"/proc/stat": "cpu 1 2 3 4"})))


def test_the_log_of_a_simulated_machine_is_in_the_same_format(lighthouse: Scenario) -> None:
    records, reason = KernelLogFollower(SimulatedMachine(lighthouse, 0.0)).poll()
    assert reason is None
    assert [record.sequence for record in records] == list(range(len(records)))
    assert any("DMI: Playout desk" in record.text for record in records)
