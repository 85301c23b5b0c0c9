"""Windows on real engines, without a display."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.ui import theme
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow

OpenWindow = Callable[..., MainWindow]


@pytest.fixture(autouse=True)
def fonts(qapp: QApplication) -> None:
    """The program's own fonts, so that widths are those of the real window."""
    theme.load_fonts()


@pytest.fixture
def engine(tmp_path: Path) -> Iterator[EngineProcess]:
    """An engine on the demo bench, thirty times as fast as life."""
    arguments = ("--simulate", "lighthouse-playout", "--speed", "30", "--sheet", "reset-hunt-short")
    started = EngineProcess(tmp_path, *arguments)
    yield started
    started.close()


@pytest.fixture
def keep(qapp: QApplication) -> Iterator[Callable[[MainWindow], None]]:
    """Keep windows alive until the end of the test, then take them down in order.

    The plugin itself holds only weak references, and a window that is collected while it is being painted
    takes the process with it.
    """
    windows: list[MainWindow] = []
    yield windows.append
    for window in windows:
        window.close()
        window.deleteLater()
    qapp.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    qapp.processEvents()


@pytest.fixture
def open_window(qtbot: QtBot, keep: Callable[[MainWindow], None]) -> Iterator[OpenWindow]:
    """Open windows on engines and close them at the end."""
    links: list[EngineLink] = []

    def open_on(engine: EngineProcess) -> MainWindow:
        state, look, link = BenchState(), Look(), EngineLink(engine.socket)
        links.append(link)
        window = MainWindow(state, look, link)
        keep(window)
        link.opened.connect(state.take_snapshot)
        link.rows_came.connect(state.take_rows)
        link.event_came.connect(state.take_event)
        link.refused.connect(window.say)
        window.show()
        link.open()
        qtbot.waitUntil(lambda: state.tick is not None, timeout=20_000)
        return window

    yield open_on
    for link in links:
        link.close()
