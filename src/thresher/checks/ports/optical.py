"""An optical drive: what disc is in it, and how fast and how whole it reads all over."""

import re
import threading
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import TypeVar

from thresher.checks.check import Check, CheckBench, CheckSteps, Steps, ask, beside, let_go, pause, progress
from thresher.drives.fields import DamagedPage
from thresher.drives.optical import (
    BECOMING_READY,
    HARDWARE_ERROR,
    NO_DISC,
    NOT_READY,
    Disc,
    PlaceRead,
    places,
    read_place,
    read_structure,
)
from thresher.model.checks import CheckResult, Figure, Need
from thresher.model.drive_commands import DISC_BLOCK, DrivePort, NoAnswer, Refused
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.questions import Choice, Question

Work = TypeVar("Work")
_BLOCK = "/sys/block"
_SPIN_UP_S = 3.0
_TRIES = 8
_INSERT = Question(
    "Optical drive",
    "Put a clean disc with data into the drive and close it",
    (
        Choice("D", "done", "It is in"),
        Choice("X", "stuck", "The tray does not move"),
        Choice("N", "none", "No disc here"),
    ),
    "A pressed disc is the fairest test; a burnt one may be old.",
    at_most_s=300.0,
)


def _run(bench: CheckBench) -> CheckSteps:
    names = yield from beside(lambda: [each for each in bench.system.list(_BLOCK) if re.fullmatch(r"sr\d+", each)])
    if not names:
        return (CHECK.unclear("this machine has no optical drive"),)
    results: list[CheckResult] = []
    for name in names:
        result = yield from _one(bench, name)
        results.append(result)
    return tuple(results)


def _one(bench: CheckBench, name: str) -> Steps[CheckResult]:
    if not bench.attended:
        return CHECK.nobody("to put a disc in")
    answer = yield from ask(_INSERT)
    if answer is None or answer.word == "none":
        return CHECK.unclear("no disc was put in", place=name)
    if answer.word == "stuck":
        return CHECK.failed("the tray does not move", place=name)
    port: DrivePort | None = None
    reading = threading.Lock()

    def close(opened: DrivePort) -> None:
        with reading:  # a check that is stopped leaves a reading behind; the drive is closed after it
            opened.close()

    try:
        port = yield from beside(lambda: bench.system.open_drive(f"/dev/{name}"), close)
        disc = yield from _disc(port, reading)
        if isinstance(disc, CheckResult):
            return replace(disc, place=name)
        if disc.music:
            return CHECK.unclear("this is an audio disc: insert a data disc", place=name)
        return (yield from _read(port, disc, name, reading))
    except NoAnswer as error:
        return CHECK.failed(error.reason, place=name)
    except (SourceUnavailable, DamagedPage) as error:
        return CHECK.unclear(str(error), place=name)
    finally:
        if port is not None:
            let_go(partial(close, port))


def _disc(port: DrivePort, reading: threading.Lock) -> Steps[Disc | CheckResult]:
    """Return the disc once the drive has spun it up."""
    for _ in range(_TRIES):
        yield from progress("looking at the disc", 0.0)
        try:
            return (yield from beside(lambda: _alone(reading, lambda: read_structure(port))))
        except Refused as error:
            if error.key == HARDWARE_ERROR:
                return CHECK.failed(f"the drive reports a fault of its own: {error.reason}")
            if error.key != NOT_READY or error.code not in (BECOMING_READY, NO_DISC):
                return CHECK.failed(f"the drive cannot identify the disc: {error.reason}")
        yield from pause(_SPIN_UP_S)
    return CHECK.failed("the drive does not detect the disc")


def _read(port: DrivePort, disc: Disc, name: str, reading: threading.Lock) -> Steps[CheckResult]:
    seen: list[PlaceRead] = []
    wanted = places(disc.blocks)
    for number, first in enumerate(wanted):
        yield from progress(f"reading place {number + 1} of {len(wanted)}", number / len(wanted))
        place = partial(read_place, port, disc, first)
        seen.append((yield from beside(partial(_alone, reading, place))))
        trouble = seen[-1].trouble
        if isinstance(trouble, NoAnswer) or (isinstance(trouble, Refused) and trouble.key == HARDWARE_ERROR):
            return CHECK.failed(
                f"the drive stopped responding at place {number + 1}: {trouble.reason}",
                *_figures(disc, seen),
                place=name,
            )
    return _judge(disc, seen, name)


def _alone(lock: threading.Lock, work: Callable[[], Work]) -> Work:
    with lock:
        return work()


def _figures(disc: Disc, seen: list[PlaceRead]) -> tuple[Figure, ...]:
    best = max((each.mb_s for each in seen), default=0.0)
    size = disc.blocks * DISC_BLOCK / 1e6
    named = f"{disc.kind} {disc.name}".strip()
    tracks = "1 track" if disc.tracks == 1 else f"{disc.tracks} tracks"
    speed = Figure("speed at best", best, "MB/s", disc.single_mb_s, None, "single speed of this kind (MMC-6)")
    unread = Figure("places that cannot be read", float(sum(each.trouble is not None for each in seen)), "", None, 0.0)
    return Figure("disc", words=f"{named}, {size:.0f} MB, {tracks}"), speed, unread


def _judge(disc: Disc, seen: list[PlaceRead], name: str) -> CheckResult:
    figures = _figures(disc, seen)
    failed = [each.trouble for each in seen if each.trouble is not None]
    if len(failed) == len(seen):
        return CHECK.failed("the drive cannot read any of the disc", *figures, place=name)
    if failed:
        words = f"{len(failed)} of {len(seen)} places cannot be read: a scratch, or the drive. Try another disc"
        return CHECK.unclear(words, *figures, place=name)
    if not figures[1].within:
        return CHECK.failed("slower than single speed: it reads most of it more than once", *figures, place=name)
    return CHECK.passed(f"all {len(seen)} places read, at up to {figures[1].value:.1f} MB/s", *figures, place=name)


CHECK = Check(
    name="optical drive",
    row=PartKind.DRIVE,
    about=(
        "A disc is read at forty places from its first block to its last. A drive whose laser tires reads slowly or not"
        " at all at the outer edge first; one place that fails is more likely a scratch."
    ),
    finds="drives that do not detect a disc, cannot read it, or read slowly",
    misses="writing, and kinds of discs other than the one put in",
    usual_s=60.0,
    run=_run,
    parts=(PartKind.DRIVE,),
    needs=(Need.PERSON, Need.DISC, Need.RIGHTS),
    kind=FindingKind.OPTICAL_BAD,
    code="D-370",
    worth_min=20.0,
    built_in=BuiltInKind.OPTICAL,
)
