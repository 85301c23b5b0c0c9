"""Optical drives: answers in bytes worked out by hand from MMC-6, SBC-4 and ECMA-119."""

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.drives.fields import DamagedPage
from thresher.drives.optical import Disc, blocks_of, kind_of, places, read_place, read_structure, tracks_of, volume_name
from thresher.machine.drive_ioctl import sense_codes
from thresher.model.drive_commands import (
    AtaAnswer,
    AtaCommand,
    DrivePort,
    NvmeCommand,
    OpticalCommand,
    Refused,
    ScsiCommand,
    disc_read,
)
from thresher.model.errors import SourceUnavailable


def configuration(profile: int) -> bytes:
    """Length of what follows, two reserved bytes, the current profile (6.5.2)."""
    return struct.pack(">IHH", 4, 0, profile)


@pytest.mark.parametrize(
    ("profile", "kind", "single"),
    [
        (0x0008, "CD", 0.15),
        (0x000A, "CD", 0.15),
        (0x0010, "DVD", 1.385),
        (0x001B, "DVD", 1.385),
        (0x0040, "Blu-ray", 4.496),
        (0x0043, "Blu-ray", 4.496),
        (0x0000, "profile 0000h", None),
    ],
)
def test_the_kind_is_told_by_the_current_profile(profile: int, kind: str, single: float | None) -> None:
    assert kind_of(configuration(profile)) == (kind, single)


def test_size_and_tracks() -> None:
    # last block 0x000509FF: 330 240 blocks of 2048 bytes
    assert blocks_of(bytes.fromhex("000509ff00000800")) == 330_240
    data = bytes.fromhex("0012 01 01 0014010000000000 0014aa0000050a00")
    assert tracks_of(data) == (1, False)
    music = bytes.fromhex("001a 01 02 0010010000000000 0010020000004000 0010aa0000050a00")
    assert tracks_of(music) == (2, True)
    assert tracks_of(bytes.fromhex("00020000")) == (0, False)


@pytest.mark.parametrize("read", [kind_of, blocks_of, tracks_of])
def test_an_answer_that_is_cut_off_is_damaged(read: object) -> None:
    with pytest.raises(DamagedPage):
        read(b"\x00\x12\x01")  # type: ignore[operator]


def test_the_name_stands_in_the_volume_descriptor() -> None:
    block = b"\x01CD001\x01\x00" + b"SYSTEM".ljust(32) + b"CHART_12".ljust(32) + bytes(1976)
    assert len(block) == 2048
    assert volume_name(block) == "CHART_12"
    assert volume_name(bytes(2048)) == ""


def test_a_reading_is_ten_bytes_with_block_and_count_high_byte_first() -> None:
    assert disc_read(0x00012345, 32).block == bytes.fromhex("28 00 00012345 00 0020 00")
    assert disc_read(0, 1).length == 2048
    for block, count in ((-1, 1), (0, 0), (0, 33), (1 << 32, 1)):
        with pytest.raises(ValueError, match="no such blocks"):
            disc_read(block, count)


@given(st.integers(1, 12_000_000))
def test_places_go_from_the_first_to_the_last(blocks: int) -> None:
    found = places(blocks)
    assert found[0] == 0
    assert found == sorted(set(found))
    assert found[-1] == max(0, blocks - 256)
    assert len(found) <= 40


@pytest.mark.parametrize(
    ("sense", "codes"),
    [
        ("70 00 02 00000000 0a 00000000 3a 02 000000", (2, 0x3A, 2)),
        ("72 03 11 05 00000000", (3, 0x11, 5)),
        ("f0 00 04 00000000 0a 00000000 44 00 000000", (4, 0x44, 0)),
        ("", None),
        ("7000", None),
    ],
)
def test_what_a_drive_said_is_read_in_both_forms(sense: str, codes: tuple[int, int, int] | None) -> None:
    assert sense_codes(bytes.fromhex(sense)) == codes


class Drive(DrivePort):
    """A drive that answers by hand: blocks from `bad` on cannot be read."""

    def __init__(self, profile: int = 0x10, bad: int = 1 << 32, music: bool = False) -> None:
        self._profile, self._bad, self._music = profile, bad, music
        self._at = 0.0

    def ata(self, command: AtaCommand) -> AtaAnswer:
        raise SourceUnavailable("sr0", command.name)

    def nvme(self, command: NvmeCommand) -> bytes:
        raise SourceUnavailable("sr0", command.name)

    def scsi(self, command: ScsiCommand) -> bytes:
        raise SourceUnavailable("sr0", command.name)

    def optical(self, command: OpticalCommand) -> bytes:
        return {
            OpticalCommand.READY: b"",
            OpticalCommand.CAPACITY: struct.pack(">II", 99_999, 2048),
            OpticalCommand.CONFIGURATION: configuration(self._profile),
            OpticalCommand.CONTENTS: bytes.fromhex(
                "0012 01 01 0010010000000000 0010aa00000186a0"
                if self._music
                else "0012 01 01 0014010000000000 0014aa00000186a0"
            ),
        }[command]

    def read_disc(self, block: int, count: int) -> bytes:
        if block >= self._bad:
            raise Refused("sr0", f"reading block {block}", 3, 0x11, 0)
        self._at += 0.01
        return bytes(count * 2048)

    def clock(self) -> float:
        return self._at

    def close(self) -> None:
        pass


def test_structure_and_rate() -> None:
    disc = read_structure(Drive())
    assert disc == Disc("DVD", "", 1, False, 100_000, 1.385)
    assert read_structure(Drive(music=True)).music
    place = read_place(Drive(), disc, 0)
    # 256 blocks of 2048 bytes in 8 readings of 10 ms
    assert place.mb_s == pytest.approx(256 * 2048 / 1e6 / 0.08)
    bad = read_place(Drive(bad=64), disc, 0)
    assert isinstance(bad.trouble, Refused)
    assert bad.trouble.reason == "reading block 64: the drive refuses it (sense 3/11/00)"
    last = read_place(Drive(), disc, 99_900)
    assert last.mb_s == pytest.approx(100 * 2048 / 1e6 / 0.04), "the disc ends after 100 blocks, in 4 readings"
