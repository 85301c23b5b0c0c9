"""The stick's session: the page before the first job, then windows, and between them what to do next."""

import shutil
from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, QProcess, QTimer
from PyQt6.QtWidgets import QWidget

from thresher.app.keeping_jobs import jobs_in, keep_on_stick
from thresher.model.own_program import own_command
from thresher.stick.boot import (
    HOME,
    RUN,
    Settings,
    StickState,
    read_going_on,
    read_settings,
    read_state,
    write_settings,
    write_state,
)
from thresher.stick.clock import now
from thresher.ui import theme
from thresher.ui.background import in_background
from thresher.ui.stick.keyboards import layouts
from thresher.ui.stick.pages import BetweenPage, FirstPage
from thresher.ui.stick.save_dialog import SaveDialog


class Session(QObject):
    """Carries out what the pages ask for; everything that may block does so beside it."""

    def __init__(self, home: Path = HOME, run: Path = RUN) -> None:
        """`home` is where jobs are kept, `run` where the start has left what it found."""
        super().__init__()
        self._home, self._run = home, run
        self._scheme = theme.LIGHT
        self.page: QWidget | None = None
        self._process: QProcess | None = None

    def begin(self) -> None:
        """Ask what was not asked yet, or open the window at once: after a crash nobody may be here."""
        in_background(
            self,
            lambda: (read_settings(self._home), read_going_on(self._home), read_state(self._run)),
            lambda found: self._begin(*found),
            lambda error: self._begin(Settings(), None, StickState(reason=str(error))),
        )

    def _begin(self, settings: Settings, going_on: Path | None, state: StickState) -> None:
        if settings.keyboard:
            self._use_keyboard(settings.keyboard)
        if settings.keyboard or going_on is not None:
            self._open_on(going_on)
            return
        page = FirstPage(state, settings, layouts(), now(), self._scheme)
        page.keyboard_chosen.connect(self._use_keyboard)
        page.done.connect(lambda chosen, clock_wrong: self._take(page, chosen, clock_wrong))
        self._show(page)

    def _take(self, page: FirstPage, chosen: Settings, clock_wrong: bool) -> None:
        keeps = page.keeps_jobs
        page.open.setEnabled(False)
        page.say("Making the partition for jobs …" if keeps else "")

        def carry_out() -> None:
            if keeps:
                keep_on_stick(self._home, self._run)
            write_settings(chosen, self._home)
            if clock_wrong:
                write_state(msgspec.structs.replace(read_state(self._run), clock_wrong=True), self._run)

        def done(_none: None) -> None:
            self._use_keyboard(chosen.keyboard)
            self.open_window()

        in_background(self, carry_out, done, lambda error: self._refuse(page, error))

    def _refuse(self, page: FirstPage, error: object) -> None:
        page.say(str(error))
        page.keep.setEnabled(False)
        page.memory.setChecked(True)
        page.open.setEnabled(True)

    def open_window(self) -> None:
        """Open the bench, on the job that goes on after a crash where there is one."""
        in_background(self, lambda: read_going_on(self._home), self._open_on, lambda error: _say(self.page, str(error)))

    def _open_on(self, going_on: Path | None) -> None:
        arguments = own_command("thresher.ui", "--live", *(["--job", str(going_on)] if going_on is not None else []))
        self._process = process = QProcess(self)
        process.setProcessChannelMode(QProcess.ProcessChannelMode.ForwardedChannels)
        process.finished.connect(lambda *_: QTimer.singleShot(0, self.between))
        process.errorOccurred.connect(
            lambda error: self.between() if error is QProcess.ProcessError.FailedToStart else None
        )
        process.start(arguments[0], arguments[1:])
        _say(self.page, "Opening the bench …")  # it stays behind the window, which takes its time on an old machine

    def between(self) -> None:
        """Show what can be done now that the window has closed."""
        in_background(
            self,
            lambda: (read_state(self._run), len(jobs_in(self._home))),
            lambda found: self._between(*found),
            lambda error: self._between(StickState(reason=str(error)), 0),
        )

    def _between(self, state: StickState, jobs: int) -> None:
        page = BetweenPage(state, jobs, self._scheme)
        page.chosen.connect(lambda word: self._choose(page, word))
        self._show(page)

    def _choose(self, page: BetweenPage, word: str) -> None:
        if word == "bench":
            self.open_window()
        elif word == "save":
            SaveDialog(self._home, self._scheme, page).exec()
        elif word == "keep":
            page.say("Making the partition for jobs; those in memory are copied to it …")
            in_background(
                self,
                lambda: keep_on_stick(self._home, self._run),
                lambda _state: self.between(),
                lambda error: page.say(str(error)),
            )
        else:
            page.say("Shutting down …" if word == "off" else "Restarting …")
            QProcess.startDetached("systemctl", ["poweroff" if word == "off" else "reboot"])

    def _use_keyboard(self, name: str) -> None:
        if shutil.which("setxkbmap"):
            QProcess.startDetached("setxkbmap", ["-layout", name])

    def _show(self, page: QWidget) -> None:
        if self.page is not None:
            self.page.close()
            self.page.deleteLater()
        self.page = page
        page.showFullScreen()
        page.activateWindow()


def _say(page: QWidget | None, words: str) -> None:
    if isinstance(page, FirstPage | BetweenPage):
        page.say(words)
