"""The application object around the window: fonts, scheme, the engine's life as the window sees it."""

import argparse
import gc
import json
import os
import subprocess
import sys
import time
from pathlib import Path

from PyQt6.QtCore import QEvent, QObject, QSettings, QTimer
from PyQt6.QtGui import QFont
from PyQt6.QtWidgets import QApplication

from thresher.app.launch import start_engine_process
from thresher.app.log_file import set_up_logging
from thresher.model.own_program import own_command
from thresher.model.regular_file import is_file, is_there
from thresher.protocol.commands import QuitEngine
from thresher.ui import theme
from thresher.ui.background import in_background
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.plain_text import PlainTextStyle
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow

_WATCH_MS = 250
_GONE_MS, _GONE_BY_S = 30, 20.0
_MOST_RESTARTS = 3
_SPARE_MS = 3_000


def make_app(arguments: list[str]) -> QApplication:
    """Return the application with Thresher's fonts."""
    app = QApplication([sys.argv[0], *arguments])
    app.setApplicationName("thresher")
    app.setApplicationDisplayName("")
    app.setStyle(PlainTextStyle("Fusion"))
    theme.load_fonts()
    app.setFont(QFont("B612", 10))
    return app


class EngineKeeper(QObject):
    """Watches the engine that this window started: says why it does not start, and starts it again when it dies."""

    def __init__(
        self,
        window: MainWindow,
        link: EngineLink,
        process: "subprocess.Popen[bytes] | None",
        socket: Path,
        log: Path,
        arguments: list[str],
    ) -> None:
        """`arguments` are what the engine was started with."""
        super().__init__(window)
        self._window = window
        self._process = process
        self._socket = socket
        self._log = log
        self._arguments = arguments
        self._restarts = 0
        self._opened = False
        self._job_file = ""
        link.opened.connect(self._on_opened)
        link.lost.connect(self._on_lost)
        self._link = link
        self._moving = False
        self._gone_by = 0.0
        self._leaving: list[subprocess.Popen[bytes]] = []
        window.job_wanted.connect(self.open_job)
        self._timer = QTimer(self)
        self._timer.setInterval(_WATCH_MS)
        self._timer.timeout.connect(self._watch)
        self._timer.start()

    def open_job(self, path: str, model: str) -> None:
        """Let the engine go in order and start one on another job, on the simulated machine that belongs to it."""
        kept = {"--shop", "--speed", "--every"}
        pairs = zip(self._arguments[::2], self._arguments[1::2], strict=True)
        self._arguments = [word for name, value in pairs if name in kept for word in (name, value)]
        self._arguments += ["--job", path, *(["--simulate", model] if model else [])]
        self._moving = True
        self._window.state.say_trouble("Opening the job")
        self._link.call(QuitEngine())

    def _start_when_gone(self) -> None:
        """Start the engine of the other job as soon as the one before has given its socket up."""
        if is_there(self._socket) and time.monotonic() > self._gone_by:
            self._moving = False
            self._window.say(
                f"The engine of the job before has not ended within {_GONE_BY_S:.0f} s ({self._socket}).\n"
                "End its process, then open the job again."
            )
            return
        if is_there(self._socket):
            QTimer.singleShot(_GONE_MS, self._start_when_gone)
            return
        self._moving = False
        self._restarts = 0
        self._start(self._arguments)

    def wait(self, seconds: float) -> None:
        """Wait for all engines that this window started to end. Raises TimeoutExpired for one in progress."""
        for process in (*self._leaving, self._process):
            if process is not None:
                process.wait(seconds)

    def _on_opened(self, _snapshot: object) -> None:
        self._opened = True
        snapshot = self._window.state.snapshot
        self._job_file = snapshot.job_file if snapshot else ""

    def _on_lost(self) -> None:
        self._opened = False
        if self._window.state.access.reopens:
            return  # the same engine opens the job again, with more access; the link tries until it answers
        if self._moving:
            self._gone_by = time.monotonic() + _GONE_BY_S
            self._start_when_gone()
            return
        self._window.say("The engine has gone. Its rows are safe up to the last tick; starting it again.")
        self._restart()

    def _watch(self) -> None:
        self._leaving = [process for process in self._leaving if process.poll() is None]
        if self._opened or self._moving:
            return
        if self._process is None:
            # a socket file was there when the window began; if nobody answers it was left by an engine that died
            if self._restarts == 0:
                self._restart()
            return
        code = self._process.poll()
        if code not in (None, 0):
            self._process = None
            self._restarts = _MOST_RESTARTS
            last = self._log.read_text("utf-8", "replace").strip().splitlines()[-6:] if is_there(self._log) else []
            words = "The engine did not start:\n" + ("\n".join(last) or f"it ended with {code}")
            self._say_why_not(words, self._job_of_arguments())

    def _say_why_not(self, words: str, job: Path | None) -> None:
        """Say why the engine did not start; offer to look at a job that can only be looked at."""
        if job is None:
            self._window.say(words)
            return

        def offer(can_look: bool) -> None:
            if can_look:
                self._window.ask(words, "Look at it, read only", lambda: self._look_at(job))
            else:
                self._window.say(words)

        # the drive with the job may not answer
        in_background(
            self, lambda: can_only_be_looked_at(job), offer, lambda error: self._window.say(f"{words}\n{error}")
        )

    def _job_of_arguments(self) -> Path | None:
        names = self._arguments[::2]
        return Path(self._arguments[2 * names.index("--job") + 1]) if "--job" in names else None

    def _look_at(self, job: Path) -> None:
        """Show a job that cannot be opened for work, in a window of its own."""
        subprocess.Popen(own_command("thresher.ui", "--stored", str(job)), start_new_session=True)
        self._window.close()

    def _restart(self) -> None:
        if self._restarts >= _MOST_RESTARTS:
            return
        self._restarts += 1
        arguments = list(self._arguments)
        if self._job_file and "--job" not in arguments:
            arguments += ["--job", self._job_file]
        self._start(arguments)

    def _start(self, arguments: list[str]) -> None:
        if self._process is not None:
            self._leaving.append(self._process)
        self._process = start_engine_process(self._socket, arguments, self._log)


