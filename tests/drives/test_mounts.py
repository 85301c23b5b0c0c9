"""Which file systems lie on which drive, by a sysfs of our own making, and where a scratch file may go."""

import os
from pathlib import Path

import pytest

from thresher.machine.mounts import Mount, drives_under, mounts, mounts_here, place_of, scratch_places
from thresher.model.errors import SourceUnavailable

MOUNTINFO = r"""22 1 254:0 / / rw,relatime shared:1 - ext4 /dev/mapper/harbour-root rw,errors=remount-ro
29 22 8:17 / /mnt/old\040photos ro,relatime shared:2 - ext4 /dev/sdb1 ro
31 22 0:40 / /srv rw shared:3 - btrfs /dev/sda3 rw,space_cache
33 22 0:41 / /run rw - tmpfs tmpfs rw
34 22 9:0 / /data rw - xfs /dev/md0 rw
broken line
"""


@pytest.fixture
def sysfs(tmp_path: Path) -> Path:
    """Two disks with partitions, a mapper volume over one, and a RAID over both."""
    devices, block, numbers = tmp_path / "devices", tmp_path / "class" / "block", tmp_path / "dev" / "block"
    for folder in (block, numbers):
        folder.mkdir(parents=True)
    for disk, parts in (("sda", ("sda2", "sda3")), ("sdb", ("sdb1",))):
        (devices / disk).mkdir(parents=True)
        (block / disk).symlink_to(devices / disk)
        for part in parts:
            (devices / disk / part).mkdir()
            (devices / disk / part / "partition").write_text("1\n")
            (block / part).symlink_to(devices / disk / part)
    for virtual, below in (("dm-0", ("sda2",)), ("md0", ("dm-0", "sdb1"))):
        (devices / virtual / "slaves").mkdir(parents=True)
        for each in below:
            (devices / virtual / "slaves" / each).symlink_to(block / each)
        (block / virtual).symlink_to(devices / virtual)
    for number, device in (("254:0", "dm-0"), ("8:17", "sdb/sdb1"), ("9:0", "md0")):
        (numbers / number).symlink_to(devices / device)
    return tmp_path


def test_partitions_mapper_and_raid_lead_to_their_disks(sysfs: Path) -> None:
    assert drives_under("sda2", sysfs) == ("sda",)
    assert drives_under("dm-0", sysfs) == ("sda",)
    assert drives_under("md0", sysfs) == ("sda", "sdb")
    assert drives_under("sdz", sysfs) == ()


def test_mounts_name_their_drives(sysfs: Path) -> None:
    assert mounts(MOUNTINFO, sysfs) == (
        Mount("/", "ext4", ("sda",), False),
        Mount("/mnt/old photos", "ext4", ("sdb",), True),
        Mount("/srv", "btrfs", ("sda",), False),
        Mount("/run", "tmpfs", (), False),
        Mount("/data", "xfs", ("sda", "sdb"), False),
    )


def test_what_is_mounted_over_a_folder_counts(sysfs: Path) -> None:
    over = MOUNTINFO + "40 22 0:50 / /srv rw - tmpfs tmpfs rw\n"
    assert Mount("/srv", "tmpfs", (), False) in mounts(over, sysfs)
    assert not any(each.folder == "/srv" and each.drives for each in mounts(over, sysfs))


def test_a_place_here_can_be_written_to() -> None:
    drives = {drive for mount in mounts_here() for drive in mount.drives}
    if not drives:
        pytest.skip("no file system here lies on a drive of its own")
    for drive in drives:
        for place in scratch_places(drive):
            assert place.why_not or (place.room >= 64 << 20 and os.access(place.folder, os.W_OK))


def test_a_folder_without_a_drive_is_refused() -> None:
    with pytest.raises(SourceUnavailable, match="it is on no drive of this computer"):
        place_of("/proc")
