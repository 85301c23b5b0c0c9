"""Opening, reading and recovering job files.

`marks` holds everything that is not a reading, by kind: `tape` (a tape entry), `finding`, `block begins`,
`block checks` (from now on all workers check results), `block ends`, `gate opens`, `kernel` (a raw machine check),
`machine` (the inventory with its doubts), `baseline`, `distrust` (a channel that gave itself away), `use` (time of
everyday use that came with evidence from outside), and `taken back` and `use taken back` for evidence that was added
by hand and removed again.
"""

import logging
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TypeVar

import msgspec
import numpy as np
import numpy.typing as npt

from thresher.journal.canonical import CanonicalRow, outside_rows, run_rows
from thresher.journal.foreign import DAMAGE, all_say_damage, damage_of
from thresher.journal.lock import holder
from thresher.journal.opening import connect, connect_read_only, sentence_of
from thresher.journal.rows import (
    BROKEN_OFF,
    DRAFT,
    ENDING,
    ENDS,
    GOING_ON,
    KNOWN_WORDS,
    MOMENTS,
    ROOM,
    SEAL,
    SEALED_ROWS,
    SHEET_CHANGED,
    WRITTEN,
)
from thresher.model.channels import Baseline, Channel, Quantity
from thresher.model.checks import CheckResult, exposure_of_check
from thresher.model.decisions import NO_DECISIONS, Decisions
from thresher.model.endings import LastMoments, MachineEnding, findings_of_ending
from thresher.model.errors import EnvironmentFault
from thresher.model.exposure import exposures_of_readings, some_of
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import Inventory, PartInstance, PartKind
from thresher.model.regular_file import is_there
from thresher.model.run_states import Ending
from thresher.model.sheet import RunSheet
from thresher.model.sheet_changes import SheetChange
from thresher.model.trials import Book
from thresher.model.verdict import Exposure

T = TypeVar("T")
_LOG = logging.getLogger(__name__)

_NOT_FIELDS = ("part instances", "book of trials", "decisions", DRAFT, GOING_ON)
"""Rows of the table of fields that no person types."""


@dataclass(frozen=True, slots=True)
class StoredRun:
    """One run as the job file has it; `ending` is None while it is in progress or when nobody wrote its end."""

    number: int
    title: str
    sheet: RunSheet
    machine: Inventory
    channels: tuple[Channel, ...]
    simulated: bool
    boot_id: str
    began_at: float
    began_wall: float
    ended_at: float | None
    ending: Ending | None
    ending_detail: str | None


@dataclass(frozen=True, slots=True)
class Readings:
    """All ticks of a run: machine times (n) in seconds, Unix times (n), values (n, channels) with NaN for missing.

    Values are 32-bit, as the file holds them.
    """

    at: npt.NDArray[np.float64]
    wall: npt.NDArray[np.float64]
    values: npt.NDArray[np.float32]
    late: int


@dataclass(frozen=True, slots=True)
class BlockMark:
    """A block that began, when it ended if its end was written, and from when on all its workers checked results.

    `broken_off` when it came to no end in order.
    """

    index: int
    title: str
    load: str
    began_at: float
    ended_at: float | None
    checks_at: float | None = None
    broken_off: bool = False
    cpus: tuple[int, ...] = ()


def pack_reading(values: tuple[float | None, ...]) -> bytes:
    """Pack a tick's values as little-endian 32-bit floats, NaN for missing."""
    return np.array([np.nan if value is None else value for value in values], dtype="<f4").tobytes()


@dataclass(frozen=True, slots=True)
class JobSummary:
    """A job at a glance: its fields, how many runs and findings it has, and how the last run ended."""

    path: str
    fields: dict[str, str]
    runs: int
    findings: int
    last_ending: str


def create_job(path: Path, fields: dict[str, str]) -> None:
    """Make a new job file with its fields. Raises EnvironmentFault, also when the file is there already."""
    if is_there(path):
        raise EnvironmentFault(f"making the job file {path}", "it is there already", "Choose another name.")
    with closing(connect(path, create=True)) as connection:
        connection.executemany("INSERT INTO job VALUES (?, ?)", fields.items())


def summarise(path: Path) -> JobSummary:
    """Return a job at a glance. Raises EnvironmentFault or InputError."""
    return read_job(path, JobFile.summary)


