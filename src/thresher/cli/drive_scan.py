"""A read scan in the terminal: the map as a line of strokes, time left, bad places, and where it can be continued."""

import re
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from thresher.app.paths import bench_folder
from thresher.cli.interruptible import until_interrupted
from thresher.cli.output import say, say_json
from thresher.compose.entry import length_text
from thresher.drives.health import DriveStatus, places_to_try
from thresher.drives.reading import Drive, read_health, size_of
from thresher.drives.scan import BadPlace, ScanForm, ScanMap, ScanProgress, strokes_text
from thresher.drives.scan_process import ScanProcess
from thresher.drives.scan_worker import Order, Report, report_of, scan_here
from thresher.inventory.identity import serial_of
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.port import HandedOver, System
from thresher.shop.drive_history import keep_scan, kept_scan
from thresher.simulator.machine import SimulatedMachine

_PLACE = re.compile(r"(\d+(?:\.\d+)?)\s*([KMGT]i?B?|%|)", re.IGNORECASE)
_UNITS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40}
_WIDTH = 72
_MOST_LISTED = 12


@dataclass(frozen=True, slots=True)
class ScanWish:
    """What was typed; empty texts are the whole drive."""

    quick: bool = False
    begin: str = ""
    end: str = ""
    depth: int = 4
    go_on: bool = False
    anyway: bool = False
    shop: Path | None = None
    files: bool = False
    simulated: bool = False


def parse_place(text: str, size: int, option: str) -> int:
    """Return the byte of such as `100GiB`, `40%` or `0`, on whole MiB. Raises InputError."""
    match = _PLACE.fullmatch(text.strip())
    if match is None:
        raise InputError("scan", [InputFault(option, f"expected such as 100GiB or 40%, found {text!r}")])
    number, unit = float(match[1]), match[2][:1].upper()
    found = size * number / 100 if unit == "%" else number * _UNITS[unit]
    if found > size:
        raise InputError(
            "scan", [InputFault(option, f"the drive ends at {size / 2**30:.1f} GiB, found {text.strip()}")]
        )
    return int(found) >> 20 << 20


def scan_drive(system: System, drive: Drive, wish: ScanWish, json: bool) -> ScanProgress:
    """Scan a drive and print what it finds; return how far it came. Raises ThresherError."""
    health = read_health(system, drive)
    if health.status in (DriveStatus.COPY, DriveStatus.REPLACE) and not wish.anyway:
        why = "; ".join(sign.words for sign in health.signs[:2])
        remedy = "Copy the data off first; a long scan may be the end of it. --anyway scans all the same."
        raise EnvironmentFault(f"scanning {drive.part.place}", f"the drive is dying: {why}", remedy)
    shop = wish.shop or bench_folder(wish.simulated) / "shop"
    serial, model = serial_of(drive.part), drive.part.name
    kept = kept_scan(shop, model, serial) if serial else None
    order = _order(wish, size_of(system, drive), places_to_try(health, kept.bad if kept is not None else ()))
    if wish.go_on:
        if kept is None or kept.state is None:
            raise EnvironmentFault(f"scanning {drive.part.place}", "no scan of this drive was stopped", "Start one.")
        order = Order(state=kept.state, files=wish.files)
    last = _follow(system, drive, order, wish, json)
    progress = last.progress
    assert progress is not None
    if serial and last.state is not None:
        keep_scan(shop, model, serial, last.state, progress.share >= 1.0)
    _say_end(drive, last, progress, json)
    if not json:
        _say_places(progress.bad, last.places)
    return progress


def _order(wish: ScanWish, size: int, again: tuple[int, ...]) -> Order:
    begin = parse_place(wish.begin, size, "--from") if wish.begin else 0
    end = parse_place(wish.end, size, "--to") if wish.end else 0
    if end and end <= begin:
        raise InputError("scan", [InputFault("--to", "it ends where it begins, or before")])
    form = ScanForm.QUICK if wish.quick else ScanForm.RANGE if wish.begin or wish.end else ScanForm.THOROUGH
    return Order(form, begin, end, depth=wish.depth, again=again if wish.quick else (), files=wish.files)


