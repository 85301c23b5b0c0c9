"""What file systems and arrays count, from files as the kernel writes them."""

from pathlib import Path

import pytest

from thresher.drives.file_systems import disk_of, read_file_systems
from thresher.machine.tree import TreeSystem
from thresher.model.findings import FindingKind, Severity


def tree(folder: Path, files: dict[str, str]) -> TreeSystem:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return TreeSystem(folder)


def test_ext4_says_how_many_and_where(tmp_path: Path) -> None:
    system = tree(
        tmp_path,
        {
            "sys/fs/ext4/sda2/errors_count": "7\n",
            "sys/fs/ext4/sda2/last_error_func": "ext4_find_extent\n",
            "sys/fs/ext4/sda2/last_error_block": "9412\n",
            "sys/fs/ext4/sdb1/errors_count": "0\n",
            "sys/fs/ext4/features/lazy_itable_init": "supported\n",
        },
    )
    (sign,) = read_file_systems(system)
    assert (sign.device, sign.code, sign.kind) == ("sda2", "D-350", FindingKind.FILE_SYSTEM)
    assert (
        sign.words == "ext4 has counted 7 errors since it was checked last, the last in ext4_find_extent at block 9412"
    )


def test_btrfs_distinguishes_failed_requests_from_wrong_data(tmp_path: Path) -> None:
    stats = "write_errs {0}\nread_errs {1}\nflush_errs 0\ncorruption_errs {2}\ngeneration_errs 0\n"
    volume = "sys/fs/btrfs/5f2c-harbour"
    system = tree(
        tmp_path,
        {
            f"{volume}/devices/sda3/size": "100\n",
            f"{volume}/devinfo/1/error_stats": stats.format(0, 3, 1),
            f"{volume}/devinfo/2/error_stats": stats.format(0, 0, 4),
            f"{volume}/devinfo/3/error_stats": stats.format(0, 0, 0),
        },
    )
    failed, wrong = read_file_systems(system)
    assert (failed.device, failed.code, failed.kind) == ("sda3", "D-312", FindingKind.DRIVE_FAILED)
    assert failed.words == "btrfs, device 1: 3 reads failed; 1 blocks did not match their check sum"
    assert (wrong.code, wrong.kind) == ("D-352", FindingKind.FILE_SYSTEM)


def test_arrays_name_the_drive_that_they_left_out(tmp_path: Path) -> None:
    folder = "sys/block/md0/md"
    system = tree(
        tmp_path,
        {
            f"{folder}/degraded": "1\n",
            f"{folder}/mismatch_cnt": "128\n",
            f"{folder}/dev-sda1/state": "in_sync\n",
            f"{folder}/dev-sda1/errors": "12\n",
            f"{folder}/dev-sdb1/state": "faulty\n",
            f"{folder}/dev-sdb1/errors": "0\n",
        },
    )
    words = {sign.words: (sign.device, sign.code) for sign in read_file_systems(system)}
    assert words == {
        "md0 has corrected 12 reads of sda1": ("sda1", "D-312"),
        "md0 has put sdb1 out of use": ("sdb1", "D-360"),
        "the copies of md0 differ in 128 sectors": ("md0", "D-352"),
        "md0 runs with 1 drive missing": ("md0", "D-360"),
    }


def test_a_mapped_volume_that_holds_requests_back_is_named(tmp_path: Path) -> None:
    system = tree(
        tmp_path,
        {
            "sys/block/dm-0/dm/suspended": "0\n",
            "sys/block/dm-0/dm/name": "books\n",
            "sys/block/dm-1/dm/suspended": "1\n",
            "sys/block/dm-1/dm/name": "scans\n",
            "sys/block/dm-1/slaves/sdb2/size": "8\n",
        },
    )
    (sign,) = read_file_systems(system)
    assert (sign.device, sign.code, sign.kind) == ("sdb2", "D-361", FindingKind.DRIVE_STALL)
    assert sign.severity is Severity.NOTE  # it may be being changed: no evidence against the drive
    assert sign.words == "the volume scans is suspended: every request to it waits"


@pytest.mark.parametrize(
    ("device", "disk"),
    [
        ("sda2", "sda"),
        ("sdab11", "sdab"),
        ("nvme0n1p3", "nvme0n1"),
        ("nvme0n1", "nvme0n1"),
        ("mmcblk0p1", "mmcblk0"),
        ("dm-1", "dm-1"),
    ],
)
def test_a_partition_belongs_to_its_disk(device: str, disk: str) -> None:
    assert disk_of(device) == disk
