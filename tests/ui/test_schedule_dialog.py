"""Scheduled rounds in the window: the week, a new round by days and time, one taken off, refusals."""

import threading
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from thresher.app.schedule import Scheduled, calendar, listed
from thresher.model.checks import Round
from thresher.model.errors import EnvironmentFault
from thresher.ui.look import Look
from thresher.ui.schedule_dialog import ScheduleDialog, days_of, hour_of, when_of


class Manager:
    """The service manager, which may refuse; it notes on which thread it was asked."""

    def __init__(self, refuses: bool = False) -> None:
        self.enabled: list[str] = []
        self.threads: set[str] = set()
        self._refuses = refuses

    def reload(self) -> None:
        self.threads.add(threading.current_thread().name)

    def enable(self, unit: str) -> None:
        if self._refuses:
            raise EnvironmentFault(f"enabling {unit}", "no session bus answers", "Do it in a desktop session.")
        self.enabled.append(unit)

    def disable(self, unit: str) -> None:
        self.enabled.remove(unit)


def open_dialog(qtbot: QtBot, folder: Path, manager: Manager) -> ScheduleDialog:
    dialog = ScheduleDialog(Look(), folder, manager)
    qtbot.addWidget(dialog)
    with qtbot.waitSignal(dialog.changed, timeout=5_000):
        dialog.show()
    return dialog


def test_a_round_is_added_shown_in_the_week_and_removed(qtbot: QtBot, tmp_path: Path) -> None:
    manager = Manager()
    dialog = open_dialog(qtbot, tmp_path / "units", manager)
    assert not dialog.week.rounds
    dialog.name.setText("evening")
    dialog.time.setText("18:05")
    put = dialog.findChild(QPushButton, "schedule_add")
    assert put is not None
    with qtbot.waitSignal(dialog.changed, timeout=5_000):
        qtbot.mouseClick(put, Qt.MouseButton.LeftButton)
    assert dialog.week.rounds == (Scheduled("evening", "Mon..Fri 18:05", Round.SHORT),)
    assert manager.enabled == ["thresher-round-evening.timer"]
    assert manager.threads == {"background"}, "the bus is not asked on the window's thread"
    assert "ExecStart=" in (tmp_path / "units" / "thresher-round-evening.service").read_text()
    dialog.grab()
    off = dialog.findChild(QPushButton, "schedule_remove_evening")
    assert off is not None
    with qtbot.waitSignal(dialog.changed, timeout=5_000):
        qtbot.mouseClick(off, Qt.MouseButton.LeftButton)
    assert listed(tmp_path / "units") == ()
    assert manager.enabled == []


@pytest.mark.parametrize(
    ("name", "time", "words"),
    [
        ("Evening!", "18:00", "expected small letters"),
        ("evening", "25:00", "expected a time such as"),
        ("evening", "18:00\nExecStart=x", "expected a time such as"),
        ("", "18:00", "expected small letters"),
    ],
)
def test_what_cannot_be_is_said(qtbot: QtBot, tmp_path: Path, name: str, time: str, words: str) -> None:
    dialog = open_dialog(qtbot, tmp_path / "units", Manager())
    dialog.name.setText(name)
    dialog.time.setText(time)
    dialog.put()
    qtbot.waitUntil(lambda: words in dialog.trouble.text(), timeout=5_000)
    assert not (tmp_path / "units").exists() or listed(tmp_path / "units") == ()


def test_no_day_is_no_time_and_a_manager_that_refuses_is_quoted(qtbot: QtBot, tmp_path: Path) -> None:
    dialog = open_dialog(qtbot, tmp_path / "units", Manager(refuses=True))
    dialog.name.setText("noon")
    for day in dialog.days:
        day.setChecked(False)
    dialog.put()
    assert dialog.trouble.text() == "Choose at least one day."
    dialog.days[5].setChecked(True)
    dialog.put()
    qtbot.waitUntil(lambda: "no session bus answers" in dialog.trouble.text(), timeout=5_000)


@pytest.mark.parametrize(
    ("days", "words"),
    [
        ({0, 1, 2, 3, 4, 5, 6}, "07:30"),
        ({0, 1, 2, 3, 4}, "Mon..Fri 07:30"),
        ({5, 6}, "Sat,Sun 07:30"),
        ({0, 2, 4}, "Mon,Wed,Fri 07:30"),
        ({3}, "Thu 07:30"),
    ],
)
def test_days_become_words_and_words_days(days: set[int], words: str) -> None:
    assert when_of(frozenset(days), " 07:30 ") == words
    assert days_of(words) == days
    assert calendar(words).endswith("07:30:00")
    assert hour_of(words) == 7.5


def test_days_over_the_end_of_the_week() -> None:
    assert days_of("Sat..Mon 9:15") == {5, 6, 0}
    assert hour_of("Sat..Mon 9:15") == 9.25
