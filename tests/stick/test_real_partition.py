"""The partition for jobs, and saving to another drive, on block devices of the kernel: as root, with loop devices."""

import os
import stat
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest

from tests.stick.test_layout import GIB, image_on
from thresher.app.keeping_jobs import Target, jobs_in, keep_on_stick, save_to
from thresher.machine.system_tools import run_tool, tried
from thresher.model.errors import EnvironmentFault
from thresher.stick.boot import StickState, read_state, write_state
from thresher.stick.jobs_partition import look_at, make_ready, mount
from thresher.stick.layout import JobsState

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="only root can make loop devices and mount them")


def attached(path: Path) -> str:
    try:
        return run_tool(["losetup", "--find", "--show", "--partscan", str(path)]).strip()
    except EnvironmentFault as error:
        pytest.skip(f"no loop devices here: {error}")


@pytest.fixture
def devices() -> Iterator[list[str]]:
    """Loop devices and mounts of a test, all let go at its end."""
    made: list[str] = []
    yield made
    for each in reversed(made):
        command = ["losetup", "--detach", each] if each.startswith("/dev/loop") else ["umount", "--lazy", each]
        subprocess.run(command, capture_output=True, check=False)


def run_and_name(command: Sequence[str], given: str = "") -> str:
    """Run a tool, and name new partitions under /dev as udev does on the stick; a container has none."""
    printed = run_tool(command, given)
    for entry in Path("/sys/class/block").glob("loop*p*"):
        node = Path("/dev") / entry.name
        major, minor = (int(each) for each in (entry / "dev").read_text().split(":"))
        if not node.exists():
            os.mknod(node, 0o660 | stat.S_IFBLK, os.makedev(major, minor))
    return printed


@pytest.fixture
def stick(tmp_path: Path, devices: list[str]) -> Iterator[str]:
    """A stick of 4 GiB with the image's two partitions."""
    device = attached(image_on(tmp_path / "stick.img", 4 * GIB))
    devices.append(device)
    tried(lambda: run_tool(["partx", "--add", device]))
    if not (Path("/sys/class/block") / f"{Path(device).name}p1").exists():
        pytest.skip("loop devices show no partitions here")
    before = set(Path("/dev").glob("loop*p*"))
    yield device
    for node in set(Path("/dev").glob("loop*p*")) - before:
        node.unlink()


def test_jobs_in_memory_get_a_partition_and_outlive_a_newer_image(
    stick: str, tmp_path: Path, devices: list[str]
) -> None:
    home, run = tmp_path / "home", tmp_path / "run"
    job = home / "data/thresher/jobs/a.thresher"
    job.parent.mkdir(parents=True)
    job.write_bytes(b"a job")
    run.mkdir()
    write_state(StickState(reason="none yet", drive=stick, room=2 * GIB), run)
    run_tool(["blockdev", "--setro", stick])
    devices.append(str(home))
    keep_on_stick(home, run, run_and_name)
    assert read_state(run).lasting
    assert f"{stick}p3 {home} ext4 rw" in Path("/proc/mounts").read_text()
    assert job.read_bytes() == b"a job"
    (home / "more").write_bytes(b"written later")
    run_tool(["umount", str(home)])
    assert not (home / "more").exists()
    # a newer image, written over the older one: its table has two lines
    table = "label: dos\nstart=64, size=1500000, type=cd, bootable\nstart=1500064, size=16384, type=ef\n"
    run_tool(["partx", "--delete", "--nr", "3", stick])
    run_tool(["sfdisk", "--quiet", "--force", "--no-reread", "--no-tell-kernel", stick], table)
    found = look_at(stick)
    assert found.layout.state is JobsState.LOST_ENTRY
    mount(make_ready(found, run_and_name), home)
    assert job.read_bytes() == b"a job"
    assert (home / "more").read_bytes() == b"written later"
    assert look_at(stick).layout.state is JobsState.READY


def test_jobs_are_saved_to_a_drive_that_was_read_only(
    tmp_path: Path, devices: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("thresher.app.keeping_jobs.MOUNTS", tmp_path / "mounts")
    jobs = tmp_path / "home/data/thresher/jobs"
    jobs.mkdir(parents=True)
    (jobs / "a.thresher").write_bytes(b"a job")
    (jobs / "a.thresher.blackbox").write_bytes(b"its last minutes")
    other = tmp_path / "other.img"
    with other.open("wb") as stream:
        stream.truncate(64 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-F", str(other)], check=True)
    device = attached(other)
    devices.append(device)
    run_tool(["blockdev", "--setro", device])
    words = save_to(Target(device, "ext4", "BENCH", 64 << 20), jobs_in(tmp_path / "home"))
    assert words.startswith("1 job saved in thresher-jobs on BENCH")
    assert str(tmp_path / "mounts") not in Path("/proc/mounts").read_text(), "it can be unplugged"
    devices.append(str(tmp_path / "mounts"))
    run_tool(["mount", "-o", "ro", device, str(tmp_path / "mounts")])
    saved = {path.name: path.read_bytes() for path in (tmp_path / "mounts/thresher-jobs").iterdir()}
    assert saved == {"a.thresher": b"a job", "a.thresher.blackbox": b"its last minutes"}


def test_a_file_system_that_the_kernel_does_not_know_is_said(
    tmp_path: Path, devices: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("thresher.app.keeping_jobs.MOUNTS", tmp_path / "mounts")
    other = tmp_path / "other.img"
    with other.open("wb") as stream:
        stream.truncate(8 << 20)
    device = attached(other)
    devices.append(device)
    with pytest.raises(EnvironmentFault) as caught:
        save_to(Target(device, "ext4", "", 8 << 20), [])
    assert "wrong fs type" in str(caught.value), "the first of what mount says, not where more is"
