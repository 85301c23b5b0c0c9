"""Keeping the black box: the vital channels and what every worker does, faster than the run is sampled.

On this computer a thread of its own reads and writes, so that neither a slow source nor a drive that stalls delays the
engine: while the drive does not take a row, none is made, and how many are missing is written with the next. It reads a
source as often as that changes, and takes no more than a share of one core. A simulated machine, whose clock stands
still while the engine works, gives one row a tick.
"""

import logging
import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from thresher.journal.black_box import BlackBox, BoxHeader, box_path
from thresher.model.channels import Channel, Tick
from thresher.model.endings import Moment, WorkerAt
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.port import System, SystemKind
from thresher.sensors.discovery import Discovery
from thresher.sensors.probes import Probe, implausible
from thresher.sensors.vital import vital_channels, vital_probes

_LOG = logging.getLogger(__name__)
RUN_S, IDLE_S = 0.1, 5.0
"""Between two rows while a run is in progress, and while none is."""
_SHARE = 0.008
"""Of one core at most."""
_REST_S = 1.0
"""A source that does not change is read so seldom at the least."""
_STALL_S = 1.0
_LOOK_S = 0.25

AtWork = tuple[int, tuple[WorkerAt, ...]]
"""The number of the run in progress (0 none), and its workers."""


@dataclass(slots=True)
class _Source:
    """A source on its way: its last values, when it is due, how long it rests between two reads."""

    probe: Probe
    values: tuple[float | None, ...]
    content: bytes = b""
    due: float = 0.0
    rest_s: float = RUN_S

    def read(self, at: float) -> None:
        """Read it when it is due; what does not change is read more and more seldom."""
        if at < self.due:
            return
        try:
            content = self.probe.source.read()
            found = [float(value) for value in self.probe.parse(content, at)]
        except (SourceUnavailable, ValueError):
            self.values, self.rest_s = (None,) * len(self.probe.channels), _REST_S
        else:
            self.rest_s = RUN_S if content != self.content else min(_REST_S, 2.0 * self.rest_s)
            self.content = content
            pairs = zip(self.probe.channels, found, strict=False)
            self.values = tuple(None if implausible(each.quantity, value) else value for each, value in pairs)
        self.due = at + self.rest_s


@dataclass(frozen=True, slots=True)
class BoxState:
    """How the black box does: rows written and not taken by the drive, seconds between rows, why none are written."""

    rows: int
    dropped: int
    every_s: float
    trouble: str = ""


