"""Keeping the machine at work while a run goes on: no sleep and no blank screen, and the hardware watchdog if wished.

What may block is done beside the engine; a tick only takes what has come.
"""

from functools import partial

from thresher.engine.beside import Beside, Outcome
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.record import Record
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import Severity
from thresher.model.keeping_port import Awake, Watchdog
from thresher.model.port import System
from thresher.model.run_states import RunState

WATCHDOG_S = 60.0
_NO_PROGRESS_S = 20.0
_CLOSE_S = 6.0
WHY = "a test run is in progress"


class Keeping:
    """Holds off sleep during runs, and arms and feeds the watchdog during those that want it."""

    def __init__(self, system: System, record: Record, conductor: Conductor) -> None:
        """Nothing is held before the first run."""
        self._system, self._record, self._conductor = system, record, conductor
        self._awake: Awake | None = None
        self._beside = Beside("keeping", record.note, at_once=system.pacing.paced)
        self._watchdog: Watchdog | None = None
        self._beats, self._moved_at = -1, 0.0
        self._starved = False
        self._said: set[str] = set()

    @property
    def armed(self) -> bool:
        """Whether the watchdog is armed."""
        return self._watchdog is not None

    def run_begins(self, watchdog: bool) -> None:
        """Hold off sleep, and arm the watchdog where the sheet wants it."""
        self._moved_at = self._system.now()
        if self._awake is None:
            self._beside.do("holding off sleep", self._ask_awake)
        if watchdog and self._watchdog is None:
            self._beside.do("arming the hardware watchdog", self._ask_watchdog)

    def _ask_awake(self) -> Outcome:
        try:
            return partial(self._take_awake, self._system.hold_awake(WHY))
        except SourceUnavailable as error:
            detail = f"{error.reason} ({error.path})"
            return partial(self._record.note, "Sleep is not held off", detail, Severity.WARNING, "X-841")

    def _ask_watchdog(self) -> Outcome:
        try:
            return partial(self._take_watchdog, self._system.open_watchdog(WATCHDOG_S))
        except SourceUnavailable as error:
            detail = f"{error.reason} ({error.path})"
            return partial(self._record.note, "No hardware watchdog", detail, Severity.WARNING, "X-841")

    def _take_awake(self, awake: Awake) -> None:
        self._awake = awake

    def _take_watchdog(self, watchdog: Watchdog) -> None:
        self._watchdog = watchdog
        self._record.note("Hardware watchdog armed", f"{watchdog.name}, {watchdog.timeout_s:.0f} s; off at the end")

    def follow(self, at: float) -> None:
        """Take what has been answered, feed the watchdog while the workers make progress."""
        self._beside.follow()
        for each in self._awake.news() if self._awake is not None else ():
            if each.why_not and each.what not in self._said:
                self._said.add(each.what)
                self._record.note(f"Not held off: {each.what}", f"{each.by}: {each.why_not}", Severity.NOTE)
        if not self._conductor.active:
            self._give_back()
        elif self._watchdog is not None:
            self._feed(self._watchdog, at)

    def _feed(self, watchdog: Watchdog, at: float) -> None:
        status = self._conductor.status()
        if status.beats != self._beats or status.state is not RunState.LOADING:
            self._beats, self._moved_at = status.beats, at
        if at - self._moved_at > _NO_PROGRESS_S:
            if not self._starved:
                self._record.note("The watchdog is not fed any more", "no worker makes progress", Severity.WARNING)
            self._starved = True
            return
        self._starved = False
        why_not = watchdog.feed()
        if why_not:
            self._record.note("The watchdog cannot be fed", why_not, Severity.WARNING, "X-841")
            self._give_back_watchdog()

    def _give_back(self) -> None:
        awake, self._awake = self._awake, None
        if awake is not None:

            def let_sleep() -> Outcome:
                awake.close()
                return lambda: None

            self._beside.do("letting the machine sleep again", let_sleep)
        self._give_back_watchdog()

    def _give_back_watchdog(self) -> None:
        watchdog, self._watchdog = self._watchdog, None
        if watchdog is None:
            return
        self._beside.do("switching the hardware watchdog off", lambda: partial(self._watchdog_off, watchdog.close()))

    def _watchdog_off(self, why_not: str) -> None:
        if why_not:
            self._record.note("The watchdog could not be switched off", why_not, Severity.WARNING, "X-841")
        else:
            self._record.note("Hardware watchdog off", "nothing resets the machine any more")

    def close(self) -> None:
        """Give everything back, also what is still being asked for."""
        self._beside.settle(_CLOSE_S)
        self._give_back()
        self._beside.settle(_CLOSE_S)
