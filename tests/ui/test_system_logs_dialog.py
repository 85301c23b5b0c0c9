"""Reading the installed system's logs in the window: consent first, then the timeline, then evidence."""

from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF
from pytestqt.qtbot import QtBot

from tests.system_logs.conftest import NOON
from thresher.decoding.recognise import load_tables
from thresher.model.vendors import Vendor
from thresher.protocol.commands import AddEvidence
from thresher.simulator.event_log_writer import Event, write_log
from thresher.system_logs.installed import find_systems
from thresher.system_logs.reading import read_system
from thresher.ui.look import Look
from thresher.ui.stations.evidence.system_logs_dialog import SystemLogsAnswer, SystemLogsDialog, words_of

DAY = 86400.0


def drive_of(root: Path) -> Path:
    logs = root / "Windows" / "System32" / "winevt" / "Logs"
    logs.mkdir(parents=True)
    events = [
        Event("Microsoft-Windows-Kernel-General", 12, NOON - 30 * DAY),
        Event("EventLog", 6006, NOON - 30 * DAY + 3600),
        Event("Microsoft-Windows-Kernel-General", 12, NOON),
        Event("EventLog", 6008, NOON + 5),
        Event("disk", 7, NOON + 60, (r"\Device\Harddisk0\DR0",)),
        Event("DCOM", 10016, NOON + 90),
    ]
    (logs / "System.evtx").write_bytes(write_log(events))
    return root


@pytest.fixture
def dialog(qtbot: QtBot) -> SystemLogsDialog:
    made = SystemLogsDialog(Look(), Vendor.INTEL)
    qtbot.addWidget(made)
    made.show()
    return made


def test_nothing_is_read_before_the_customer_has_agreed(dialog: SystemLogsDialog) -> None:
    dialog.offer("/dev/sda2", "/dev/sda2: encrypted (BitLocker); left alone", locked=True)
    dialog.consent.setChecked(True)
    assert not dialog.read.isEnabled(), "there is nothing that can be read"
    dialog.consent.setChecked(False)
    dialog.offer("/dev/sda3", "/dev/sda3: 400 GB, ntfs")
    assert not dialog.read.isEnabled()
    dialog.consent.setChecked(True)
    assert dialog.read.isEnabled()
    assert dialog.chosen == ["/dev/sda3"]
    assert not dialog.add.isEnabled()


def test_a_folder_is_read_by_a_process_and_added_with_its_own_times(
    qtbot: QtBot, dialog: SystemLogsDialog, tmp_path: Path
) -> None:
    root = drive_of(tmp_path / "drive")
    notes: list[str] = []
    dialog.note_wanted.connect(notes.append)
    dialog.offer(str(root), str(root))
    dialog.offer("/dev/sda1", "/dev/sda1, the system that is running", ticked=False)
    assert dialog.chosen == [str(root)]
    dialog.consent.setChecked(True)
    dialog.read.click()
    qtbot.waitUntil(lambda: bool(dialog.answer.systems), timeout=60_000)
    assert dialog.add.text() == "Add 2 to this job as evidence"
    commands: list[object] = []
    dialog.evidence_wanted.connect(commands.append)
    dialog.add.click()
    (command,) = commands
    assert isinstance(command, AddEvidence)
    assert command.own_times
    assert [each.at for each in command.findings] == [NOON + 5, NOON + 60]
    assert command.minutes == pytest.approx(60.0 + 1.5, abs=0.6), "an hour, and a minute and a half on the last day"
    assert "consent" in notes[0], "noted as soon as it was read"


def test_the_chart_says_what_is_under_the_mouse(dialog: SystemLogsDialog, tmp_path: Path) -> None:
    (system,) = find_systems(drive_of(tmp_path / "drive"))
    read = read_system(system, load_tables(), Vendor.INTEL)
    dialog.show_answer(SystemLogsAnswer((read,), (("/dev/sda2", "encrypted"),)))
    dialog.chart.grab()
    wide = dialog.chart.width()
    words = {dialog.chart.words_at(QPointF(x, y)) for x in range(0, wide, 4) for y in range(0, 280, 6)}
    assert any("2026-03-03  Bad block on a drive" in each for each in words)
    assert any("Previous shutdown was unexpected" in each for each in words)
    assert any(each.startswith("2026-02-01: 1.0 h") for each in words)
    lines = words_of(dialog.answer)
    assert "/dev/sda2: not read: encrypted" in lines
    assert any("System.evtx: 6 events, 2 of them evidence" in each for each in lines)


def test_where_nothing_is_installed_that_is_said(qtbot: QtBot, dialog: SystemLogsDialog, tmp_path: Path) -> None:
    dialog.offer(str(tmp_path), str(tmp_path))
    dialog.consent.setChecked(True)
    dialog.read.click()
    qtbot.waitUntil(lambda: dialog.said.text().startswith("No installed system"), timeout=60_000)
    assert not dialog.add.isEnabled()


def test_a_simulated_machine_has_a_drive_of_its_own(qtbot: QtBot) -> None:
    made = SystemLogsDialog(Look(), Vendor.INTEL, "lighthouse-playout")
    qtbot.addWidget(made)
    made.look_for_drives()
    assert not made.folder.isEnabled(), "the bench's own computer has nothing to do with it"
    made.consent.setChecked(True)
    made.read.click()
    qtbot.waitUntil(lambda: bool(made.answer.systems), timeout=60_000)
    codes = {group.code for group in made.answer.systems[0].groups}
    assert codes == {"P-310", "C-210"}, "a weak core, and a heatsink that is clogged"
