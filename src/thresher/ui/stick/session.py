"""The stick's session: the page before the first job, then windows, and between them what to do next."""

import shutil
import sys
from pathlib import Path

from PyQt6.QtCore import QObject, QProcess, QTimer
from PyQt6.QtWidgets import QWidget

from thresher.model.errors import ThresherError
from thresher.model.own_program import own_command
from thresher.stick.boot import HOME, RUN, Settings, read_going_on, read_settings, read_state, write_settings
from thresher.stick.clock import now
from thresher.stick.keeping import jobs_in, keep_on_stick
from thresher.ui import theme
from thresher.ui.background import in_background
from thresher.ui.stick.keyboards import layouts
from thresher.ui.stick.pages import BetweenPage, FirstPage
from thresher.ui.stick.save_dialog import SaveDialog

_FAST_MS = 3000
"""A window that ends sooner has not really opened."""


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
        settings = read_settings(self._home)
        if settings.keyboard:
            self._use_keyboard(settings.keyboard)
        if settings.keyboard or read_going_on(self._home) is not None:
            self.open_window()
        else:
            self.ask(settings)

    def ask(self, settings: Settings) -> None:
        """Show the page before the first job."""
        page = FirstPage(read_state(self._run), settings, layouts(), now(), self._scheme)
        page.keyboard_chosen.connect(self._use_keyboard)
        page.done.connect(lambda chosen: self._take(page, chosen))
        self._show(page)

    def _take(self, page: FirstPage, chosen: Settings) -> None:
        page.open.setEnabled(False)
        if not page.keeps_jobs:
            self._settle(chosen, page)
            return
        page.say("Making the partition for jobs …")
        in_background(
            self,
            lambda: keep_on_stick(self._home, self._run),
            lambda _state: self._settle(chosen, page),
            lambda error: self._refuse(page, error),
        )

    def _refuse(self, page: FirstPage, error: object) -> None:
        page.say(str(error))
        page.keep.setEnabled(False)
        page.memory.setChecked(True)
        page.open.setEnabled(True)

    def _settle(self, chosen: Settings, page: FirstPage) -> None:
        try:
            write_settings(chosen, self._home)
        except ThresherError as error:
            page.say(str(error))
            page.open.setEnabled(True)
            return
        self._use_keyboard(chosen.keyboard)
        self.open_window()

    def open_window(self) -> None:
        """Open the bench, on the job that goes on after a crash where there is one."""
        going_on = read_going_on(self._home)
        arguments = own_command("thresher.ui", "--live", *(["--job", str(going_on)] if going_on is not None else []))
        self._process = process = QProcess(self)
        process.setProcessChannelMode(QProcess.ProcessChannelMode.ForwardedChannels)
        process.finished.connect(lambda *_: QTimer.singleShot(0, self.between))
        process.errorOccurred.connect(
            lambda error: self.between() if error is QProcess.ProcessError.FailedToStart else None
        )
        process.start(arguments[0], arguments[1:])
        if isinstance(self.page, FirstPage | BetweenPage):
            self.page.say("Opening the bench …")  # it stays behind the window, which takes its time on an old machine

    def between(self) -> None:
        """Show what can be done now that the window has closed."""
        page = BetweenPage(read_state(self._run), len(jobs_in(self._home)), self._scheme)
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
            page.say("Going down …" if word == "off" else "Starting again …")
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
        sys.stdout.flush()
