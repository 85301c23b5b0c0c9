"""What a drive reports becomes a status with its signs; one that hides or is silent is never called fine."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.drives.pages import identify, nvme_controller, nvme_health, smart_data, thresholds
from thresher.drives import ata, nvme
from thresher.drives.health import (
    AtaPages,
    DriveStatus,
    Meaning,
    NvmePages,
    ata_health,
    attribute_meanings,
)
from thresher.drives.health import nvme_health as judged
from thresher.drives.reading import Family, drives_of, read_health
from thresher.drives.self_test import minutes, progress
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.drive_commands import (
    AtaAnswer,
    AtaCommand,
    DrivePort,
    NoAnswer,
    NvmeCommand,
    OpticalCommand,
    ScsiCommand,
)
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Part, PartKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import DriveSpec, Scenario, load_scenario, shipped_scenarios

GOOD = smart_data((5, 100, 100, b"\0" * 6), (9, 96, 96, b"\x35\x0f\0\0\0\0"), (194, 62, 40, b"\x26\0\x18\0\x34\0"))


def pages(smart: bytes = GOOD, limits: bytes | None = None) -> AtaPages:
    return AtaPages(
        replace(ata.parse_identity(identify()), speed_now=6.0),
        ata.parse_smart(smart),
        ata.parse_thresholds(limits if limits is not None else thresholds(a5=10)),
        exceeded=False,
    )


def test_a_healthy_drive_is_fine_and_its_figures_are_taken_apart() -> None:
    told = ata_health(pages())
    assert (told.status, told.signs) == (DriveStatus.FINE, ())
    figures = {each.name: each.value for each in told.figures}
    assert figures["power-on hours"] == "3893 h (value 96, worst 96)"
    assert figures["temperature"] == "38 °C (value 62, worst 40)"  # not the other numbers in the same bytes


@pytest.mark.parametrize(
    ("number", "raw", "status", "meaning"),
    [
        (5, 12, DriveStatus.WATCH, Meaning.SURFACE),
        (5, 900, DriveStatus.REPLACE, Meaning.SURFACE),
        (197, 1, DriveStatus.COPY, Meaning.SURFACE),
        (199, 44, DriveStatus.WATCH, Meaning.LINK),
        (199, 3, DriveStatus.FINE, None),
        (184, 1, DriveStatus.REPLACE, Meaning.ELECTRONICS),
        (194, 66, DriveStatus.WATCH, Meaning.TEMPERATURE),
    ],
)
def test_counts_speak_against_the_drive_or_against_its_cable(
    number: int, raw: int, status: DriveStatus, meaning: Meaning | None
) -> None:
    told = ata_health(pages(smart_data((number, 100, 100, raw.to_bytes(6, "little"))), thresholds()))
    assert told.status is status
    assert [sign.meaning for sign in told.signs] == ([meaning] if meaning is not None else [])


def test_an_unknown_attribute_is_shown_as_unknown() -> None:
    told = ata_health(pages(smart_data((231 + 10, 100, 100, b"\1\0\0\0\0\0"), (77, 100, 100, b"\1\2\3\4\5\6"))))
    assert any(each.name == "attribute 77: unknown" and "060504030201" in each.value for each in told.figures)
    assert told.status is DriveStatus.FINE


def test_a_reached_threshold_condemns_where_it_warns_of_failure() -> None:
    told = ata_health(pages(smart_data((5, 9, 9, b"\0" * 6), (9, 0, 0, b"\0" * 6)), thresholds(a5=10, a9=0)))
    assert told.status is DriveStatus.REPLACE
    assert told.signs[0].words == "reallocated sectors: its value 9 has reached the maker's threshold 10"


def test_nvme_signs() -> None:
    controller = nvme.parse_controller(nvme_controller())

    def status(**changed: int) -> DriveStatus:
        return judged(NvmePages(controller, nvme.parse_health(nvme_health(**changed)))).status

    assert status() is DriveStatus.FINE
    assert status(q160=1) is DriveStatus.COPY
    assert status(b3=9) is DriveStatus.REPLACE
    assert status(b5=93) is DriveStatus.WATCH
    assert status(b5=101) is DriveStatus.REPLACE
    assert status(b0=0b100) is DriveStatus.REPLACE
    assert status(b0=0b1000) is DriveStatus.COPY
    assert judged(NvmePages(controller)).status is DriveStatus.UNKNOWN


def drive(name: str, **changed: object) -> DriveSpec:
    spec = DriveSpec(name=name, model="Tidewater T4 4TB", serial="TW4-1", firmware="0003", size_bytes=4_000_787_030_016)
    return replace(spec, **changed)  # type: ignore[arg-type]


def told_of(scenario: Scenario, spec: DriveSpec) -> tuple[DriveStatus, set[Meaning], str]:
    system = SimulatedMachine(replace(scenario, drives=(spec,)), 0.0)
    (found,) = drives_of(read_inventory(system).parts)
    told = read_health(system, found)
    return told.status, {sign.meaning for sign in told.signs}, "; ".join(sign.words for sign in told.signs)


@pytest.mark.parametrize("name", ["sda", "nvme0n1"])
def test_simulated_drives_answer_through_the_same_readers(ferry: Scenario, name: str) -> None:
    assert told_of(ferry, drive(name))[:2] == (DriveStatus.FINE, set())
    status, meanings, words = told_of(ferry, drive(name, media_errors=3, failed_test_lba=81920))
    assert status is DriveStatus.COPY
    assert Meaning.SURFACE in meanings
    assert "81920" in words
    assert told_of(ferry, drive(name, failing=True))[0] is DriveStatus.REPLACE


def test_a_cable_is_told_from_a_surface(ferry: Scenario) -> None:
    assert told_of(ferry, drive("sda", link_crc=400, link_gbps=1.5))[:2] == (
        DriveStatus.WATCH,
        {Meaning.LINK, Meaning.LINK_SPEED},
    )
    status, meanings, words = told_of(ferry, drive("sda", rotation=7200, pending=(81920, 81928), reallocated=12))
    assert (status, meanings) == (DriveStatus.COPY, {Meaning.SURFACE})
    assert "first at 81920, 81928" in words


def test_a_silent_drive_is_no_fine_drive(ferry: Scenario) -> None:
    status, _, words = told_of(ferry, drive("sda", silent=True))
    assert status is DriveStatus.COPY
    assert words == "the drive does not answer: no answer in 15 s"


def test_a_drive_that_cannot_be_asked_is_unknown_with_the_reason(write_tree: Callable[..., Path]) -> None:
    system = TreeSystem(write_tree({"/proc/cpuinfo": ""}))
    parts = (
        Part("drive vda", PartKind.DRIVE, "Drive", "vda"),
        Part("drive sda", PartKind.DRIVE, "Drive", "sda"),
        Part("drive nvme1n1", PartKind.DRIVE, "Drive", "nvme1n1"),
    )
    virtual, disk, flash = drives_of(parts)
    assert (virtual.family, disk.family, flash.family) == (Family.NONE, Family.ATA, Family.NVME)
    assert (disk.path, flash.path) == ("/dev/sda", "/dev/nvme1")
    for each in (virtual, disk, flash):
        told = read_health(system, each)
        assert told.status is DriveStatus.UNKNOWN
        assert told.not_read[0].value


class Mutated(DrivePort):
    """A drive whose pages are damaged on their way."""

    def __init__(self, inner: DrivePort, at: int, to: int, cut: int) -> None:
        self._inner, self._at, self._to, self._cut = inner, at, to, cut

    def _damaged(self, data: bytes) -> bytes:
        changed = bytearray(data)
        if changed:
            changed[self._at % len(changed)] = self._to
        return bytes(changed[: len(changed) - self._cut])

    def ata(self, command: AtaCommand) -> AtaAnswer:
        answer = self._inner.ata(command)
        return AtaAnswer(self._damaged(answer.data), answer.lba)

    def nvme(self, command: NvmeCommand) -> bytes:
        return self._damaged(self._inner.nvme(command))

    def scsi(self, command: ScsiCommand) -> bytes:
        return self._damaged(self._inner.scsi(command))

    def optical(self, command: OpticalCommand) -> bytes:
        return self._inner.optical(command)

    def read_disc(self, block: int, count: int) -> bytes:
        return self._inner.read_disc(block, count)

    def close(self) -> None:
        self._inner.close()


@settings(max_examples=200, deadline=None)
@given(st.sampled_from(["sda", "nvme0n1"]), st.integers(0, 4095), st.integers(0, 255), st.integers(0, 600))
def test_damaged_pages_of_a_dying_drive_never_make_it_fine(name: str, at: int, to: int, cut: int) -> None:
    ferry = load_scenario(shipped_scenarios()["ferry-office"])
    spec = drive(name, media_errors=3, pending=(81920,), failing=True, reallocated=300, spare=4, failed_test_lba=5)
    system = SimulatedMachine(replace(ferry, drives=(spec,)), 0.0)
    (found,) = drives_of(read_inventory(system).parts)
    whole = system.open_drive
    system.open_drive = lambda path: Mutated(whole(path), at, to, cut)  # type: ignore[method-assign]
    assert read_health(system, found).status is not DriveStatus.FINE


def test_self_tests_are_followed_by_the_drives_own_word(ferry: Scenario) -> None:
    system = SimulatedMachine(replace(ferry, drives=(drive("nvme0n1", failed_test_lba=5),)), 0.0)
    port = system.open_drive("/dev/nvme0")
    assert minutes(port, Family.NVME, extended=True) == 95
    ended = progress(port, Family.NVME)
    assert (ended.running, ended.failed, ended.lba) == (False, True, 5)


def test_the_table_of_attributes_is_whole() -> None:
    for number, each in attribute_meanings().items():
        assert 0 < number < 256
        assert each.source in ("SFF", "ATA statistics", "common use", "judgement")
        if each.watch_from is None:
            assert each.copy_from is None
            assert each.replace_from is None


def test_no_such_drive(ferry: Scenario) -> None:
    with pytest.raises(SourceUnavailable, match="no such drive"):
        SimulatedMachine(ferry, 0.0).open_drive("/dev/sdz")
    assert issubclass(NoAnswer, SourceUnavailable)
