"""The stick's own pages and dialogs, as somebody without a mouse uses them."""

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from thresher.model.errors import EnvironmentFault
from thresher.stick.boot import Settings, StickState, write_state
from thresher.stick.keeping import Share, Target
from thresher.ui import theme
from thresher.ui.stick import save_dialog
from thresher.ui.stick.keyboards import layouts, parse_layouts
from thresher.ui.stick.pages import BetweenPage, FirstPage
from thresher.ui.stick.save_dialog import SaveDialog

MARCH = 1_772_539_200.0
LAYOUTS = [("us", "English (US)"), ("de", "German"), ("fr", "French")]


def first_page(qtbot: QtBot, state: StickState, now: float = MARCH) -> FirstPage:
    page = FirstPage(state, Settings(), LAYOUTS, now, theme.LIGHT)
    qtbot.addWidget(page)
    page.resize(1024, 700)
    page.show()
    return page


def test_keyboard_jobs_and_clock_are_asked_by_keyboard_alone(qtbot: QtBot) -> None:
    page = first_page(qtbot, StickState(reason="none yet", drive="/dev/sdb", room=6_000_000_000))
    chosen: list[str] = []
    page.keyboard_chosen.connect(chosen.append)
    qtbot.keyClick(page.layouts, Qt.Key.Key_Down)
    assert chosen == ["de"]
    assert page.keep.isChecked(), "what loses nothing is offered first"
    assert "6.0 GB" in page.keep.text()
    assert page.keeps_jobs
    with qtbot.waitSignal(page.done) as done:
        qtbot.keyClick(page.layouts, Qt.Key.Key_Return)
    assert done.args == [Settings("de", memory_only=False, clock_right=None)]
    page.grab()


def test_a_stick_without_room_says_so_and_offers_memory_only(qtbot: QtBot) -> None:
    page = first_page(
        qtbot, StickState(reason="this stick is too small to keep jobs beside the image", drive="/dev/sdb")
    )
    assert not page.keep.isEnabled()
    assert page.memory.isChecked()
    page.memory.setFocus()
    with qtbot.waitSignal(page.done) as done:
        qtbot.keyClick(page.memory, Qt.Key.Key_Return)
    assert done.args[0].memory_only


def test_a_clock_that_is_behind_is_named(qtbot: QtBot) -> None:
    page = first_page(qtbot, StickState(lasting=True, drive="/dev/sdb", seen=MARCH + 900 * 86400.0))
    assert page.wrong.isChecked()
    page.right.setChecked(True)
    with qtbot.waitSignal(page.done) as done:
        page.open.click()
    assert done.args == [Settings("us", memory_only=False, clock_right=True)]


def test_between_two_windows_one_key_chooses(qtbot: QtBot) -> None:
    page = BetweenPage(StickState(reason="none", drive="/dev/sdb", room=5), 2, theme.LIGHT)
    qtbot.addWidget(page)
    page.show()
    words = [each.text() for each in page.findChildren(QPushButton)]
    assert words[0] == "Open the bench again   B"
    assert "Keep jobs on this stick   K" in words
    with qtbot.waitSignal(page.chosen) as chosen:
        qtbot.keyClicks(page.buttons["bench"], "o")
    assert chosen.args == ["off"]
    kept = BetweenPage(StickState(lasting=True, drive="/dev/sdb"), 2, theme.LIGHT)
    qtbot.addWidget(kept)
    assert "keep" not in kept.buttons


def test_layouts_come_from_the_systems_list(tmp_path: Path) -> None:
    entries = "  am  Armenian\n  de  German\n  us  English (US)\n  custom  Own\n"
    text = f"! model\n  pc105  Generic\n! layout\n{entries}! variant\n  x  y\n"
    assert parse_layouts(text) == [("us", "English (US)"), ("de", "German"), ("am", "Armenian")]
    assert layouts(tmp_path / "gone") == [("us", "English (US)")]


@pytest.fixture
def dialog(qtbot: QtBot, tmp_path: Path, finished_job: Path, monkeypatch: pytest.MonkeyPatch) -> SaveDialog:
    home, run = tmp_path / "home", tmp_path / "run"
    jobs = home / "data/thresher/jobs"
    jobs.mkdir(parents=True)
    run.mkdir()
    (jobs / "a.thresher").write_bytes(finished_job.read_bytes())
    write_state(StickState(drive="/dev/sdb"), run)
    found = [Target("/dev/sdc1", "vfat", "BENCH", 16_000_000_000)]
    monkeypatch.setattr(save_dialog, "find_targets", lambda _drive: found)
    made = SaveDialog(home, theme.LIGHT, None, run)
    qtbot.addWidget(made)
    made.show()
    qtbot.waitUntil(lambda: made.drives.count() == 1, timeout=10_000)
    return made


def test_jobs_are_saved_to_the_drive_that_is_chosen(
    qtbot: QtBot, dialog: SaveDialog, monkeypatch: pytest.MonkeyPatch
) -> None:
    saved: list[tuple[str, list[str]]] = []

    def save(target: Target, jobs: list[Path]) -> str:
        saved.append((target.device, [each.name for each in jobs]))
        return "1 job saved"

    monkeypatch.setattr(save_dialog, "save_to", save)
    dialog.save.click()
    qtbot.waitUntil(lambda: dialog.said.text() == "1 job saved", timeout=10_000)
    assert saved == [("/dev/sdc1", ["a.thresher"])]


def test_a_share_that_refuses_is_said(qtbot: QtBot, dialog: SaveDialog, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(share: Share, jobs: list[Path]) -> str:
        raise EnvironmentFault(f"mounting {share.address}", "permission denied", "Check user and password.")

    monkeypatch.setattr(save_dialog, "save_to_share", refuse)
    dialog.address.setText("//quay/bench")
    dialog.share.click()
    qtbot.waitUntil(lambda: "permission denied" in dialog.said.text(), timeout=10_000)


def test_a_code_is_shown_for_a_photograph(qtbot: QtBot, dialog: SaveDialog) -> None:
    def dark() -> int:
        image = dialog.code.grab().toImage()
        return sum(image.pixelColor(x, y).lightness() < 40 for x in range(0, 340, 2) for y in range(0, 340, 2))

    qtbot.waitUntil(lambda: dark() > 2000, timeout=20_000)
    image = dialog.code.grab().toImage()
    assert all(image.pixelColor(x, 2).lightness() > 240 for x in range(340)), "a quiet zone all around"
