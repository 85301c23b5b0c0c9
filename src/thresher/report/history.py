"""A machine when it comes back: its visits, what was found, done and proved, how its readings have moved, its parts."""

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TypeVar

import numpy as np

from thresher.inventory.identity import machine_key, serial_of
from thresher.journal.jobfile import JobFile, StoredRun, read_job
from thresher.model.channels import watched_temperatures
from thresher.model.checks import CheckOutcome
from thresher.model.decisions import culprit_words
from thresher.model.errors import ThresherError
from thresher.model.job import JOB_FILE_ENDING, parse_complaints
from thresher.model.parts import Inventory, Part, PartKind
from thresher.model.regular_file import is_file
from thresher.model.trials import EMPTY_BOOK
from thresher.report.handover import seen_in
from thresher.report.proof import proof_of
from thresher.shop.check_history import FORMAT as CHECKS_FORMAT
from thresher.shop.check_history import CheckHistory, history_path
from thresher.shop.drive_history import FORMAT as DRIVE_FORMAT
from thresher.shop.drive_history import DriveFile, drive_path
from thresher.shop.store import MachineFile, Visit, read_file, read_machine

T = TypeVar("T")
_STEADY_S = 300.0
_MOST_TRENDS = 12


@dataclass(frozen=True, slots=True)
class PastVisit:
    """One visit: when (Unix time), under which job, and in words why it came, what was found, done and proved.

    `path` is empty when the job file is not on this bench any more, `trouble` says why it cannot be read.
    """

    wall: float
    number: str
    job: str
    path: str
    came_with: str = ""
    found: str = ""
    done: str = ""
    cause: str = ""
    proved: str = ""
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Trend:
    """One quantity over the visits: title, unit, and its points as Unix time and value, oldest first."""

    title: str
    unit: str
    points: tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class MachineHistory:
    """All that is known of a machine from before; `moved` are parts that were seen in other machines, in words."""

    visits: tuple[PastVisit, ...] = ()
    trends: tuple[Trend, ...] = ()
    moved: tuple[str, ...] = ()
    troubles: tuple[str, ...] = ()


def history_of(job: Path, shop: Path) -> MachineHistory:
    """Return the history of the machine of a job, newest visit first. Raises InputError, EnvironmentFault."""
    machine = read_job(job, JobFile.machine)
    if machine is None:
        return MachineHistory(troubles=("The job holds no machine yet.",))
    key = machine_key(machine)
    if key is None:
        reason = "Nothing identifies this machine (no serial number, no UUID): earlier visits cannot be found."
        return MachineHistory(troubles=(reason,))
    troubles: list[str] = []
    file = _or_trouble(lambda: read_machine(shop, key), MachineFile(), troubles)
    hot: dict[str, list[tuple[float, float]]] = defaultdict(list)
    visits = [_visit(each, job, hot) for each in sorted(file.visits, key=lambda each: each.wall)]
    trends = [Trend(f"Hottest CPU under {load}", "°C", tuple(points)) for load, points in sorted(hot.items())]
    trends += _drive_trends(machine, shop, troubles)
    trends += _check_trends(shop, key, troubles)
    long = [each for each in trends if len(each.points) >= 2][:_MOST_TRENDS]
    moved = tuple(_moved(machine, shop, key, troubles))
    return MachineHistory(tuple(reversed(visits)), tuple(long), moved, tuple(troubles))


def _or_trouble(read: Callable[[], T], otherwise: T, troubles: list[str]) -> T:
    try:
        return read()
    except ThresherError as error:
        troubles.append(str(error))
        return otherwise


def _visit(visit: Visit, job: Path, hot: dict[str, list[tuple[float, float]]]) -> PastVisit:
    name = visit.job if visit.job.endswith(JOB_FILE_ENDING) else f"{visit.job}{JOB_FILE_ENDING}"
    path = job.parent / name
    if not is_file(path):
        return PastVisit(visit.wall, visit.number, visit.job, "", trouble="its job file is not on this bench")
    try:
        return read_job(path, lambda stored: _read_visit(stored, visit, path, hot))
    except ThresherError as error:
        return PastVisit(visit.wall, visit.number, visit.job, str(path), trouble=str(error))


