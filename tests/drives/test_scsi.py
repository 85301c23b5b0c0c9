"""Drives behind bridges: SCSI log pages by the standard, and a plain word where nothing is answered."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.drives import scsi
from thresher.drives.fields import DamagedPage
from thresher.drives.health import DriveStatus, flash_health, scsi_health
from thresher.drives.reading import Drive, Family, read_health
from thresher.model.drive_commands import ScsiCommand
from thresher.model.parts import Fact, Part, PartKind
from thresher.privileged.drive_lists import scsi_block
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import DriveSpec, Scenario

HOT = bytes.fromhex("0d 00 00 0c 00 00 01 02 00 2e 00 01 01 02 00 41")
READ_ERRORS = bytes.fromhex("03 00 00 18 00 03 02 08 00 00 00 00 00 00 12 67 00 06 02 08 00 00 00 00 00 00 00 02")
PREDICTS = bytes.fromhex("2f 00 00 08 00 00 03 04 5d 10 2e 00")


def test_every_scsi_command_is_a_log_sense_of_a_listed_page() -> None:
    for command in ScsiCommand:
        block = scsi_block(command)
        assert len(block) == 10
        assert block[0] == 0x4D
        assert block[1] == 0  # nothing is saved
        assert block[2] >> 6 == 1  # cumulative values
    assert scsi_block(ScsiCommand.TEMPERATURE).hex(" ") == "4d 00 4d 00 00 00 00 00 fc 00"


def test_pages_are_read_by_the_standard() -> None:
    assert scsi.parse_temperature(HOT) == (46, 65)
    assert scsi.parse_temperature(HOT.replace(b"\x00\x2e", b"\x00\xff")) == (None, 65)
    assert scsi.parse_errors(READ_ERRORS, scsi.READ_ERRORS) == (4711, 2)
    assert scsi.parse_exceptions(PREDICTS) == (True, False)
    starts = bytes.fromhex("0e 00 00 10 00 03 03 04 00 00 c3 50 00 04 03 04 00 00 01 f4")
    assert scsi.parse_start_stop(starts) == 500


@pytest.mark.parametrize("damaged", [HOT[:3], HOT[:-1], b"\x02" + HOT[1:], HOT[:7] + b"\x40" + HOT[8:]])
def test_a_damaged_page_is_said(damaged: bytes) -> None:
    with pytest.raises(DamagedPage):
        scsi.parse_temperature(damaged)


@given(st.binary(max_size=300), st.sampled_from([0x0D, 0x02, 0x03, 0x0E, 0x2F]))
def test_any_bytes_are_read_or_refused(data: bytes, page: int) -> None:
    try:
        found = scsi.parameters(data, page)
    except DamagedPage:
        return
    assert sum(4 + len(value) for value in found.values()) <= len(data)


def test_what_the_pages_mean() -> None:
    lost = scsi_health(scsi.ScsiPages(46, 65, 4711, 2))
    assert (lost.status, lost.signs[0].words) == (DriveStatus.COPY, "2 reads or writes were lost")
    assert scsi_health(scsi.ScsiPages(46, 65, failure_predicted=True)).status is DriveStatus.REPLACE
    assert scsi_health(scsi.ScsiPages(46, 65, 4711, 0)).status is DriveStatus.FINE
    assert scsi_health(scsi.ScsiPages(46, 65)).status is DriveStatus.UNKNOWN  # warm is not well
    assert scsi_health(scsi.ScsiPages(70, 65)).status is DriveStatus.WATCH


def test_soldered_flash_is_judged_by_its_life() -> None:
    assert flash_health("30 to 40 % of its life", "normal", "sysfs").status is DriveStatus.FINE
    assert flash_health("80 to 90 % of its life", "normal", "sysfs").status is DriveStatus.WATCH
    assert flash_health("more than its life", "", "sysfs").status is DriveStatus.REPLACE


def test_a_bridge_that_hides_the_drive_is_said_and_its_temperature_read(ferry: Scenario) -> None:
    spec = DriveSpec(
        name="sda", model="Slipway U1", serial="U1-7", firmware="1", size_bytes=64_000_000_000, bridge=True
    )
    machine = SimulatedMachine(replace(ferry, drives=(spec,)), speed=0.0)
    part = Part("drive sda", PartKind.DRIVE, "Slipway U1", "sda", (Fact("transport", "USB", "/sys"),))
    health = read_health(machine, Drive(part, Family.ATA, "/dev/sda"))
    assert health.status is DriveStatus.UNKNOWN
    assert ("temperature", "38 °C") in [(each.name, each.value) for each in health.figures]
    assert any(each.name == "read errors" for each in health.not_read)
