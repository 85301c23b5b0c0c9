"""From a bad sector to the file that lies there."""

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from thresher.machine.file_extents import extents, files_at, mount_of, partition_at

MOUNTS = r"""
22 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw
30 22 8:3 / /srv/old\040photos rw - xfs /dev/sda3 rw
31 22 8:3 /sub /mnt/bound rw - xfs /dev/sda3 rw
32 22 0:25 / /run rw - tmpfs tmpfs rw
"""


def test_partitions_by_their_start_and_size(tmp_path: Path) -> None:
    for name, start, size in (("sda1", 2048, 2048), ("sda2", 4096, 8192)):
        (tmp_path / "sda" / name).mkdir(parents=True)
        (tmp_path / "sda" / name / "start").write_text(f"{start}\n")
        (tmp_path / "sda" / name / "size").write_text(f"{size}\n")
    (tmp_path / "sda" / "queue").mkdir()
    assert partition_at("sda", 4096 * 512, tmp_path) == ("sda2", 0)
    assert partition_at("sda", 4095 * 512 + 511, tmp_path) == ("sda1", 2047 * 512 + 511)
    assert partition_at("sda", 100, tmp_path) == ("sda", 100)


def test_mounts_by_device_number_without_bind_mounts() -> None:
    assert mount_of("8:2", MOUNTS) == ("/", "ext4")
    assert mount_of("8:3", MOUNTS) == ("/srv/old photos", "xfs")
    assert mount_of("8:9", MOUNTS) == ("", "")


def test_the_file_whose_extent_holds_the_byte_is_found(tmp_path: Path) -> None:
    (tmp_path / "a").mkdir()
    for name in ("a/photo.jpg", "song.ogg", "locked"):
        (tmp_path / name).write_text(name)
    layout = {"photo.jpg": [(4096, 8192), (1 << 20, 4096)], "song.ogg": [(12_288, 4096)]}

    def extents_of(path: str) -> Iterator[tuple[int, int]]:
        if path.endswith("locked"):
            raise PermissionError(path)
        yield from layout[path.rpartition("/")[2]]

    opened: list[str] = []

    def noted(path: str) -> Iterator[tuple[int, int]]:
        opened.append(path)
        yield from extents_of(path)

    photo, none, song = files_at(str(tmp_path), [(1 << 20) + 5, 999_999_999, 12_288], 10, noted)
    assert photo == (str(tmp_path / "a" / "photo.jpg"), "")
    assert song == (str(tmp_path / "song.ogg"), "")
    words = "no file there: free space or the file system's own data; 1 files could not be asked"
    assert none == ("", words)
    assert len(opened) == 3  # each file is asked once for all places
    ((file, why),) = files_at(str(tmp_path), [4096], -1, extents_of)
    assert (file, why[:12]) == ("", "not found in")
    assert files_at(str(tmp_path / "gone"), [4096], 10, extents_of)[0][0] == ""


def test_extents_of_a_real_file_cover_it(tmp_path: Path) -> None:
    path = tmp_path / "file"
    with path.open("wb") as stream:
        stream.write(os.urandom(300_000))
        stream.flush()
        os.fsync(stream.fileno())
    try:
        found = list(extents(str(path)))
    except OSError as error:
        pytest.skip(f"this file system has no extent maps: {error}")
    assert sum(length for _, length in found) >= 300_000