def _read_visit(stored: JobFile, visit: Visit, path: Path, hot: dict[str, list[tuple[float, float]]]) -> PastVisit:
    runs, book, decisions = stored.runs(), stored.book() or EMPTY_BOOK, stored.decisions()
    complaints = parse_complaints(stored.job().get("symptoms", ""))
    words = " ".join(stored.job().get("words", "").split())
    actual = decisions.actual_cause
    cause = ""
    if actual is not None:
        cause = ", ".join(culprit_words(each) for each in actual.culprits) or "nothing faulty in the hardware"
    proof = proof_of(stored, runs, book)
    for load, celsius in _steady(stored, runs).items():
        hot[load].append((visit.wall, celsius))
    return PastVisit(
        visit.wall,
        visit.number,
        visit.job,
        str(path),
        ", ".join(each.text for each in complaints) or words[:80],
        seen_in(stored, runs),
        "; ".join(trial.title for trial in book.trials[1:] if trial.kept),
        cause,
        proof.sentence if runs else "",
    )


def _steady(stored: JobFile, runs: Iterable[StoredRun]) -> dict[str, float]:
    """Return by load the hottest processor reading's mean over the last five minutes of its last long block, in °C."""
    found: dict[str, float] = {}
    for run in runs:
        hot = watched_temperatures(run.channels)
        blocks = [each for each in stored.blocks(run) if each.ended_at is not None]
        for block in blocks:
            end = block.ended_at or block.began_at
            if not hot or end - block.began_at < 2 * _STEADY_S:
                continue
            readings = stored.readings(run)
            inside = (readings.at >= end - _STEADY_S) & (readings.at <= end)
            rows = readings.values[inside][:, hot]
            if rows.size and np.isfinite(rows).any():
                found[block.load] = float(np.nanmean(np.nanmax(np.where(np.isfinite(rows), rows, np.nan), axis=1)))
    return found


def _drive_trends(machine: Inventory, shop: Path, troubles: list[str]) -> list[Trend]:
    trends = []
    for part in machine.parts_of(PartKind.DRIVE):
        serial = serial_of(part)
        if not serial:
            continue
        path = drive_path(shop, part.name, serial)
        file = _or_trouble(partial(read_file, path, DriveFile, DRIVE_FORMAT), None, troubles)
        counts: dict[str, list[tuple[float, float]]] = defaultdict(list)
        for visit in file.visits if file is not None else ():
            for name, value in visit.counts.items():
                counts[name].append((visit.wall, float(value)))
        moving = {name: points for name, points in counts.items() if len({value for _, value in points}) > 1}
        trends += [Trend(f"{part.name}: {name}", "", tuple(points)) for name, points in sorted(moving.items())]
    return trends


def _check_trends(shop: Path, key: str, troubles: list[str]) -> list[Trend]:
    """Return how the figures of checks have moved that came to an answer more than once: battery, fans, rates."""
    path = history_path(shop, key)
    kept = _or_trouble(lambda: read_file(path, CheckHistory, CHECKS_FORMAT), None, troubles)
    figures: dict[tuple[str, str], list[tuple[float, float]]] = defaultdict(list)
    for result in kept.results if kept is not None else ():
        if result.row is not PartKind.BATTERY or result.outcome not in (CheckOutcome.PASS, CheckOutcome.FAIL):
            continue
        for figure in result.figures:
            if figure.value is not None:
                figures[f"{result.title}: {figure.name}", figure.unit].append((result.wall, figure.value))
    return [Trend(title, unit, tuple(points)) for (title, unit), points in sorted(figures.items())]


def _moved(machine: Inventory, shop: Path, key: str, troubles: list[str]) -> Iterable[str]:
    """Yield parts of this machine that were seen in another one, and parts that others have now."""
    mine = {(part.kind, serial): part for part in machine.parts if (serial := serial_of(part))}
    for path in sorted((shop / "machines").glob("*.json")):
        if path.stem == key or path.name.endswith(".checks.json"):
            continue
        file = _or_trouble(partial(read_machine, shop, path.stem), MachineFile(), troubles)
        last: dict[tuple[PartKind, str], tuple[Visit, Part]] = {}
        for visit in file.visits:
            for part in visit.parts:
                last[part.kind, serial_of(part)] = visit, part
        for known, (visit, part) in last.items():
            if known in mine:
                name = file.name or "another machine"
                job = visit.number or visit.job
                yield f"{part.kind.word} {part.name}, serial {known[1]}, was in {name} (job {job})"
