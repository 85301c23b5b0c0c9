"""`thresher drive load`: the verified load of one drive, followed on the terminal."""

import os
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from thresher.app.paths import bench_folder
from thresher.cli.interruptible import until_interrupted
from thresher.cli.output import say, say_json
from thresher.compose.entry import EntryError, length_text, parse_amount, parse_length
from thresher.drives.health import DriveStatus
from thresher.drives.reading import Drive, read_health
from thresher.drives.scratch import Scratch, ScratchPlan, ScratchProgress, timing_words
from thresher.drives.scratch_choice import ScratchWish, blocks_of, choose_place
from thresher.drives.scratch_process import ScratchProcess
from thresher.drives.scratch_worker import ScratchOrder
from thresher.machine.scratch_file import scratch_name
from thresher.model.errors import EnvironmentFault, InputError, InputFault, SourceUnavailable
from thresher.model.port import BlockOpener, System
from thresher.shop.scratch_files import forget_scratch_file, note_scratch_file, remove_scratch_files

_SIMULATED = ScratchPlan(512, 4096, depths=(1,))
_MOST_LISTED = 8


@dataclass(frozen=True, slots=True)
class LoadWish:
    """What was typed."""

    seconds: str
    size: str
    folder: str
    anyway: bool
    shop: Path | None
    simulated: bool


def load_drive(system: System, drive: Drive, wish: LoadWish, json: bool) -> ScratchProgress:
    """Load a drive and print what comes of it. Raises ThresherError."""
    name = drive.part.place
    try:
        seconds, (_, amount) = parse_length(wish.seconds), parse_amount(wish.size)
    except EntryError as error:
        raise InputError("drive load", [InputFault("--for or --size", str(error))]) from error
    health = read_health(system, drive)
    if health.status in (DriveStatus.COPY, DriveStatus.REPLACE) and not wish.anyway:
        why = "; ".join(sign.words for sign in health.signs[:2])
        remedy = "Copy the data off first. --anyway loads it all the same."
        raise EnvironmentFault(f"loading {name}", f"the drive is dying: {why}", remedy)
    wanted = ScratchWish(wish.folder, amount)
    if isinstance(system, BlockOpener):
        scale = (amount or 1 << 32) / _SIMULATED.size
        scratch = Scratch(_SIMULATED, system.open_scratch(f"/dev/{name}", scale), scale)
        scratch.advance(seconds)
        last = scratch.progress()
    else:
        last = _follow(drive, wanted, seconds, wish.shop or bench_folder(wish.simulated) / "shop", json)
    _say_end(name, last, json)
    return last


def _follow(drive: Drive, wish: ScratchWish, seconds: float, shop: Path, json: bool) -> ScratchProgress:
    name = drive.part.place
    for sentence in remove_scratch_files(shop):
        if not json:
            say(sentence)
    try:
        place = choose_place(name, wish)
    except SourceUnavailable as error:
        raise EnvironmentFault(
            f"loading {name}", error.reason, "Mount a file system of it, or name a folder."
        ) from error
    blocks = blocks_of(wish, place.room)
    path = f"{place.folder.rstrip('/')}/{scratch_name(os.urandom(8))}"
    note_scratch_file(shop, path)
    plan = ScratchPlan(blocks, seed=int.from_bytes(os.urandom(6), "little") or 1)
    if not json:
        say(f"{name}: scratch file of {plan.size / (1 << 30):.1f} GiB in {place.folder}, {place.mount.kind}")
    process = ScratchProcess(ScratchOrder(path, plan))
    last = ScratchProgress(0, 0, 0, 0.0)
    until = time.monotonic() + seconds
    try:
        for report in until_interrupted(process):
            if report is not None and report.progress is not None:
                last = report.progress
                if not json and not report.ended:
                    _say_progress(last, until - time.monotonic())
            if time.monotonic() >= until:
                process.stop()
    except SourceUnavailable as error:
        raise EnvironmentFault(f"loading {name}", error.reason, "Choose another folder or a smaller file.") from error
    finally:
        process.close(lambda: forget_scratch_file(shop, path))
    return last


def _say_progress(progress: ScratchProgress, left: float) -> None:
    wrong = f", {progress.wrong_count} blocks wrong" if progress.wrong_count else ""
    rate = f"{progress.rate_now / 1e6:6.0f} MB/s"
    line = f"{rate}  {progress.compared / 1e9:.2f} GB compared{wrong}, {length_text(max(0, round(left)))} left"
    if sys.stdout.isatty():
        sys.stdout.write(f"\r{line:<78}")
        sys.stdout.flush()
    elif int(left) % 10 == 0:
        say(line)


def _say_end(name: str, last: ScratchProgress, json: bool) -> None:
    if json:
        say_json({"name": name, "progress": last})
        return
    if sys.stdout.isatty():
        say("")
    found = f"{last.wrong_count} blocks wrong" if last.wrong_count else "all of it as it was written"
    say(f"{name}: {last.written / 1e9:.2f} GB written, {last.compared / 1e9:.2f} GB read back and compared, {found}")
    say(f"    {timing_words(last.timings)}")
    for timing in last.timings:
        if timing.stalls:
            longest = f"the longest {timing.longest_ms / 1000:.1f} s"
            say(f"    {timing.stalls} times a {timing.what} took over {timing.stall_s:.0f} s, {longest}")
    for wrong in last.wrong[:_MOST_LISTED]:
        say(f"    wrong at byte {wrong.offset} of the file: {wrong.nature.value}; {wrong.words}")
    for failure in last.failures[:_MOST_LISTED]:
        say(f"    {failure.what} failed at byte {failure.offset} of the file: {os.strerror(failure.error)}")
    if last.over:
        say(f"    ended: {last.over}")