def _follow(system: System, drive: Drive, order: Order, wish: ScanWish, json: bool) -> Report:
    """Carry the scan out and return its last report; Ctrl+C stops it in order."""
    last = Report()
    if isinstance(system, SimulatedMachine):
        scan = scan_here(order, system.open_blocks(f"/dev/{drive.part.place}"))
        scan.start()
        scan.join()
        return report_of(scan, ended=True)
    path = f"/dev/{drive.part.place}"
    opened = system.opened_blocks(path) if isinstance(system, HandedOver) else None
    process = ScanProcess(path, order, opened)
    try:
        for report in until_interrupted(process):
            if report is None:
                say(f"{drive.part.place}: no read has come back for a minute; the scan waits (Ctrl+C stops it)")
                continue
            last = report if report.progress is not None else last
            if report.progress is not None and not report.ended and not json:
                _say_progress(report.progress)
    finally:
        process.close()
    if last.progress is None:
        raise EnvironmentFault(f"scanning {drive.part.place}", "it ended before it began", "Try again.")
    return last


def _say_progress(progress: ScanProgress) -> None:
    left = f", {length_text(round(progress.left_s))} left" if progress.left_s is not None else ""
    rate = progress.read_bytes / max(progress.seconds, 1e-3) / 1e6
    bad = f", {len(progress.bad)} bad places" if progress.bad else ""
    line = f"{progress.share * 100:5.1f} %  {rate:6.0f} MB/s{left}{bad}"
    if sys.stdout.isatty():
        sys.stdout.write(f"\r{line:<78}")
        sys.stdout.flush()
    else:
        say(line)


def map_of(report: Report) -> ScanMap:
    """Return the map of a report."""
    made = ScanMap(report.size)
    made.slowest_ms[:] = [np.nan if value is None else value for value in report.slowest_ms]
    made.errors[:] = report.errors
    return made


def _say_end(drive: Drive, last: Report, progress: ScanProgress, json: bool) -> None:
    if json:
        say_json(
            {
                "name": drive.part.place,
                "progress": progress,
                "slowest_ms": last.slowest_ms,
                "errors": last.errors,
                "places": last.places,
            }
        )
        return
    if sys.stdout.isatty():
        say("")
    words = "scanned" if progress.share >= 1.0 else f"stopped at {progress.share * 100:.1f} %"
    rate = progress.read_bytes / max(progress.seconds, 1e-3) / 1e6
    much = f"{progress.read_bytes / 1e9:.2f} GB in {length_text(round(progress.seconds))}"
    say(f"{drive.part.place}: {words}, {much}, {rate:.0f} MB/s")
    say(f"    {strokes_text(map_of(last), _WIDTH)}")
    say("    each stroke as tall as the slowest read there, 1 ms to 2 s; × cannot be read; · not read")
    if progress.gone:
        say("    The drive dropped out during the scan.")
    for place in progress.bad[:_MOST_LISTED]:
        say(f"    cannot be read: {_place_words(place)}")
    if len(progress.bad) > _MOST_LISTED:
        say(f"    and {len(progress.bad) - _MOST_LISTED} more")
    if progress.slow:
        say(f"    {progress.slow} blocks took 150 ms and longer")
    if progress.retried:
        say(f"    {progress.retried} blocks failed at first and could be read in parts")
    if progress.share < 1.0:
        say("    --continue goes on there")


def _say_places(bad: tuple[BadPlace, ...], places: tuple[str, ...]) -> None:
    """Say which file lies at each bad place, as far as it was looked up."""
    for place, words in zip(bad, places, strict=False):
        say(f"    sector {place.offset // 512}: {words}")


def _place_words(place: BadPlace) -> str:
    sectors = place.length // 512
    return f"sector {place.offset // 512}" + (f" to {place.offset // 512 + sectors - 1}" if sectors > 1 else "")
