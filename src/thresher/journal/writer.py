"""Writing a job file while a run is in progress: on a thread of its own, each tick committed durably.

A slow drive delays neither sampling nor stopping. What cannot be written waits in memory, and all of it but the
readings also in a file beside the job (`rescue.py`); it is written when the drive takes it again, and `health` says
so meanwhile.
"""

import contextlib
import queue
import sqlite3
import threading
import time
from collections import deque
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.journal.jobfile import pack_reading
from thresher.journal.lock import acquire
from thresher.journal.opening import connect, sentence_of
from thresher.journal.rescue import (
    ROW_ERRORS,
    PutBack,
    is_reading,
    keep_elsewhere,
    keep_refused,
    make_rescue_file,
    new_writing,
    put_back,
    written_mark,
)
from thresher.journal.rows import DRAFT, GOING_ON, STATEMENTS, Row, Value, Write
from thresher.model.channels import Channel, Tick
from thresher.model.decisions import Decisions
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import Inventory, PartInstance
from thresher.model.sheet import RunSheet
from thresher.model.trials import Book

MOST_WAITING = 50_000
"""Statements kept in memory at most while the file cannot be written: more than a night of ticks at 1 s."""

_RETRY_S = 0.5


@dataclass(frozen=True, slots=True)
class JournalHealth:
    """How writing goes: rows that wait, seconds since the last row reached the disk, and what is wrong if anything.

    `stalled_s` is for how long the drive has been busy with the rows that it was given last, 0 when it is not.
    `reserved` says whether room is set aside for the end of a run. `refused` rows are such as the job file does not
    take at all, for the reason `why_refused`; they are in `refused_in` if that could be written.
    """

    waiting: int
    age_s: float | None
    trouble: str | None
    stalled_s: float = 0.0
    reserved: bool = True
    refused: int = 0
    why_refused: str = ""
    refused_in: Path | None = None

    @property
    def overflowing(self) -> bool:
        """Whether so much waits that the run has to end before rows are lost."""
        return self.waiting >= MOST_WAITING


@dataclass(frozen=True, slots=True)
class Closing:
    """What a job file lacks after its writing has ended, in rows; all zero when it is complete.

    `kept` rows wait in the files `kept_in` and are put in when the job is opened again; `lost_readings` and
    `lost_others` could be written nowhere; `refused` rows are in the file `refused_in`.
    """

    trouble: str = ""
    kept: int = 0
    kept_in: tuple[Path, ...] = ()
    lost_readings: int = 0
    lost_others: int = 0
    refused: int = 0
    refused_in: Path | None = None

    @property
    def complete(self) -> bool:
        """Whether the job file has every row."""
        return not (self.kept or self.lost_readings or self.lost_others or self.refused)

    @property
    def sentences(self) -> tuple[str, ...]:
        """What there is to be said about it, none when the job file is complete."""
        found = []
        if self.kept:
            files = ", ".join(str(path) for path in self.kept_in)
            rows = "one row waits" if self.kept == 1 else f"{self.kept} rows wait"
            found.append(
                f"{rows} in {files}, because {self.trouble}. Make room and open the job again: they are put in"
            )
        if self.lost_readings or self.lost_others:
            found.append(
                f"{self.lost_readings} rows of readings and {self.lost_others} other rows are missing, because"
                f" {self.trouble} and they could be kept nowhere else"
            )
        if self.refused:
            where = f"kept in {self.refused_in}" if self.refused_in is not None else "which could be kept nowhere"
            found.append(
                f"the job file refused {self.refused} rows, {where}. This is a bug: send that file to whoever maintains"
                " this program"
            )
        return tuple(found)


