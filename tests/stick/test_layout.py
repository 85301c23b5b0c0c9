"""The stick's partitions: what sfdisk says of real tables in a file, and what is made of them."""

import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from thresher.model.errors import EnvironmentFault, InputError
from thresher.stick.jobs_partition import create, drive_of, look_at, make_ready, medium_of
from thresher.stick.layout import JobsState, entry_for_jobs, partition_name, read_layout

GIB = 1 << 30


def image_on(path: Path, size: int, third: str = "") -> Path:
    """A stick's file with the image's two partitions and perhaps a third."""
    with path.open("wb") as stream:
        stream.truncate(size)
    table = f"label: dos\nstart=64, size=1400000, type=cd, bootable\nstart=1400064, size=16384, type=ef\n{third}"
    subprocess.run(["sfdisk", "--quiet", str(path)], input=table, text=True, check=True)
    return path


class FileTools:
    """The system's tools on a file instead of a drive: what only a kernel can do is noted and left out."""

    def __init__(self, label: str = "") -> None:
        self.label = label
        self.commands: list[list[str]] = []

    def __call__(self, command: Sequence[str], given: str = "") -> str:
        self.commands.append([*command])
        if command[0] == "blockdev" and command[1] == "--getsize64":
            return str(Path(command[2]).stat().st_size)
        if command[0] == "sfdisk":
            return subprocess.run(command, input=given, text=True, capture_output=True, check=True).stdout
        if command[0] == "blkid":
            if not self.label:
                raise EnvironmentFault("running blkid", "it ended with 2", "")
            return f"{self.label}\n"
        return ""

    @property
    def names(self) -> list[str]:
        return [" ".join(each[:2]) for each in self.commands]


@pytest.fixture(autouse=True)
def needs_sfdisk(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PATH", "/usr/sbin:/sbin", prepend=":")
    if shutil.which("sfdisk") is None:
        pytest.skip("no sfdisk here (package fdisk)")


def test_a_stick_with_room_gets_a_partition_from_two_gib_to_its_end(tmp_path: Path) -> None:
    stick = image_on(tmp_path / "stick", 4 * GIB)
    tools = FileTools()
    found = look_at(str(stick), tools)
    assert (found.layout.state, found.layout.size) == (JobsState.NONE, 2 * GIB)
    assert create(found, tools) == f"{stick}3"
    dump = subprocess.run(["sfdisk", "--dump", str(stick)], capture_output=True, text=True, check=True).stdout
    third = next(line for line in dump.splitlines() if line.startswith(f"{stick}3"))
    # 2 GiB are 4,194,304 sectors of 512 bytes; the file has 8,388,608
    assert third.replace(" ", "").endswith("start=4194304,size=4194304,type=83")
    made = next(each for each in tools.commands if each[0] == "mkfs.ext4")
    assert made[made.index("-L") + 1] == "THRESHER-JOBS"
    assert made[-1] == f"{stick}3"
    assert tools.names.index("blockdev --setrw") < tools.names.index("sfdisk --append"), "it was read only"


def test_jobs_are_found_again_after_a_newer_image_was_written_over_the_table(tmp_path: Path) -> None:
    stick = image_on(tmp_path / "stick", 4 * GIB)
    tools = FileTools(label="THRESHER-JOBS")
    found = look_at(str(stick), tools)
    assert found.layout.state is JobsState.LOST_ENTRY
    assert make_ready(found, tools) == f"{stick}3"
    assert not any(each[0].startswith("mkfs") for each in tools.commands), "what is there is kept"
    assert look_at(str(stick), tools).layout.state is JobsState.READY


def test_a_partition_that_is_ready_is_only_made_writable(tmp_path: Path) -> None:
    stick = image_on(tmp_path / "stick", 4 * GIB, "start=4194304, type=83\n")
    tools = FileTools(label="THRESHER-JOBS")
    found = look_at(str(stick), tools)
    assert (found.layout.state, found.layout.size) == (JobsState.READY, 2 * GIB)
    make_ready(found, tools)
    assert "sfdisk --append" not in tools.names


@pytest.mark.parametrize(
    ("size", "third", "label", "state"),
    [
        (2 * GIB, "", "", JobsState.NO_ROOM),
        (2 * GIB + (200 << 20), "", "", JobsState.NO_ROOM),
        (4 * GIB, "start=4194304, type=83\n", "HOLIDAY", JobsState.FOREIGN),
        (4 * GIB, "start=2000000, size=3000000, type=7\n", "", JobsState.FOREIGN),
        (8 * GIB, "start=6000000, type=7\n", "", JobsState.FOREIGN),
    ],
)
def test_a_stick_without_room_is_left_alone(
    tmp_path: Path, size: int, third: str, label: str, state: JobsState
) -> None:
    stick = image_on(tmp_path / "stick", size, third)
    tools = FileTools(label)
    found = look_at(str(stick), tools)
    assert found.layout.state is state
    with pytest.raises(EnvironmentFault):
        create(found, tools)
    with pytest.raises(EnvironmentFault):
        make_ready(found, tools)
    assert "sfdisk --append" not in tools.names


def test_another_kind_of_table_is_refused() -> None:
    with pytest.raises(InputError, match="expected an MBR, found gpt"):
        read_layout('{"partitiontable": {"label": "gpt", "partitions": []}}', 8 * GIB, "")
    with pytest.raises(InputError):
        read_layout("sfdisk: cannot open", 8 * GIB, "")


def test_the_stick_is_found_by_where_it_was_mounted_from(tmp_path: Path) -> None:
    squashfs = "/dev/loop0 /run/live/rootfs squashfs ro 0 0\n"
    mounts = f"proc /proc proc rw 0 0\n/dev/sdb1 /run/live/medium iso9660 ro,noatime 0 0\n{squashfs}"
    assert medium_of(mounts) == "/dev/sdb1"
    assert medium_of("tmpfs /run/live/medium tmpfs rw 0 0\n") is None
    assert medium_of("") is None
    blocks = tmp_path / "block"
    disk = tmp_path / "devices" / "sdb"
    (disk / "sdb1").mkdir(parents=True)
    (disk / "sdb1" / "partition").write_text("1\n")
    blocks.mkdir()
    (blocks / "sdb1").symlink_to(disk / "sdb1")
    (blocks / "sdb").symlink_to(disk)
    assert drive_of("/dev/sdb1", blocks) == "/dev/sdb"
    assert drive_of("/dev/sdb", blocks) is None
    assert drive_of("/dev/sr0", blocks) is None


def test_names_of_partitions() -> None:
    assert partition_name("/dev/sdb", 3) == "/dev/sdb3"
    assert partition_name("/dev/nvme0n1", 3) == "/dev/nvme0n1p3"
    assert partition_name("/dev/mmcblk0", 3) == "/dev/mmcblk0p3"
    assert entry_for_jobs(4096) == "start=524288, type=83\n"
