"""A real block device with real errors: a loop device over a file that cannot be read everywhere.

It needs root, /dev/fuse, loop devices and the library libfuse2; where one is missing the reason is in the skip.
"""

import contextlib
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from thresher.drives.findings import scan_findings
from thresher.drives.scan import Scan, ScanPlan
from thresher.drives.scan_process import ScanProcess
from thresher.drives.scan_worker import Order, Report
from thresher.machine.block_reader import BlockReader
from thresher.machine.drive_process import DriveProcess
from thresher.model.drive_commands import AtaCommand, NvmeCommand, ScsiCommand
from thresher.model.errors import SourceUnavailable

MIB = 1 << 20
TREE = Path(__file__).parents[2]


@dataclass(frozen=True)
class Disk:
    """The block device, the folder of the file under it, and where its writes are noted."""

    device: str
    folder: Path
    notes: Path
    answered: Path
    """Is there once a slow read has come back."""
    pull: Callable[[], None]
    """Takes the disk away: nothing on it can be read from then on."""

    def writes(self) -> list[str]:
        """What was written to it: offset and length of each write."""
        return self.notes.read_text().splitlines() if self.notes.exists() else []


MakeDisk = Callable[..., Disk]


def run(*words: str) -> str:
    """Run a command of the system, or skip where it does not work here."""
    done = subprocess.run(words, capture_output=True, text=True, timeout=20, check=False)
    if done.returncode:
        pytest.skip(f"{words[0]} does not work here: {done.stderr.strip()}")
    return done.stdout.strip()


@pytest.fixture
def make_disk(tmp_path: Path) -> Iterator[MakeDisk]:
    """Return a function that makes a block device of a size with bad, slow and lost places."""
    if os.geteuid() != 0:
        pytest.skip("only root can make loop devices")
    if not Path("/dev/fuse").exists() or not Path("/dev/loop-control").exists():
        pytest.skip("there is no /dev/fuse or no /dev/loop-control here")
    if shutil.which("losetup") is None:
        pytest.skip("there is no losetup here")
    try:
        import fuse  # type: ignore[import-untyped]  # noqa: F401
    except (ImportError, OSError) as error:
        pytest.skip(f"no FUSE from Python here: {error}")
    with contextlib.ExitStack() as stack:

        def make(size: int = 64 * MIB, sector: int = 512, **order: object) -> Disk:
            folder, notes, answered = tmp_path / "mount", tmp_path / "writes", tmp_path / "answered"
            folder.mkdir()
            words = json.dumps({"size": size, "notes": str(notes), "answered": str(answered), **order})
            server = subprocess.Popen(
                [sys.executable, "-m", "tests.drives.faulty_drive", str(folder), words],
                cwd=TREE,
                stderr=subprocess.DEVNULL,
            )
            stack.callback(server.wait, 20)
            stack.callback(subprocess.run, ["umount", "-l", str(folder)], check=False)
            until = time.monotonic() + 10
            while not (folder / "disk").exists():
                if server.poll() is not None or time.monotonic() > until:
                    pytest.skip("the file system does not start here")
                time.sleep(0.05)
            device = run("losetup", "-f", "--show", "-b", str(sector), str(folder / "disk"))
            stack.callback(subprocess.run, ["losetup", "-d", device], check=False)
            try:
                BlockReader(device).close()
            except SourceUnavailable as error:
                pytest.skip(f"the loop device cannot be opened here: {error}")
            return Disk(device, folder, notes, answered, server.kill)

        yield make


def scanned(device: str, order: Order) -> Report:
    """Scan a device by the program's own process to its end."""
    process = ScanProcess(device, order)
    try:
        return [report for report in process.reports() if report is not None][-1]
    finally:
        process.close()


def test_bad_sectors_are_found_to_the_sector_and_nothing_is_written(make_disk: MakeDisk) -> None:
    disk = make_disk(bad=[(81920 * 512, 81923 * 512), (50 * MIB, 50 * MIB + 512)])
    last = scanned(disk.device, Order(depth=4))
    assert last.progress is not None
    assert last.progress.share == 1.0
    # the kernel reads a loop device over this file in pages of 4096 bytes: what surrounds a bad sector goes with it
    places = {place.offset // 4096 for place in last.progress.bad}
    assert places == {81920 * 512 // 4096, 50 * MIB // 4096}
    assert {place.error for place in last.progress.bad} == {5}
    findings = scan_findings("loop", last.progress)
    assert {finding.code for finding in findings} == {"D-310"}
    assert disk.writes() == []


def test_sectors_of_4096_bytes(make_disk: MakeDisk) -> None:
    disk = make_disk(sector=4096, bad=[(8 * MIB, 8 * MIB + 1)])
    last = scanned(disk.device, Order(depth=1))
    assert last.state is not None
    assert last.state.plan.sector == 4096
    assert last.progress is not None
    assert [(place.offset, place.length) for place in last.progress.bad] == [(8 * MIB, 4096)]


def test_a_slow_place_stands_out(make_disk: MakeDisk) -> None:
    disk = make_disk(slow=[20 * MIB + 4096], slow_s=0.4)
    reader = BlockReader(disk.device)
    scan = Scan(ScanPlan(reader.size, depth=1, sector=reader.sector), reader.read_at)
    scan.start()
    scan.join()
    reader.close()
    progress = scan.progress()
    assert progress.slow >= 1
    assert progress.bad == ()
    place = scan.map.stroke_of(20 * MIB)
    assert np.nanargmax(scan.map.slowest_ms) == place
    assert scan.map.slowest_ms[place] >= 400


def test_a_drive_that_takes_half_a_minute_for_a_read_holds_nobody_up(make_disk: MakeDisk) -> None:
    disk = make_disk(slow=[4 * MIB], slow_s=30.0)
    process = ScanProcess(disk.device, Order(depth=1))
    reports = process.reports()
    for report in reports:
        if report is not None and report.progress is not None and report.progress.done >= 4:
            break
    process.close()
    answered = disk.answered.exists()
    disk.pull()  # ends the read that hangs
    time.sleep(0.5)
    process.close()
    assert not answered  # nobody waited until the read came back


def test_a_disk_that_vanishes_ends_the_scan(make_disk: MakeDisk) -> None:
    disk = make_disk(size=1024 * MIB, slow=[each * MIB for each in range(8, 1024)], slow_s=0.1)
    process = ScanProcess(disk.device, Order(depth=1))
    last: Report | None = None
    pulled = False
    for report in process.reports():
        if report is None or report.progress is None:
            continue
        last = report
        if not pulled and report.progress.done >= 8:
            disk.pull()
            pulled = True
    process.close()
    assert pulled
    assert last is not None
    assert last.ended
    assert last.progress is not None
    assert last.progress.gone
    assert last.progress.share < 0.5
    assert {finding.code for finding in scan_findings("loop", last.progress)} >= {"D-331"}


def test_no_command_for_its_health_writes_to_it(make_disk: MakeDisk) -> None:
    disk = make_disk()
    port = DriveProcess(disk.device)
    try:
        for ata in AtaCommand:
            with pytest.raises(SourceUnavailable):
                port.ata(ata)
        for nvme in NvmeCommand:
            with pytest.raises(SourceUnavailable):
                port.nvme(nvme)
        for scsi in ScsiCommand:
            with pytest.raises(SourceUnavailable):
                port.scsi(scsi)
    finally:
        port.close()
    assert disk.writes() == []