class JournalWriter:
    """Owns the writing connection of a job file. Every method may be called from any thread."""

    def __init__(self, path: Path, elsewhere: Path | None = None) -> None:
        """Create or open the file, put rows from its rescue files in, and start the thread.

        `elsewhere` is a folder for rows that the drive of the job file no longer takes. Raises EnvironmentFault or
        InputError.
        """
        self.path = path
        self._elsewhere = elsewhere
        self._writing = new_writing()
        self._lock = acquire(path, "the job file")
        try:
            with closing(connect(path, create=True)) as connection:
                self.put_back: tuple[PutBack, ...] = tuple(put_back(connection, path, elsewhere))
            self._rescue = make_rescue_file(path, self._writing)
        except sqlite3.Error as error:
            self._lock.close()
            raise EnvironmentFault(
                f"opening the job file {path}", sentence_of(error), "Nothing was changed."
            ) from error
        except BaseException:
            self._lock.close()
            raise
        self._queue: queue.SimpleQueue[Row | threading.Event | None] = queue.SimpleQueue()
        self._backlog: deque[Row] = deque()
        self._closed: Closing | None = None
        self._beside = 0
        self._refused = 0
        self._why_refused = ""
        self._refused_in: Path | None = None
        self._written_at: float | None = None
        self._trouble: str | None = None
        self._commit_begun: float | None = None
        self._submitted = 0
        self._numbering = threading.Lock()
        self._done = 0
        self._thread = threading.Thread(target=self._work, name="journal", daemon=True)
        self._thread.start()

    def set_job(self, fields: dict[str, str]) -> None:
        """Store the job's own fields."""
        for name, value in fields.items():
            self._put(Write.FIELD, (name, value))

    def set_part_instances(self, instances: tuple[PartInstance, ...]) -> None:
        """Store the physical parts that the job has seen, with their tags."""
        self._put(Write.FIELD, ("part instances", _json(instances)))

    def set_book(self, book: Book) -> None:
        """Store the book of trials."""
        self._put(Write.FIELD, ("book of trials", _json(book)))

    def set_decisions(self, decisions: Decisions) -> None:
        """Store locked verdicts and the actual cause."""
        self._put(Write.FIELD, ("decisions", _json(decisions)))

    def set_going_on(self, state: object) -> None:
        """Store what goes on by itself after a sudden end, None when nothing does."""
        self._put(Write.FIELD, (GOING_ON, "" if state is None else _json(state)))

    def set_draft(self, sheet: RunSheet) -> None:
        """Store the run sheet that is being edited."""
        self._put(Write.FIELD, (DRAFT, _json(sheet)))

    def begin_run(
        self,
        number: int,
        sheet: RunSheet,
        machine: Inventory,
        channels: tuple[Channel, ...],
        boot_id: str,
        at: float,
        wall: float,
    ) -> None:
        """Store the start of a run: everything known before it."""
        self._put(
            Write.BEGIN_RUN,
            (
                number,
                sheet.title,
                _json(sheet),
                _json(machine),
                _json(channels),
                int(machine.simulated),
                boot_id,
                at,
                wall,
            ),
        )

    def end_run(self, number: int, at: float, ending: str, detail: str) -> None:
        """Store the end of a run."""
        self._put(Write.END_RUN, (at, ending, detail, number))

    def add_tick(self, run: int, tick: Tick) -> None:
        """Store one tick."""
        missing = _json({str(index): reason for index, reason in tick.missing.items()}) if tick.missing else None
        self._put(
            Write.TICK,
            (run, tick.at, tick.wall, tick.late, pack_reading(tick.values), missing),
        )

    def add_mark(self, run: int | None, at: float, kind: str, body: object) -> None:
        """Store something that happened; `body` is plain data or a value of the model."""
        self._put(Write.MARK, (run, at, kind, _json(body)))

    def settle(self, timeout_s: float) -> bool:
        """Wait until everything put in so far is on the disk; return False when that took too long."""
        reached = threading.Event()
        self._queue.put(reached)
        return reached.wait(timeout_s)

    def health(self) -> JournalHealth:
        """Return how writing goes."""
        age = None if self._written_at is None else time.monotonic() - self._written_at
        waiting = self._submitted - self._done
        stopped = waiting > 0 and not self._thread.is_alive()
        begun = self._commit_begun
        busy = 0.0 if begun is None else time.monotonic() - begun
        trouble = self._trouble or ("its writer has stopped" if stopped else None)
        return JournalHealth(
            waiting,
            age,
            trouble,
            busy,
            self._rescue.reserved,
            self._refused,
            self._why_refused,
            self._refused_in,
        )

    def close(self, timeout_s: float = 10.0) -> Closing:
        """Write what is left, as far as that can be done in time, keep the rest beside the job, and stop the thread.

        Once more it only says the same again.
        """
        if self._closed is None:
            self._closed = self._close(timeout_s)
        return self._closed

    def _close(self, timeout_s: float) -> Closing:
        self._queue.put(None)
        self._thread.join(timeout_s)
        stuck = self._thread.is_alive()
        left = self._left()
        kept, places = 0, []
        if left and not stuck:
            others = [row for row in left if not is_reading(row) and row.number > self._beside]
            kept = len([row for row in left if not is_reading(row)]) - len(others)
            in_order = others + [row for row in left if is_reading(row)]
            now = self._rescue.keep(in_order)
            kept, left = kept + now, in_order[now:]
        if (stuck or self._rescue.close()) and kept:
            places.append(self._rescue.path)
        if left and self._elsewhere is not None:
            place, now = keep_elsewhere(self._elsewhere, self.path, self._writing, left)
            kept, left = kept + now, left[now:]
            places += [place] if place is not None else []
        self._lock.close()
        readings = sum(is_reading(row) for row in left)
        trouble = self._trouble or ("the drive takes no rows" if stuck else "its writer has stopped")
        return Closing(trouble, kept, tuple(places), readings, len(left) - readings, self._refused, self._refused_in)

    def _left(self) -> list[Row]:
        """Return the rows that are not in the job file, after the thread has ended or while it is stuck."""
        left = list(self._backlog)
        with contextlib.suppress(queue.Empty):
            while True:
                item = self._queue.get_nowait()
                left += [item] if isinstance(item, Row) else []
        return left

    def _put(self, write: Write, values: tuple[Value, ...]) -> None:
        with self._numbering:
            self._submitted += 1
            self._queue.put(Row(self._submitted, write, values))

    def _work(self) -> None:
        connection = connect(self.path, create=True)
        waiters: list[threading.Event] = []
        closing = False
        while not closing or self._backlog:
            closing = self._collect(waiters, closing) or closing
            if self._commit(connection):
                for waiter in waiters:
                    waiter.set()
                waiters.clear()
            elif closing:
                break
        connection.close()

    def _collect(self, waiters: list[threading.Event], closing: bool) -> bool:
        """Move everything that waits in the queue to the backlog; wait for something when there is nothing to do."""
        wait_s = None if not self._backlog else _RETRY_S if self._trouble else 0.0
        try:
            item = self._queue.get(timeout=wait_s) if not closing and wait_s != 0.0 else self._queue.get_nowait()
            while True:
                if item is None:
                    closing = True
                elif isinstance(item, threading.Event):
                    waiters.append(item)
                else:
                    self._backlog.append(item)
                item = self._queue.get_nowait()
        except queue.Empty:
            return closing

    def _commit(self, connection: sqlite3.Connection) -> bool:
        if not self._backlog:
            return True
        batch = list(self._backlog)
        refused: list[tuple[Row, str]] = []
        self._commit_begun = time.monotonic()
        try:
            connection.execute("BEGIN IMMEDIATE")
            for row in batch:
                try:
                    connection.execute(STATEMENTS[row.write], row.values)
                except ROW_ERRORS as error:
                    refused.append((row, str(error)))
            connection.execute(STATEMENTS[Write.FIELD], written_mark(self._writing, batch[-1].number))
            connection.execute("COMMIT")
        except sqlite3.Error as error:
            self._trouble = sentence_of(error)
            with contextlib.suppress(sqlite3.Error):  # the trouble is reported already
                if connection.in_transaction:
                    connection.execute("ROLLBACK")
            self._keep_beside(batch)
            return False
        finally:
            self._commit_begun = None
        if self._beside:
            self._rescue.empty()
            self._beside = 0
        if refused:
            self._refuse(refused)
        self._backlog.clear()
        self._done += len(batch)
        self._written_at = time.monotonic()
        self._trouble = None
        return True

    def _keep_beside(self, batch: list[Row]) -> None:
        """Keep what is more than a reading in the rescue file at once, in case the program does not live on."""
        rows = [row for row in batch if not is_reading(row) and row.number > self._beside]
        kept = self._rescue.keep(rows)
        if kept:
            self._beside = rows[kept - 1].number

    def _refuse(self, refused: list[tuple[Row, str]]) -> None:
        self._why_refused = self._why_refused or refused[0][1]  # the first is the likeliest cause of those after it
        self._refused_in = keep_refused(self.path, refused) or self._refused_in
        self._refused += len(refused)


def _json(value: object) -> str:
    return msgspec.json.encode(value).decode()
