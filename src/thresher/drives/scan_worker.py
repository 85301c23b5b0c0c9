"""Scans one device for another process: `python -m thresher.drives.scan_worker PATH [DESCRIPTOR] < plan`.

The first line of standard input is the order; "stop" or its end stops the scan. Each line of standard output is a
report. A read that hangs in the kernel hangs this process alone.
"""

import sys
import threading
from pathlib import Path

import msgspec

from thresher.drives.scan import BadPlace, Scan, ScanForm, ScanMap, ScanPlan, ScanProgress, ScanState
from thresher.machine.block_reader import BlockReader
from thresher.machine.file_extents import places_on
from thresher.model.drive_commands import BlockSource
from thresher.model.errors import SourceUnavailable

_REPORT_S = 0.5
_JOIN_S = 3.0
_MOST_FILES, _FILES_S = 8, 60.0
"""Bad places whose file is looked up when the scan has ended, and the seconds for that on each partition."""


class Order(msgspec.Struct, frozen=True):
    """What is to be scanned: the form, the span in bytes (end 0: to the end), block and depth, and where to go on.

    `files` wants to know which file lies at a bad place.
    """

    form: ScanForm = ScanForm.THOROUGH
    begin: int = 0
    end: int = 0
    block: int = 1 << 20
    depth: int = 4
    again: tuple[int, ...] = ()
    state: ScanState | None = None
    files: bool = True


class Report(msgspec.Struct, frozen=True, omit_defaults=True):
    """How far it is; the last report has the map and where it can be continued, the first one the size.

    `slowest_ms`, `errors` and `rates` (MB/s) are the strokes of the map, `places` what lies at the first bad places.
    """

    size: int = 0
    progress: ScanProgress | None = None
    state: ScanState | None = None
    slowest_ms: tuple[float | None, ...] = ()
    errors: tuple[int, ...] = ()
    rates: tuple[float | None, ...] = ()
    retries: tuple[int, ...] = ()
    places: tuple[str, ...] = ()
    ended: bool = False
    trouble: str = ""


def plan_of(order: Order, size: int, sector: int) -> ScanPlan:
    """Return the plan of an order on a device."""
    if order.state is not None:
        return order.state.plan
    end = min(order.end or size, size)
    block = max(sector, order.block // sector * sector)
    return ScanPlan(
        size, min(order.begin, end), end, block, max(1, min(order.depth, 64)), sector, order.form, order.again
    )


_SIMULATED_BLOCKS = 20_000


def scan_here(order: Order, source: BlockSource) -> Scan:
    """Return a scan of a simulated drive in this process; the caller starts or advances it.

    Its blocks are so long that there are not too many of them; the drive's clock counts them in full.
    """
    block = max(order.block, source.size // _SIMULATED_BLOCKS >> 20 << 20)
    plan = plan_of(msgspec.structs.replace(order, block=block, depth=1), source.size, source.sector)
    return Scan(plan, source.read_at, order.state, source.clock, source.rest)


def report_of(scan: Scan, ended: bool, places: tuple[str, ...] = ()) -> Report:
    """Return a report with the map."""
    map_: ScanMap = scan.map
    slowest = tuple(None if value != value else round(float(value), 1) for value in map_.slowest_ms)
    errors = tuple(int(value) for value in map_.errors)
    rates = tuple(None if value != value else round(float(value), 1) for value in map_.rates(scan.plan.depth))
    retries = tuple(int(value) for value in map_.retries)
    return Report(map_.size, scan.progress(), scan.state(), slowest, errors, rates, retries, places, ended)


def places_of(path: str, bad: tuple[BadPlace, ...]) -> tuple[str, ...]:
    """Return what is at the first bad places of a device: the file, or why none is named, and the partition.

    The files of a failing drive are walked through for that: once, when the scan is over, and not for long.
    """
    found = places_on(Path(path).name, [each.offset for each in bad[:_MOST_FILES]], _FILES_S)
    return tuple(
        f"{each.file or each.why_no_file} ({f'{each.partition}, {each.mount}' if each.mount else each.partition})"
        for each in found
    )


def _say(report: Report) -> None:
    sys.stdout.write(msgspec.json.encode(report).decode() + "\n")
    sys.stdout.flush()


def main(path: str, opened: str = "") -> int:
    """Scan until the end or until told to stop."""
    order = msgspec.json.decode(sys.stdin.readline(), type=Order)
    try:
        reader = BlockReader(path, int(opened) if opened else None)
    except SourceUnavailable as error:
        _say(Report(trouble=f"{path}: {error.reason}", ended=True))
        return 2
    scan = Scan(plan_of(order, reader.size, reader.sector), reader.read_at, state=order.state)
    _say(Report(reader.size))
    scan.start()

    cut_short = threading.Event()

    def listen() -> None:
        sys.stdin.readline()
        cut_short.set()
        scan.stop()

    threading.Thread(target=listen, daemon=True).start()
    while not scan.join(_REPORT_S):
        _say(report_of(scan, ended=False))
    scan.join(_JOIN_S)
    bad = scan.progress().bad
    wanted = order.files and bool(bad) and not scan.progress().gone and not cut_short.is_set()
    if wanted:
        _say(report_of(scan, ended=False))  # all of it has been read, and the files are still to be looked up
    _say(report_of(scan, ended=True, places=places_of(path, bad) if wanted else ()))
    return 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