class BlackBoxWatch:
    """Keeps the black box of a job."""

    def __init__(
        self,
        system: System,
        job: Path,
        discovery: Callable[[], Discovery],
        channels: tuple[Channel, ...],
        at_work: Callable[[], AtWork],
    ) -> None:
        """Hold nothing yet. `discovery` finds the machine's sources once more, since a source has one reader.

        `channels` are those of the engine, for a machine that gives a row a tick.
        """
        self._system, self._at_work = system, at_work
        self._path = box_path(job)
        self._live = system.kind is SystemKind.LIVE
        self._sources: list[_Source] = []
        self._indexes: list[int] = []
        if self._live:
            found = discovery()
            wanted = vital_probes(found)
            for probe in found.probes:
                if probe not in wanted:
                    probe.source.close()
            self._sources = [_Source(probe, (None,) * len(probe.channels)) for probe in wanted]
            self.channels = tuple(channel for probe in wanted for channel in probe.channels)
        else:
            self._indexes = vital_channels(channels)
            self.channels = tuple(channels[index] for index in self._indexes)
        self._box: BlackBox | None = None
        self._lock = threading.Lock()
        self._changes: queue.SimpleQueue[BoxHeader | dict[str, object]] = queue.SimpleQueue()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._rows = self._dropped = self._dropped_before = 0
        self._every_s = RUN_S
        self._trouble = ""

    def begin(self, header: BoxHeader) -> None:
        """Begin a new box for the present boot, by the thread where there is one: a drive may take its time.

        Without room for a box, that is said by `state`.
        """
        if not self._live:
            self._lay_out(header)
            return
        self._changes.put(header)
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, name="black box", daemon=True)
            self._thread.start()

    def _lay_out(self, header: BoxHeader) -> None:
        self._let_go()
        try:
            self._box = BlackBox(self._path, header)
        except EnvironmentFault as error:
            self._trouble = str(error)
            return
        self._rows = self._dropped = self._dropped_before = 0
        self._trouble = ""

    def follow(self, tick: Tick) -> None:
        """Keep a tick, on a machine that gives one row a tick."""
        if self._live or self._box is None:
            return
        run, workers = self._at_work()
        values = tuple(tick.values[index] for index in self._indexes)
        self._add(Moment(tick.at, tick.wall, run, values, workers))

    def set_header(self, **changes: object) -> None:
        """Change the header of the box, with the next row where a thread writes it."""
        if self._thread is not None:
            self._changes.put(changes)
        else:
            self._change_header(changes)

    def _change_header(self, changes: dict[str, object]) -> None:
        with self._lock:
            try:
                if self._box is not None:
                    self._box.set_header(durable=self._live, **changes)
            except OSError as error:
                self._trouble = error.strerror or str(error)

    def _take_changes(self) -> None:
        while not self._changes.empty():
            change = self._changes.get()
            if isinstance(change, BoxHeader):
                self._lay_out(change)
            else:
                self._change_header(change)

    @property
    def state(self) -> BoxState:
        """How the black box does."""
        return BoxState(self._rows, self._dropped, self._every_s, self._trouble)

    def close(self, needed: bool) -> None:
        """Stop, and let go of the file and the sources; a thread that the drive holds is left behind.

        A box that nobody will need, because everything was ended in order, is removed.
        """
        self._stop.set()
        if self._thread is not None:
            self._thread.join(_STALL_S)
            if self._thread.is_alive():
                return
            self._take_changes()
        self._let_go()
        for each in self._sources:
            each.probe.source.close()
        if not needed:
            try:
                self._path.unlink(missing_ok=True)
            except OSError as error:
                _LOG.warning("removing %s: %s", self._path, error)

    def _let_go(self) -> None:
        with self._lock:
            if self._box is not None:
                self._box.close()
                self._box = None

    def _work(self) -> None:
        due, cost_s, ran = time.monotonic(), 0.0, False
        while not self._stop.wait(min(_LOOK_S, max(0.0, due - time.monotonic()))):
            run, _ = self._at_work()
            now = time.monotonic()
            if now < due and (ran or not run):
                continue  # a run that begins is not made to wait for the next row of an idle bench
            ran = bool(run)
            self._take_changes()
            begun = time.thread_time()
            self._add(self._moment())
            cost_s += 0.1 * (time.thread_time() - begun - cost_s)
            self._every_s = max(RUN_S if run else IDLE_S, cost_s / _SHARE)
            due = max(due, now) + self._every_s
            missed = int((time.monotonic() - due) / self._every_s)
            if missed > 0:
                self._dropped += missed
                due += missed * self._every_s

    def _moment(self) -> Moment:
        at = self._system.now()
        for each in self._sources:
            each.read(at)
        run, workers = self._at_work()
        values = tuple(value for each in self._sources for value in each.values)
        return Moment(at, self._system.wall(), run, values, workers)

    def _add(self, moment: Moment) -> None:
        with self._lock:
            if self._box is None:
                return
            try:
                self._box.add(moment, self._dropped - self._dropped_before, durable=self._live)
            except OSError as error:
                self._dropped += 1
                if not self._trouble:
                    _LOG.warning("black box %s: %s", self._path, error)
                self._trouble = error.strerror or str(error)
                return
            self._rows += 1
            self._dropped_before = self._dropped
            self._trouble = ""