class _Measure(QObject):
    """Measures how long the window took to be usable and its longest wait, for the speed figures."""

    def __init__(self, window: MainWindow, link: EngineLink, seconds: float) -> None:
        super().__init__(window)
        self._window = window
        self._begun = time.monotonic()
        self._usable: float | None = None
        self._last = self._begun
        self._longest = 0.0
        link.rows_came.connect(self._on_rows)
        self._timer = QTimer(self)
        self._timer.setInterval(5)
        self._timer.timeout.connect(self._beat)
        self._timer.start()
        self._seconds = seconds

    def _on_rows(self, _rows: object) -> None:
        if self._usable is None:
            self._usable = time.monotonic()
            self._last = self._usable
            self._longest = 0.0
            QTimer.singleShot(300, self._window.start)
            QTimer.singleShot(int(self._seconds * 1000), self._finish)

    def _beat(self) -> None:
        now = time.monotonic()
        self._longest = max(self._longest, now - self._last)
        self._last = now

    def _finish(self) -> None:
        run = self._window.state.run
        figures = {
            "usable_monotonic": self._usable,
            "longest_wait_s": self._longest,
            "workers": run.workers_started,
            "state": run.state,
        }
        print(json.dumps(figures), flush=True)
        self._window.stop()
        QTimer.singleShot(800, self._window.close)


def spare_collections() -> None:
    """Take everything that exists now out of what the garbage collector looks through.

    What was imported and built at the start stays anyway, and looking through all of it takes as long as three frames.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 100)  # drafts and ticks are values without cycles: looking for them can wait


def can_only_be_looked_at(job: Path) -> bool:
    """Whether a job file is there, and another program has it open or its folder cannot be written."""
    from thresher.journal.lock import holder

    return is_file(job) and (holder(job) is not None or not os.access(job.parent, os.W_OK))


def show_job(window: MainWindow, path: Path) -> None:
    """Fill the window from a stored job. Raises ThresherError."""
    from thresher.app.stored_job import stored_history, stored_snapshot
    from thresher.app.stored_verdict import job_verdict, shop_of
    from thresher.journal.jobfile import JobFile

    with JobFile(path, read_only=True) as stored:
        window.state.take_snapshot(stored_snapshot(stored, job_verdict(stored, shop_of(stored))))
        readings = stored_history(stored)
        window.state.take_history(readings.at, readings.values)
        endings = stored.endings()
        if endings:
            window.bench.ending.take_moments(stored.last_moments(endings[-1]))


def draw_bench(app: QApplication, window: MainWindow, out: Path) -> int:
    """Draw the window into a PNG; return the exit code."""
    window.state.refresh_now()
    for _ in range(6):
        app.processEvents()
    if window.grab().save(str(out)):
        return 0
    print(f"{out} could not be written", file=sys.stderr)
    return 2


def take_down(app: QApplication, window: MainWindow) -> None:
    """Delete a window's widgets while the application still lives.

    Left to the interpreter's end they are deleted in no order, and a plot that is asked to paint without its
    scene takes the process with it.
    """
    window.close()
    window.deleteLater()
    app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    app.processEvents()


def run_window(options: argparse.Namespace, socket: Path, process: "subprocess.Popen[bytes] | None", log: Path) -> int:
    """Show the window until it is closed."""
    set_up_logging()
    from thresher.model.errors import ThresherError
    from thresher.ui.__main__ import engine_arguments

    app = make_app([])
    scheme = theme.DARK if options.dark else theme.desktop_scheme()
    state, look = BenchState(), Look(scheme)
    link = EngineLink(socket) if options.stored is None else None
    settings = QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "thresher", "window")
    window = MainWindow(state, look, link, settings)
    wide, high = (int(part) for part in options.size.split("x"))
    window.resize(wide, high)
    window.show()
    if link is None:
        try:
            show_job(window, options.stored)
        except ThresherError as error:
            print(error, file=sys.stderr)
            take_down(app, window)
            return 2
        code = draw_bench(app, window, options.picture) if options.picture else app.exec()
        take_down(app, window)
        return code
    link.opened.connect(state.take_snapshot)
    link.rows_came.connect(state.take_rows)
    link.event_came.connect(state.take_event)
    link.refused.connect(window.say)
    keeper = EngineKeeper(window, link, process, socket, log, engine_arguments(options))
    keeper.setObjectName("engine_keeper")
    if options.measure is not None:
        _Measure(window, link, options.measure)
    link.open()
    QTimer.singleShot(_SPARE_MS, spare_collections)
    code = app.exec()
    take_down(app, window)
    return code
