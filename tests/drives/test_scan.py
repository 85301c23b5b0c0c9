"""Read scans: every byte once, bad sectors found exactly, continued where they stopped, and never a write."""

import errno
import os
import stat
import threading
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Run
from thresher.drives.scan import STROKES, BadPlace, Scan, ScanForm, ScanMap, ScanPlan, ScanState, strokes_text
from thresher.drives.scan_process import ScanProcess
from thresher.drives.scan_worker import Order, Report
from thresher.machine.block_reader import BlockReader
from thresher.model.errors import SourceUnavailable
from thresher.shop.drive_history import DriveScan, keep_scan, kept_scan

MIB = 1 << 20


class FakeDrive:
    """Remembers every read; bad sectors fail, and those in `once` fail the first time only."""

    def __init__(self, bad: set[int] = frozenset(), once: set[int] = frozenset(), slow: set[int] = frozenset()) -> None:  # type: ignore[assignment]
        self.bad, self.once, self.slow = set(bad), set(once), set(slow)
        self.reads: list[tuple[int, int]] = []
        self.gone_after: int | None = None
        self._lock = threading.Lock()

    def read_at(self, offset: int, length: int) -> int:
        with self._lock:
            self.reads.append((offset, length))
            if self.gone_after is not None and len(self.reads) > self.gone_after:
                raise OSError(errno.ENODEV, "No such device")
            sectors = range(offset // 512, (offset + length) // 512)
            failing = self.once & set(sectors)
            self.once -= failing
            if failing or self.bad & set(sectors):
                raise OSError(errno.EIO, "Input/output error")
        return length


def scanned(plan: ScanPlan, drive: FakeDrive) -> Scan:
    scan = Scan(plan, drive.read_at)
    scan.start()
    assert scan.join(60)
    return scan


@pytest.mark.parametrize("depth", [1, 4, 8])
def test_every_byte_is_read_once_also_the_odd_end(depth: int) -> None:
    drive = FakeDrive()
    size = 10 * MIB + 7 * 512
    scan = scanned(ScanPlan(size, depth=depth), drive)
    assert sorted(drive.reads) == [*((n * MIB, MIB) for n in range(10)), (10 * MIB, 7 * 512)]
    progress = scan.progress()
    assert (progress.done, progress.total, progress.read_bytes, progress.share) == (11, 11, size, 1.0)
    assert progress.bad == ()


def test_bad_sectors_are_found_exactly() -> None:
    bad = {2048 * 3 + 77, 2048 * 3 + 78, 2048 * 3 + 79, 2048 * 7}
    scan = scanned(ScanPlan(10 * MIB, depth=1), FakeDrive(bad))
    assert scan.progress().bad == (
        BadPlace((2048 * 3 + 77) * 512, 3 * 512, errno.EIO),
        BadPlace(2048 * 7 * 512, 512, errno.EIO),
    )
    assert scan.progress().retried == 0


@settings(max_examples=40, deadline=None)
@given(st.sets(st.integers(0, 8 * 2048 - 1), max_size=12), st.integers(1, 6))
def test_any_bad_sectors_are_found(bad: set[int], depth: int) -> None:
    scan = scanned(ScanPlan(8 * MIB, depth=depth), FakeDrive(bad))
    found = {
        sector
        for place in scan.progress().bad
        for sector in range(place.offset // 512, (place.offset + place.length) // 512)
    }
    assert found == bad


def test_sectors_of_4096_bytes_are_not_divided_further() -> None:
    drive = FakeDrive({8 * 5})
    scan = scanned(ScanPlan(MIB, depth=1, sector=4096), drive)
    assert scan.progress().bad == (BadPlace(5 * 4096, 4096, errno.EIO),)
    assert all(length % 4096 == 0 for _, length in drive.reads)


def test_a_block_that_fails_once_is_counted_and_is_no_bad_place() -> None:
    scan = scanned(ScanPlan(4 * MIB, depth=1), FakeDrive(once={3000}))
    progress = scan.progress()
    assert (progress.bad, progress.retried) == ((), 1)
    assert (scan.map.errors.sum(), scan.map.retries.sum()) == (0, 1)


def test_a_drive_that_goes_away_ends_the_scan() -> None:
    drive = FakeDrive()
    drive.gone_after = 5
    progress = scanned(ScanPlan(100 * MIB, depth=2), drive).progress()
    assert progress.gone
    assert progress.share < 0.2


def test_a_drive_that_answers_every_read_with_an_error_counts_as_gone() -> None:
    drive = FakeDrive()

    def dies(_offset: int, _length: int) -> None:
        if len(drive.reads) == 20:
            drive.bad = set(range(400 * 2048))

    scan = Scan(ScanPlan(400 * MIB, depth=1, sector=MIB), drive.read_at, after_block=dies)
    scan.start()
    assert scan.join(60)
    progress = scan.progress()
    assert progress.gone
    assert progress.done == 20 + 48 + 1  # read well, failed, and the one after which it was asked elsewhere


def test_a_large_damaged_region_is_no_drive_that_is_gone() -> None:
    drive = FakeDrive(bad=set(range(50 * 2048, 150 * 2048)))
    progress = scanned(ScanPlan(200 * MIB, depth=1, sector=MIB), drive).progress()
    assert not progress.gone
    assert progress.share == 1.0
    assert progress.bad == (BadPlace(50 * MIB, 100 * MIB, errno.EIO),)


def test_a_drive_that_takes_seconds_over_every_bad_sector_is_not_divided_for_hours() -> None:
    drive, now = FakeDrive(bad=set(range(2048, 4096))), [0.0]

    def slowly(offset: int, length: int) -> int:
        try:
            return drive.read_at(offset, length)
        except OSError:
            now[0] += 2.0
            raise

    scan = Scan(ScanPlan(4 * MIB, depth=1), slowly, clock=lambda: now[0])
    scan.start()
    assert scan.join(60)
    progress = scan.progress()
    assert progress.share == 1.0
    assert now[0] < 200
    assert progress.bad == (BadPlace(MIB, MIB, errno.EIO),)


def test_a_stopped_scan_goes_on_where_it_was_and_reads_nothing_twice_but_what_was_under_way() -> None:
    drive = FakeDrive({2048 * 2})
    first = Scan(ScanPlan(40 * MIB, depth=1), drive.read_at)
    read = first._read_at

    def stopping(offset: int, length: int) -> int:
        if offset == 10 * MIB:
            first.stop()
        return read(offset, length)

    first._read_at = stopping
    first.start()
    assert first.join(30)
    state = first.state()
    assert state.next_block == 11
    drive.reads.clear()
    second = Scan(state.plan, drive.read_at, state=state)
    second.start()
    assert second.join(30)
    assert sorted(drive.reads) == [(n * MIB, MIB) for n in range(11, 40)]
    assert second.progress().share == 1.0
    assert second.progress().bad == first.progress().bad


def test_a_quick_scan_reads_a_sample_of_the_whole_and_the_places_that_hurt_before() -> None:
    plan = ScanPlan(6000 * MIB, form=ScanForm.QUICK, again=(777 * MIB + 12_288,), depth=1)
    offsets = list(plan.offsets())
    assert offsets[0] == 777 * MIB
    assert offsets[-1] == 5999 * MIB
    assert len(offsets) == len(set(offsets)) == plan.blocks() == 602
    gaps = np.diff(sorted(offsets))
    assert gaps.max() <= 10 * MIB


def test_the_map_of_a_large_drive_stays_small() -> None:
    map_ = ScanMap(20_000_000_000_000)
    assert map_.memory_bytes < 100_000
    assert map_.stroke_of(0) == 0
    assert map_.stroke_of(map_.size - 1) == STROKES - 1
    map_.note(map_.size // 2, MIB, 0.9, failed=False)
    map_.note(0, MIB, 0.001, failed=True)
    line = strokes_text(map_, 40)
    assert line[0] == "×"
    assert line[20] in "▆▇█"
    assert set(line[1:19]) == {"·"}


@pytest.fixture
def disk(tmp_path: Path) -> Path:
    """A file that stands for a device."""
    path = tmp_path / "disk"
    path.write_bytes(os.urandom(9 * MIB + 4096))
    path.chmod(stat.S_IRUSR)
    return path


def direct(path: Path) -> BlockReader:
    """Open a file unbuffered, or skip where its file system cannot."""
    try:
        return BlockReader(str(path))
    except SourceUnavailable as error:
        pytest.skip(f"no unbuffered reads here: {error}")


def test_a_process_scans_a_real_file_and_changes_nothing(disk: Path) -> None:
    direct(disk).close()
    before = (disk.read_bytes(), disk.stat().st_mtime_ns)
    process = ScanProcess(str(disk), Order(depth=3))
    reports = [report for report in process.reports() if report is not None]
    process.close()
    last: Report = reports[-1]
    assert last.ended
    assert last.progress is not None
    assert (last.progress.read_bytes, last.progress.share) == (9 * MIB + 4096, 1.0)
    assert reports[0].size == 9 * MIB + 4096
    assert (disk.read_bytes(), disk.stat().st_mtime_ns) == before


def test_the_device_is_opened_for_reading_only(disk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    flags: list[int] = []
    whole = os.open

    def watched(path: str, how: int, *rest: int, **named: object) -> int:
        flags.append(how)
        return whole(path, how, *rest, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(os, "open", watched)
    reader = direct(disk)
    reader.close()
    assert flags
    assert all(how & os.O_ACCMODE == os.O_RDONLY for how in flags)


def test_what_cannot_be_scanned_is_said(tmp_path: Path) -> None:
    process = ScanProcess(str(tmp_path / "none"), Order())
    with pytest.raises(SourceUnavailable, match="No such file"):
        list(process.reports())
    process.close()


def test_a_scan_can_be_kept_and_gone_on_with(tmp_path: Path) -> None:
    whole = ScanPlan(100 * MIB, depth=2)
    assert kept_scan(tmp_path, "T4", "1") is None

    def kept_after(plan: ScanPlan, next_block: int, finished: bool, *bad: int) -> DriveScan:
        places = tuple(BadPlace(each, 512, errno.EIO) for each in bad)
        keep_scan(tmp_path, "T4", "1", ScanState(plan, next_block, places), finished)
        found = kept_scan(tmp_path, "T4", "1")
        assert found is not None
        return found

    stopped = kept_after(whole, 17, False, 512)
    assert stopped.state == ScanState(whole, 17, (BadPlace(512, 512, errno.EIO),))
    assert stopped.bad == (512,)
    # a region and a sample add what they find, and what was stopped can still be gone on with
    region = replace(whole, begin=50 * MIB, end=60 * MIB, form=ScanForm.RANGE)
    assert kept_after(region, 10, True, 55 * MIB) == DriveScan(state=stopped.state, bad=(512, 55 * MIB))
    assert kept_after(region, 10, True) == DriveScan(state=stopped.state, bad=(512,))
    sample = replace(whole, form=ScanForm.QUICK)
    assert kept_after(sample, 5, False, 70 * MIB) == DriveScan(state=stopped.state, bad=(512, 70 * MIB))
    assert kept_after(sample, 100, True, 512) == DriveScan(state=stopped.state, bad=(512,))
    # going on: what lies beyond is not known to be good yet
    kept_after(sample, 100, True, 512, 90 * MIB)
    assert kept_after(whole, 40, False, 512, 30 * MIB).bad == (512, 30 * MIB, 90 * MIB)
    assert kept_after(whole, 100, True, 512) == DriveScan(state=None, bad=(512,))


SICK = """
[[drives]]
name = "sda"
model = "Tidewater T4 4TB"
serial = "TW4-118822"
firmware = "0003"
size_bytes = 4000787030016
pending = [81920, 81921]
"""


def test_the_verb_warns_of_a_dying_drive_and_finds_its_bad_place(thresher: Run, tmp_path: Path) -> None:
    from thresher.simulator.scenario import shipped_scenarios

    text = shipped_scenarios()["ferry-office"].read_text()
    begin = text.index("[[drives]]")
    (tmp_path / "sick.toml").write_text(text[:begin] + SICK.lstrip())
    refused = thresher("drive", "scan", "sda", "--simulate", "sick.toml")
    assert refused.returncode == 2
    assert "the drive is dying" in refused.stderr
    assert "Copy the data off first" in refused.stderr
    words = ("--simulate", "sick.toml", "--anyway", "--to", "1GiB", "--shop", "shop")
    found = thresher("drive", "scan", "sda", *words)
    assert found.returncode == 1
    assert "cannot be read: sector 81920 to 81921" in found.stdout
    assert "×" in found.stdout
    assert list((tmp_path / "shop" / "drives").glob("*.scan.json"))
    wrong = thresher("drive", "scan", "sdz", "--simulate", "sick.toml")
    assert "this machine has sda" in wrong.stderr


def test_plans_of_orders_are_whole_sectors() -> None:
    from thresher.drives.scan_worker import plan_of

    plan = plan_of(Order(block=1_000_000, depth=500), 10 * MIB, 4096)
    assert plan.block % 4096 == 0
    assert (plan.depth, plan.sector) == (64, 4096)
    assert replace(plan, end=0).blocks() == plan.blocks()
