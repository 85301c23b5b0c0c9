"""What a drive counted at its last visits, kept by its serial: a count that grows says more than its height."""

import hashlib
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path

from thresher.drives.scan import ScanForm, ScanState
from thresher.shop.store import change_file, read_file

FORMAT = "thresher-drive/1"
_MOST_VISITS = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class Counted:
    """The counts of one visit, and when (Unix time)."""

    wall: float
    counts: dict[str, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class DriveFile:
    """A drive's visits, oldest first."""

    format: str = FORMAT
    model: str = ""
    visits: tuple[Counted, ...] = ()


def drive_path(shop: Path, model: str, serial: str) -> Path:
    """Return where a drive's counts are kept; its serial is not in the name."""
    key = hashlib.sha256(f"{model}\0{serial}".encode()).hexdigest()[:24]
    return shop / "drives" / f"{key}.json"


def note_counts(shop: Path, model: str, serial: str, wall: float, counts: dict[str, int]) -> tuple[str, ...]:
    """Keep a drive's counts and return what has grown since another day. Raises InputError, EnvironmentFault."""
    path = drive_path(shop, model, serial)
    before = read_file(path, DriveFile, FORMAT) or DriveFile()
    day = _day(wall)
    last = next((visit for visit in reversed(before.visits) if _day(visit.wall) != day), None)

    def change(file: DriveFile) -> DriveFile:
        others = tuple(visit for visit in file.visits if _day(visit.wall) != day)
        return replace(file, model=model, visits=(*others, Counted(wall=wall, counts=counts))[-_MOST_VISITS:])

    change_file(path, FORMAT, DriveFile(), change)
    return grown(last, counts) if last is not None else ()


def grown(last: Counted, counts: dict[str, int]) -> tuple[str, ...]:
    """Return in words which counts have grown since a visit."""
    since = f"{datetime.fromtimestamp(last.wall).astimezone():%-d %b %Y}"
    return tuple(
        f"{value - last.counts[name]} more {name} since {since}"
        for name, value in counts.items()
        if value > last.counts.get(name, value)
    )


def _day(wall: float) -> str:
    return f"{datetime.fromtimestamp(wall).astimezone():%Y-%m-%d}"


SCAN_FORMAT = "thresher-drive-scan/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class DriveScan:
    """The last scan of a drive: where it can be continued (None: it was finished), and where it was bad, in bytes."""

    format: str = SCAN_FORMAT
    state: ScanState | None = None
    bad: tuple[int, ...] = ()


def _scan_path(shop: Path, model: str, serial: str) -> Path:
    return drive_path(shop, model, serial).with_suffix(".scan.json")


def kept_scan(shop: Path, model: str, serial: str) -> DriveScan | None:
    """Return what is kept of the last scan of a drive. Raises InputError."""
    return read_file(_scan_path(shop, model, serial), DriveScan, SCAN_FORMAT)


def keep_scan(shop: Path, model: str, serial: str, state: ScanState, finished: bool) -> None:
    """Keep where a scan can be continued and what was bad. Raises InputError, EnvironmentFault."""
    change_file(
        _scan_path(shop, model, serial), SCAN_FORMAT, DriveScan(), lambda before: _after(before, state, finished)
    )


def _after(before: DriveScan, state: ScanState, finished: bool) -> DriveScan:
    """Return what is known after a scan: what it did not read stays as it was known before.

    A scan of everything that was stopped can still be continued after a sample or a region was read.
    """
    plan, bad = state.plan, {place.offset for place in state.bad}
    if plan.form is ScanForm.QUICK:
        unread = () if finished else before.bad
    else:
        end = (plan.end or plan.size) if finished else plan.begin + state.next_block * plan.block
        unread = tuple(each for each in before.bad if not plan.begin <= each < end)
    stopped = None if finished else state
    if plan.form is not ScanForm.THOROUGH and before.state is not None:
        whole = before.state.plan.form is ScanForm.THOROUGH
        stopped = before.state if whole else stopped
    return DriveScan(state=stopped, bad=tuple(sorted({*unread, *bad})))
