"""What the window asks of the engine: typed commands, and what is shown when their answers come."""

from collections.abc import Callable
from typing import Protocol

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices

from thresher.model.channels import watched_temperatures
from thresher.model.sheet import RunSheet
from thresher.model.trials import Stint
from thresher.protocol.commands import (
    AddEvidence,
    AskAccess,
    BeginTrial,
    ChooseSheet,
    Command,
    EditPrices,
    ListJobs,
    LockVerdict,
    NewJob,
    PutDraft,
    PutSheet,
    PutTrialSheet,
    ReloadPrices,
    ReloadSheets,
    SetJob,
    StartRun,
    StopRun,
    T,
    UndoEvidence,
)
from thresher.protocol.intake import JobCard
from thresher.ui.link import EngineLink
from thresher.ui.state import BenchState


class Screen(Protocol):
    """What requests need of the window."""

    def say(self, text: str) -> None:
        """Show a message that must be seen."""
        ...

    def ask(self, question: str, action: str, accepted: Callable[[], None]) -> None:
        """Ask whether to do something; `action` is the words on the button that does it."""
        ...


class EngineRequests:
    """Sends commands over the link. A stored job has none and can only be looked at."""

    def __init__(self, state: BenchState, link: EngineLink | None, screen: Screen) -> None:
        """`link` is None for a stored job."""
        self._state = state
        self._link = link
        self._screen = screen

    @property
    def connected(self) -> bool:
        """Whether an engine answers."""
        return self._link is not None and self._link.standing

    @property
    def stored(self) -> bool:
        """Whether a stored job is shown, without an engine."""
        return self._link is None

    def send(self, command: Command[T], done: Callable[[T], None] | None = None) -> None:
        """Send a command; without an engine nothing happens."""
        if self._link is not None:
            self._link.call(command, done)

    def send_if_connected(self, command: Command[T], done: Callable[[T], None] | None = None) -> None:
        """Send a command that may as well be dropped while the engine is being started."""
        if self.connected:
            self.send(command, done)

    def _send_or_say(self, command: Command[T], what: str, done: Callable[[T], None] | None = None) -> None:
        if self._link is None:
            self._screen.say(f"This is a stored job, read only. Open it on the bench to {what}.")
        else:
            self._link.call(command, done)

    def start(self, draft: RunSheet | None = None, name: str = "") -> None:
        """Start the sheet on the bench, or a draft that is put there first; `name` is its file among the shop's."""
        if self._state.active:
            return
        self._state.say_trouble("")
        if draft is None or draft == self._state.sheet:
            self._start_or_ask(self._state.sheet)
        else:
            self.send(PutDraft(draft, name), lambda _status: self._start_or_ask(draft))

    def _start_or_ask(self, sheet: RunSheet | None) -> None:
        """Start; when the sheet's temperature limit cannot be watched on this machine, ask before that."""
        limit = sheet.limits.temperature_c if sheet is not None else None
        if limit is None or watched_temperatures(self._state.channels):
            self.send(StartRun())
            return
        self._screen.ask(
            f"No trusted sensor reports the processor's temperature, so the sheet's limit of {limit:.0f} °C cannot be"
            " watched.",
            "Start without the limit",
            lambda: self.send(StartRun(unwatched_limit=True)),
        )

    def stop(self, done: Callable[[str], None]) -> None:
        """Stop at once; `done` gets how many workers have ended."""
        if self._state.active:
            self.send(StopRun(), done)

    def put_sheet(self, text: str, name: str) -> None:
        """Put a run sheet on the bench; the engine reports what is wrong with it."""
        self.send(PutSheet(text, name))

    def choose_sheet(self, name: str, done: Callable[[], None]) -> None:
        """Put a proposed sheet on the bench."""
        self.send(ChooseSheet(name), lambda _status: done())

    def add_evidence(self, command: AddEvidence, done: Callable[[], None]) -> None:
        """Add evidence from elsewhere."""
        self._send_or_say(command, "add evidence", lambda _findings: done())

    def undo_evidence(self) -> None:
        """Undo the last evidence added."""
        self.send(UndoEvidence())

    def lock_verdict(self) -> None:
        """Lock the verdict as it is now."""
        self._send_or_say(LockVerdict(), "lock its verdict")

    def begin_trial(self, title: str, configuration: object, stints: tuple[Stint, ...], kept: bool) -> None:
        """Begin a trial; a proposed one brings the sheet of its loads onto the bench."""
        command = BeginTrial(title, configuration, kept)  # type: ignore[arg-type]  # a signal carries plain objects

        def on_begun(_trial: object) -> None:
            from thresher.loads.registry import WORK_LOADS  # slow to load, and needed only here

            mine = tuple(each for each in stints if each[0] in WORK_LOADS)
            if mine:
                self.send(PutTrialSheet(mine, title))

        self._send_or_say(command, "continue its trials", on_begun)

    def ask_access(self) -> None:
        """Have a person asked for full access to the machine."""
        self._send_or_say(AskAccess(), "ask for access")

    def edit_prices(self) -> None:
        """Open the shop's price list in an editor, begun with the defaults."""
        self.send(EditPrices(), self._on_prices)

    def _on_prices(self, path: str) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(path))
        self._state.say_trouble(f"{path}: after changing it, press Ctrl+Shift+P to reload the prices")

    def reload_prices(self) -> None:
        """Reload the shop's price list."""
        self.send(ReloadPrices())

    def reload_sheets(self) -> None:
        """Reload the shop's own sheets."""
        self.send_if_connected(ReloadSheets())

    def list_jobs(self, done: Callable[[tuple[JobCard, ...]], None]) -> None:
        """Ask for the jobs on the bench."""
        self.send_if_connected(ListJobs(), done)

    def new_job(self, done: Callable[[str], None]) -> None:
        """Make a new job for the machine on the bench; `done` gets its path."""
        self.send(NewJob(), done)

    def keep_job(self, fields: dict[str, str]) -> None:
        """Keep fields of the job."""
        self.send_if_connected(SetJob(fields))