def read_job(path: Path, read: Callable[["JobFile"], T]) -> T:
    """Open a job file read only and return what `read` makes of it. Raises EnvironmentFault or InputError."""
    try:
        with JobFile(path, read_only=True) as stored:
            return read(stored)
    except sqlite3.Error as error:
        raise EnvironmentFault(f"reading the job file {path}", sentence_of(error), "Nothing was changed.") from error


def _some_cores(machine: Inventory, cpus: tuple[int, ...]) -> tuple[int, ...]:
    """Return the cores of some logical CPUs, none where these are on all of them."""
    by_cpu = {cpu.cpu: cpu.core for cpu in machine.cpus}
    return some_of({by_cpu.get(cpu, cpu) for cpu in cpus}, machine.core_count)


@all_say_damage
class JobFile:
    """Read access to a job file, and the recovery of runs that nobody ended."""

    def __init__(self, path: Path, read_only: bool = False) -> None:
        """Open an existing job file; `read_only` changes nothing in it. Raises EnvironmentFault or InputError."""
        self.path = path
        self._readings: tuple[int, Readings] | None = None
        self._connection = connect_read_only(path) if read_only else connect(path, create=False)

    def __enter__(self) -> "JobFile":
        """Use as a context manager."""
        return self

    def __exit__(self, *_exc: object) -> None:
        """Close."""
        self.close()

    def close(self) -> None:
        """Close the file."""
        self._connection.close()

    def job(self) -> dict[str, str]:
        """Return the job's own fields, which a person set (`model.job.FIELDS`)."""
        rows = self._connection.execute("SELECT name, value FROM job WHERE name NOT IN (?, ?, ?, ?, ?)", _NOT_FIELDS)
        return {name: value for name, value in rows if not name.startswith(WRITTEN)}

    def summary(self) -> JobSummary:
        """Return the job at a glance."""
        (runs,) = self._connection.execute("SELECT count(*) FROM runs").fetchone()
        (findings,) = self._connection.execute(
            "SELECT (SELECT count(*) FROM marks WHERE kind = 'finding')"
            " - (SELECT count(*) FROM marks WHERE kind = 'taken back')"
        ).fetchone()
        last = self._connection.execute("SELECT ending FROM runs ORDER BY run DESC LIMIT 1").fetchone()
        return JobSummary(str(self.path), self.job(), runs, findings, (last[0] or "") if last else "")

    def part_instances(self) -> tuple[PartInstance, ...]:
        """Return the physical parts that the job has seen, with their tags."""
        found = self._connection.execute("SELECT value FROM job WHERE name = 'part instances'").fetchone()
        return () if found is None else msgspec.json.decode(found[0], type=tuple[PartInstance, ...])

    def book(self) -> Book | None:
        """Return the book of trials, None when none was kept."""
        found = self._connection.execute("SELECT value FROM job WHERE name = 'book of trials'").fetchone()
        return None if found is None else msgspec.json.decode(found[0], type=Book)

    def decisions(self) -> Decisions:
        """Return the verdicts that were locked, and the actual cause."""
        found = self._connection.execute("SELECT value FROM job WHERE name = 'decisions'").fetchone()
        return NO_DECISIONS if found is None else msgspec.json.decode(found[0], type=Decisions)

    def draft(self) -> RunSheet | None:
        """Return the run sheet that was being edited last, None when there was none."""
        found = self._connection.execute("SELECT value FROM job WHERE name = ?", (DRAFT,)).fetchone()
        return None if found is None else msgspec.json.decode(found[0], type=RunSheet)

    def going_on(self) -> str:
        """Return what goes on by itself after a sudden end, as the engine wrote it; empty when nothing does."""
        found = self._connection.execute("SELECT value FROM job WHERE name = ?", (GOING_ON,)).fetchone()
        return "" if found is None else str(found[0])

    def known_words(self) -> tuple[str, ...]:
        """Return the files of the kernel's last words that were there when the job was opened last."""
        query = "SELECT body FROM marks WHERE kind = ? ORDER BY mark DESC LIMIT 1"
        found = self._connection.execute(query, (KNOWN_WORDS,)).fetchone()
        return () if found is None else msgspec.json.decode(found[0], type=tuple[str, ...])

    def changes(self, run: StoredRun) -> list[SheetChange]:
        """Return what was changed on a run's sheet while it was carried out, oldest first."""
        return [msgspec.json.decode(body, type=SheetChange) for _, body in self._marks(run.number, SHEET_CHANGED)]

    def machine(self) -> Inventory | None:
        """Return the machine as it was seen last under this job, None when the job file is older than that."""
        found = self._connection.execute(
            "SELECT body FROM marks WHERE kind = 'machine' ORDER BY mark DESC LIMIT 1"
        ).fetchone()
        if found is not None:
            return msgspec.json.decode(found[0], type=Inventory)
        runs = self.runs()
        return runs[-1].machine if runs else None

    def baseline(self) -> Baseline | None:
        """Return the idle readings that were taken last, None when none were."""
        found = self._connection.execute(
            "SELECT body FROM marks WHERE kind = 'baseline' ORDER BY mark DESC LIMIT 1"
        ).fetchone()
        return None if found is None else msgspec.json.decode(found[0], type=Baseline)

    def runs(self) -> list[StoredRun]:
        """Return all runs, oldest first."""
        rows = self._connection.execute(
            "SELECT run, title, sheet, machine, channels, simulated, boot_id, began_at, began_wall, ended_at, ending,"
            " ending_detail FROM runs ORDER BY run"
        )
        return [
            StoredRun(
                row[0],
                row[1],
                msgspec.json.decode(row[2], type=RunSheet),
                msgspec.json.decode(row[3], type=Inventory),
                self._with_distrust(row[0], msgspec.json.decode(row[4], type=tuple[Channel, ...])),
                bool(row[5]),
                row[6],
                row[7],
                row[8],
                row[9],
                None if row[10] is None else Ending(row[10]),
                row[11],
            )
            for row in rows.fetchall()
        ]

    def _with_distrust(self, run: int, channels: tuple[Channel, ...]) -> tuple[Channel, ...]:
        """Return a run's channels with those marked that gave themselves away while it ran."""
        marks = (msgspec.json.decode(body, type=dict[str, str]) for _, body in self._marks(run, "distrust"))
        why = {mark["channel"]: mark["why"] for mark in marks}
        return tuple(replace(each, distrust=each.distrust or why.get(each.key, "")) for each in channels)

    def readings(self, run: StoredRun) -> Readings:
        """Return all ticks of a run; those asked for last are kept, since a report asks many times."""
        if self._readings is not None and self._readings[0] == run.number:
            return self._readings[1]
        with closing(
            self._connection.execute(
                "SELECT at, wall, late, reading FROM ticks WHERE run = ? ORDER BY at", (run.number,)
            )
        ) as cursor:
            rows = cursor.fetchall()
        width = len(run.channels)
        if all(len(row[3]) == 4 * width for row in rows):
            values = np.frombuffer(b"".join(row[3] for row in rows), dtype="<f4").reshape(len(rows), width)
        else:
            values = np.full((len(rows), width), np.nan, dtype=np.float32)
            for index, (_at, _wall, _late, blob) in enumerate(rows):
                packed = np.frombuffer(blob, dtype="<f4", count=len(blob) // 4)
                values[index, : len(packed)] = packed[:width]
        found = Readings(
            np.array([row[0] for row in rows], dtype=np.float64),
            np.array([row[1] for row in rows], dtype=np.float64),
            values,
            sum(row[2] for row in rows),
        )
        self._readings = (run.number, found)
        return found

    def _marks(self, run: int, kind: str) -> list[tuple[float, str]]:
        return self._connection.execute(
            "SELECT at, body FROM marks WHERE run = ? AND kind = ? ORDER BY mark", (run, kind)
        ).fetchall()

    def findings(self, run: StoredRun) -> list[Finding]:
        """Return the findings of a run in the order they came."""
        found = (msgspec.json.decode(body, type=Finding) for _, body in self._marks(run.number, "finding"))
        of_end = (each for ending in self.endings() if ending.run == run.number for each in findings_of_ending(ending))
        return [replace(each, run=run.number) for each in (*found, *of_end)]

    def findings_outside(self) -> list[Finding]:
        """Return the findings that belong to no run, without those that were undone again."""
        of_end = (each for ending in self.endings() if not ending.run for each in findings_of_ending(ending))
        return [*self._kept("finding", "taken back", Finding), *of_end]

    def endings(self) -> list[MachineEnding]:
        """Return how runs that nobody ended came to their end, oldest first; of each what was judged last."""
        judged: dict[tuple[str, float], MachineEnding] = {}
        for (body,) in self._connection.execute("SELECT body FROM marks WHERE kind = ? ORDER BY mark", (ENDING,)):
            ending = msgspec.json.decode(body, type=MachineEnding)
            judged[ending.boot_id, ending.at] = ending
        return list(judged.values())

    def unjudged_moments(self, run: StoredRun) -> LastMoments | None:
        """Return the last moments of a run whose end was looked into and not judged, because that was cut short too."""
        if any(each.run == run.number for each in self.endings()):
            return None
        marks = self._marks(run.number, MOMENTS)
        return msgspec.json.decode(marks[-1][1], type=LastMoments) if marks else None

    def last_moments(self, ending: MachineEnding) -> LastMoments | None:
        """Return the last rows of the black box before an end, None when none were kept."""
        row = self._connection.execute(
            "SELECT body FROM marks WHERE kind = ? AND at = ? ORDER BY mark DESC LIMIT 1", (MOMENTS, ending.at)
        ).fetchone()
        return None if row is None else msgspec.json.decode(row[0], type=LastMoments)

    def exposures_outside(self) -> list[Exposure]:
        """Return the time of use that was added together with evidence from outside."""
        return self._kept("use", "use taken back", Exposure)

    def _kept(self, kind: str, taken_back: str, type_: type[T]) -> list[T]:
        """Return the marks of a kind outside of runs, less those that a later mark takes back."""
        rows = self._connection.execute(
            "SELECT kind, body FROM marks WHERE run IS NULL AND kind IN (?, ?) ORDER BY mark", (kind, taken_back)
        )
        kept: list[T] = []
        for reported, body in rows:
            value = msgspec.json.decode(body, type=type_)
            if reported == kind:
                kept.append(value)
            elif value in kept:
                kept.remove(value)
        return kept

    def room_c(self, run: StoredRun) -> float | None:
        """Return the room temperature in °C that a person typed in for a run last, None where nobody did."""
        typed = self._marks(run.number, ROOM)
        return msgspec.json.decode(typed[-1][1], type=dict[str, float]).get("celsius") if typed else None

    def tape(self, run: StoredRun) -> list[TapeEntry]:
        """Return the tape of a run, oldest first."""
        return [msgspec.json.decode(body, type=TapeEntry) for _, body in self._marks(run.number, "tape")]

    def check_results(self, run: StoredRun) -> list[CheckResult]:
        """Return the results of the component checks of a run, in their order."""
        return [msgspec.json.decode(body, type=CheckResult) for _, body in self._marks(run.number, "check result")]

    def blocks(self, run: StoredRun) -> list[BlockMark]:
        """Return the blocks that began in a run."""
        ended = [(at, msgspec.json.decode(body, type=dict[str, object])) for at, body in self._marks(run.number, ENDS)]
        ends = {fields["index"]: at for at, fields in ended}
        broken = {fields["index"] for _, fields in ended if fields.get("how") == BROKEN_OFF}
        checks = {
            msgspec.json.decode(body, type=dict[str, int])["index"]: at
            for at, body in self._marks(run.number, "block checks")
        }
        blocks = []
        for at, body in self._marks(run.number, "block begins"):
            fields = msgspec.json.decode(body, type=dict[str, object])
            index = int(str(fields["index"]))
            title, load, unended = str(fields["title"]), str(fields["load"]), index not in ends
            cpus = msgspec.convert(fields.get("cpus", ()), tuple[int, ...])
            off = unended or index in broken
            blocks.append(BlockMark(index, title, load, at, ends.get(index), checks.get(index), off, cpus))
        return blocks

    def exposures(self, run: StoredRun) -> list[Exposure]:
        """Return the time under load of a run by block and temperature, summed up from its ticks.

        The temperature is that of the hottest processor channel, as the engine takes it.
        """
        readings = self.readings(run)
        hot = [
            index
            for index, channel in enumerate(run.channels)
            if channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR and not channel.distrust
        ]
        hottest = np.fmax.reduce(readings.values[:, hot], axis=1) if hot else np.full(len(readings.at), np.nan)
        exposures = []
        for block in self.blocks(run):
            begin = block.began_at if block.checks_at is None else block.checks_at
            inside = (readings.at >= begin) & (readings.at <= (block.ended_at or np.inf))
            rows = (
                (float(at), None if np.isnan(temperature) else float(temperature))
                for at, temperature in zip(readings.at[inside], hottest[inside], strict=True)
            )
            minutes = exposures_of_readings(run.number, block.index, block.load, rows)
            broken = block.broken_off and run.ending is not None
            cores = _some_cores(run.machine, block.cpus)
            exposures += [replace(each, broken_off=broken, cores=cores) for each in minutes]
        passed = (exposure_of_check(result) for result in self.check_results(run))
        return exposures + [each for each in passed if each is not None]

    def finding_codes(self) -> list[str]:
        """Return the fault codes of all findings."""
        query = "SELECT DISTINCT json_extract(body, '$.code') FROM marks WHERE kind = 'finding' ORDER BY 1"
        return [str(code) for (code,) in self._connection.execute(query) if code]

    def entry_texts(self) -> list[str]:
        """Return the text of every entry on the tape and of every finding, as it is stored."""
        query = "SELECT body FROM marks WHERE kind IN ('tape', 'finding')"
        return [body for (body,) in self._connection.execute(query)]

    def last_mark(self) -> int:
        """Return the number of the newest mark that is not of a seal, 0 without one."""
        query = "SELECT max(mark) FROM marks WHERE kind NOT IN (?, ?)"
        (newest,) = self._connection.execute(query, (SEAL, SEALED_ROWS)).fetchone()
        return int(newest or 0)

    def entries_after(self, mark: int) -> int:
        """Return how many entries came after a mark, without those that only say that the job was opened or sealed."""
        query = "SELECT count(*) FROM marks WHERE mark > ? AND kind NOT IN (?, ?, ?, 'machine')"
        (count,) = self._connection.execute(query, (mark, SEAL, SEALED_ROWS, KNOWN_WORDS)).fetchone()
        return int(count)

    def canonical_rows(self, run: int, last_mark: int) -> Iterator[CanonicalRow]:
        """Yield the rows of a run (0: what belongs to none) up to a mark, as a seal covers them."""
        try:
            yield from run_rows(self._connection, run, last_mark) if run else outside_rows(self._connection, last_mark)
        except DAMAGE as error:  # the rows come one by one, after this method has returned
            raise damage_of(self, "rows", error) from error

    def seals(self, type_: type[T]) -> list[T]:
        """Return the seals of the job, oldest first."""
        rows = self._connection.execute("SELECT body FROM marks WHERE kind = ? ORDER BY mark", (SEAL,))
        return [msgspec.json.decode(body, type=type_) for (body,) in rows]

    def sealed_rows(self) -> dict[int, bytes]:
        """Return for each sealed run the first four bytes of the digest of each of its rows, one after the other."""
        rows = self._connection.execute("SELECT body FROM marks WHERE kind = ? ORDER BY mark", (SEALED_ROWS,))
        found: dict[int, bytes] = {}
        for (body,) in rows:
            run, marks = msgspec.json.decode(body, type=tuple[int, bytes])
            found.setdefault(run, marks)
        return found

    def last_tick_at(self, run: StoredRun) -> float | None:
        """Return the machine time of a run's last row, None when it has none."""
        last = self.last_tick(run)
        return None if last is None else last[0]

    def last_tick(self, run: StoredRun) -> tuple[float, float] | None:
        """Return machine time and Unix time of a run's last row, None when it has none."""
        row = self._connection.execute(
            "SELECT at, wall FROM ticks WHERE run = ? ORDER BY at DESC LIMIT 1", (run.number,)
        ).fetchone()
        return None if row is None else (float(row[0]), float(row[1]))

    def interruption(self, run: StoredRun) -> str | None:
        """Say how far a run that nobody ended got, or return None for a run that was ended.

        While another program has the job open, such a run is in progress there.
        """
        if run.ending is not None:
            return None
        by = holder(self.path)
        return self._how_far(run, f"in progress ({by} has the job open) and has come to") if by else self._how_far(run)

    def _how_far(self, run: StoredRun, state: str = "interrupted after") -> str:
        last = self.last_tick_at(run)
        lasted = 0.0 if last is None else last - run.began_at
        running = [block.title for block in self.blocks(run) if block.ended_at is None]
        what = f"while {' and '.join(running)} ran" if running else "while no load ran"
        return f"{state} {lasted:.0f} s, {what}"

    def recover(self) -> list[str]:
        """End every run that nobody ended as interrupted, and return a sentence for each."""
        sentences = []
        for run in self.runs():
            if run.ending is not None:
                continue
            sentence = self._how_far(run)
            ended_at = self.last_tick_at(run) or run.began_at
            self._connection.execute(
                "UPDATE runs SET ended_at = ?, ending = ?, ending_detail = ? WHERE run = ?",
                (ended_at, Ending.INTERRUPTED.value, sentence, run.number),
            )
            sentences.append(f"Run {run.number}, {run.title}: {sentence}")
        return sentences
