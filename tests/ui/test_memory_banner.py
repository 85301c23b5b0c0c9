"""On the stick without a place for jobs the window says so, and one key saves them."""

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

from thresher.stick import boot
from thresher.stick.boot import StickState, stick_without_jobs, write_state
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stick.banner import MemoryBanner
from thresher.ui.window import MainWindow


@pytest.fixture
def in_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> StickState:
    state = StickState(reason="this stick has no partition for jobs yet", drive="/dev/sdb", room=5)
    write_state(state, tmp_path)
    for name in ("thresher.ui.stick.banner.stick_without_jobs", "thresher.ui.stick.save_dialog.read_state"):
        monkeypatch.setattr(name, lambda *_: state)
    return state


def test_only_a_stick_without_jobs_says_anything(tmp_path: Path) -> None:
    assert stick_without_jobs(tmp_path) is None, "no stick"
    write_state(StickState(lasting=True), tmp_path)
    assert stick_without_jobs(tmp_path) is None
    write_state(StickState(reason="too small"), tmp_path)
    assert stick_without_jobs(tmp_path) == StickState(reason="too small")
    (tmp_path / "state.json").write_text("damaged")
    damaged = stick_without_jobs(tmp_path)
    assert damaged is not None
    assert "state.json" in damaged.reason
    assert boot.stick_without_jobs() is None, "this computer is no stick"


def test_the_window_says_that_jobs_are_in_memory_and_saves_them(qtbot: QtBot, in_memory: StickState) -> None:
    window = MainWindow(BenchState(), Look(), None)
    qtbot.addWidget(window)
    window.show()
    banner = window.findChild(MemoryBanner)
    assert banner is not None
    assert in_memory.reason in banner.words
    assert banner.isVisible()
    assert window.height() >= 700
    banner.grab()
    qtbot.mouseClick(banner.save, Qt.MouseButton.LeftButton)
    from thresher.ui.stick.save_dialog import SaveDialog

    assert window.findChild(SaveDialog) is not None


def test_elsewhere_there_is_no_such_line(qtbot: QtBot) -> None:
    window = MainWindow(BenchState(), Look(), None)
    qtbot.addWidget(window)
    assert window.findChild(MemoryBanner) is None
