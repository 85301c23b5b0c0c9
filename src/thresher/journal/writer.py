"""Writing a job file while a run is in progress: on a thread of its own, each tick committed durably.

A slow drive delays neither sampling nor stopping. What cannot be written waits in memory and is written
when the drive takes it again; the engine is reported meanwhile.
"""

import queue
import sqlite3
import threading
import time
from collections import deque
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.journal.jobfile import connect, pack_reading, sentence_of
from thresher.journal.lock import acquire
from thresher.model.channels import Channel, Tick
from thresher.model.decisions import Decisions
from thresher.model.parts import Inventory, PartInstance
from thresher.model.sheet import RunSheet
from thresher.model.trials import Book

MOST_WAITING = 50_000
"""Statements kept in memory at most while the file cannot be written: more than a night of ticks at 1 s."""

_RETRY_S = 0.5

Statement = tuple[str, tuple[object, ...]]


@dataclass(frozen=True, slots=True)
class JournalHealth:
    """How writing goes: rows that wait, seconds since the last row reached the disk, and what is wrong if anything.

    `stalled_s` is for how long the drive has been busy with the rows that it was given last, 0 when it is not.
    """

    waiting: int
    age_s: float | None
    trouble: str | None
    stalled_s: float = 0.0

    @property
    def overflowing(self) -> bool:
        """Whether so much waits that the run has to end before rows are lost."""
        return self.waiting >= MOST_WAITING


class JournalWriter:
    """Owns the writing connection of a job file. Every method may be called from any thread."""

    def __init__(self, path: Path) -> None:
        """Create or open the file and start the thread. Raises EnvironmentFault or InputError."""
        self.path = path
        self._lock = acquire(path, "the job file")
        try:
            connect(path, create=True).close()
        except BaseException:
            self._lock.close()
            raise
        self._queue: queue.SimpleQueue[Statement | threading.Event | None] = queue.SimpleQueue()
        self._backlog: deque[Statement] = deque()
        self._written_at: float | None = None
        self._trouble: str | None = None
        self._commit_begun: float | None = None
        self._submitted = 0
        self._done = 0
        self._thread = threading.Thread(target=self._work, name="journal", daemon=True)
        self._thread.start()

    def set_job(self, fields: dict[str, str]) -> None:
        """Store the job's own fields."""
        for name, value in fields.items():
            self._put("INSERT OR REPLACE INTO job VALUES (?, ?)", (name, value))

    def set_part_instances(self, instances: tuple[PartInstance, ...]) -> None:
        """Store the physical parts that the job has seen, with their tags."""
        self._put("INSERT OR REPLACE INTO job VALUES (?, ?)", ("part instances", _json(instances)))

    def set_book(self, book: Book) -> None:
        """Store the book of trials."""
        self._put("INSERT OR REPLACE INTO job VALUES (?, ?)", ("book of trials", _json(book)))

    def set_decisions(self, decisions: Decisions) -> None:
        """Store locked verdicts and the actual cause."""
        self._put("INSERT OR REPLACE INTO job VALUES (?, ?)", ("decisions", _json(decisions)))

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
            "INSERT INTO runs (run, title, sheet, machine, channels, simulated, boot_id, began_at, began_wall)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
        self._put(
            "UPDATE runs SET ended_at = ?, ending = ?, ending_detail = ? WHERE run = ?", (at, ending, detail, number)
        )

    def add_tick(self, run: int, tick: Tick) -> None:
        """Store one tick."""
        missing = _json({str(index): reason for index, reason in tick.missing.items()}) if tick.missing else None
        self._put(
            "INSERT OR REPLACE INTO ticks VALUES (?, ?, ?, ?, ?, ?)",
            (run, tick.at, tick.wall, tick.late, pack_reading(tick.values), missing),
        )

    def add_mark(self, run: int | None, at: float, kind: str, body: object) -> None:
        """Store something that happened; `body` is plain data or a value of the model."""
        self._put("INSERT INTO marks (run, at, kind, body) VALUES (?, ?, ?, ?)", (run, at, kind, _json(body)))

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
        return JournalHealth(waiting, age, self._trouble or ("its writer has stopped" if stopped else None), busy)

    def close(self, timeout_s: float = 10.0) -> JournalHealth:
        """Write what is left, as far as that can be done in time, and stop the thread."""
        self._queue.put(None)
        self._thread.join(timeout_s)
        self._lock.close()
        return self.health()

    def _put(self, sql: str, values: tuple[object, ...]) -> None:
        self._submitted += 1
        self._queue.put((sql, values))

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
        self._commit_begun = time.monotonic()
        try:
            connection.execute("BEGIN IMMEDIATE")
            for sql, values in batch:
                connection.execute(sql, values)
            connection.execute("COMMIT")
        except sqlite3.Error as error:
            self._trouble = sentence_of(error)
            if connection.in_transaction:
                connection.execute("ROLLBACK")
            return False
        finally:
            self._commit_begun = None
        self._backlog.clear()
        self._done += len(batch)
        self._written_at = time.monotonic()
        self._trouble = None
        return True


def _json(value: object) -> str:
    return msgspec.json.encode(value).decode()
