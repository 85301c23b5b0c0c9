"""A drive's own self-test: started, followed, aborted only where it was started here."""

import queue
import threading
from dataclasses import dataclass

from thresher.drives import self_test
from thresher.drives.fields import DamagedPage
from thresher.drives.findings import silent_finding, test_findings
from thresher.drives.reading import Drive, Family
from thresher.drives.self_test import Progress
from thresher.engine.drive_jobs.access import DriveAccess, DriveJob
from thresher.model.drive_commands import DrivePort, NoAnswer
from thresher.model.errors import EnvironmentFault, SourceUnavailable, ThresherError
from thresher.model.findings import Severity
from thresher.model.port import SystemKind

_LOOK_S = 5.0
_ABORT_WAIT_S = 0.2


@dataclass(frozen=True, slots=True)
class _Begun:
    """The test has begun; the drive says that it takes so many minutes."""

    minutes: int


@dataclass(frozen=True, slots=True)
class _Trouble:
    """It could not be started or followed, and whether the drive did not answer."""

    words: str
    silent: bool


class SelfTestJob(DriveJob):
    """One self-test. On this computer a thread asks the drive, by a process of its own."""

    def __init__(self, access: DriveAccess, drive: Drive, extended: bool) -> None:
        """`extended` is the long test over the whole medium."""
        self.drive = drive
        self.over = False
        self.words = ""
        self._access, self._extended = access, extended
        self._came: queue.SimpleQueue[_Begun | Progress | _Trouble] = queue.SimpleQueue()
        self._stop = threading.Event()
        self._port: DrivePort | None = None
        self._asked_at = float("-inf")
        self._began = access.system.now()
        self._minutes = 0
        self._done = 0

    @property
    def _name(self) -> str:
        return self.drive.part.place

    @property
    def _kind(self) -> str:
        return "long self-test" if self._extended else "short self-test"

    def begin(self) -> None:
        """Begin."""
        doing = f"testing {self._name}"
        if self.drive.family is Family.NONE:
            raise EnvironmentFault(doing, self.drive.why_not, "Read it through with a scan.")
        self._began = self._access.system.now()
        with self._access.taken(self._name, doing):
            if self._access.system.kind is SystemKind.LIVE:
                threading.Thread(target=self._follow_beside, name=f"self-test {self._name}", daemon=True).start()
                return
            self._port = self._access.system.open_drive(self.drive.path)
            self._start(self._port)

    def _start(self, port: DrivePort) -> bool:
        """Start the test; return whether it runs."""
        try:
            minutes = self_test.minutes(port, self.drive.family, self._extended)
            self_test.start(port, self.drive.family, self._extended)
        except (ThresherError, DamagedPage) as error:
            self._came.put(_Trouble(_words(error), isinstance(error, NoAnswer)))
            return False
        self._came.put(_Begun(minutes))
        return True

    def _look(self, port: DrivePort) -> bool:
        """Ask how far it is; return whether it still runs."""
        try:
            progress = self_test.progress(port, self.drive.family)
        except (ThresherError, DamagedPage) as error:
            self._came.put(_Trouble(_words(error), isinstance(error, NoAnswer)))
            return False
        self._came.put(progress)
        return progress.running

    def _follow_beside(self) -> None:
        try:
            port = self._access.system.open_drive(self.drive.path)
        except SourceUnavailable as error:
            self._came.put(_Trouble(error.reason, isinstance(error, NoAnswer)))
            return
        try:
            running = self._start(port)
            while running and not self._stop.wait(_LOOK_S):
                running = self._look(port)
            if running:
                self_test.abort(port, self.drive.family)
        except SourceUnavailable as error:
            self._came.put(_Trouble(error.reason, isinstance(error, NoAnswer)))
        finally:
            port.close()

    def follow(self, now: float) -> None:
        """Take in what the drive has answered."""
        if self._port is not None and not self.over and now - self._asked_at >= _LOOK_S and self._minutes:
            self._asked_at = now
            self._look(self._port)
        while not self._came.empty() and not self.over:
            self._take(self._came.get())

    def _take(self, came: _Begun | Progress | _Trouble) -> None:
        if isinstance(came, _Begun):
            self._minutes = came.minutes
            self._access.note(
                f"{self._kind.capitalize()} of {self._name} begins", f"{came.minutes} min by the drive's estimate"
            )
        elif isinstance(came, _Trouble):
            self._end(f"could not be carried out: {came.words}", Severity.WARNING)
            if came.silent:
                self._access.find(silent_finding(self._name, f"its {self._kind}", came.words))
        elif came.running:
            self._done = came.done
        else:
            self._done = 100
            place = f", first bad sector {came.lba}" if came.lba is not None else ""
            self._end(f"{came.ending}{place}", Severity.WARNING if came.failed else Severity.NOTE)
            for finding in test_findings(self._name, came, self._kind):
                self._access.find(finding)

    def _end(self, words: str, severity: Severity) -> None:
        self.over, self.words = True, words
        self._access.release(self._name)
        if self._port is not None:
            self._port.close()
        self._access.note(f"{self._kind.capitalize()} of {self._name} ended", words, severity)

    def share(self) -> float | None:
        """Return how much of it is done by the drive's estimate."""
        return self._done / 100

    def left_s(self) -> float | None:
        """Return how long it still takes by the drive's estimate."""
        return self._minutes * 60.0 * (1.0 - self._done / 100) if self._minutes else None

    def stop(self) -> None:
        """Abort it."""
        if self.over:
            return
        self._stop.set()
        if self._port is not None and self._minutes:
            self_test.abort(self._port, self.drive.family)
        self._end(f"aborted at {self._done} %", Severity.NOTE)


def _words(error: ThresherError | DamagedPage) -> str:
    if isinstance(error, SourceUnavailable):
        return error.reason
    return str(error)
