"""The stick's own pages and dialogs, as somebody without a mouse uses them."""

import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from thresher.app.keeping_jobs import Share, Target
from thresher.model.errors import EnvironmentFault
from thresher.stick.boot import Settings, StickState, read_state, write_state
from thresher.ui import theme
from thresher.ui.stick import save_dialog
from thresher.ui.stick.keyboards import layouts, parse_layouts
from thresher.ui.stick.pages import BetweenPage, FirstPage
from thresher.ui.stick.save_dialog import SaveDialog
from thresher.ui.stick.session import Session

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
    assert done.args == [Settings("de"), False]
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
    assert done.args == [Settings("us"), False]
    assert not page.keeps_jobs


def test_a_clock_that_is_behind_is_named(qtbot: QtBot) -> None:
    page = first_page(qtbot, StickState(lasting=True, drive="/dev/sdb", built=MARCH + 900 * 86400.0))
    assert page.wrong.isChecked()
    with qtbot.waitSignal(page.done) as done:
        page.open.click()
    assert done.args == [Settings("us"), True]
    page.right.setChecked(True)
    with qtbot.waitSignal(page.done) as done:
        page.open.click()
    assert done.args == [Settings("us"), False]


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


def test_the_session_asks_once_and_then_opens_the_bench(
    qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    home, run = tmp_path / "home", tmp_path / "run"
    home.mkdir()
    run.mkdir()
    write_state(StickState(lasting=True, drive="/dev/sdb"), run)
    opened: list[list[str]] = []

    def command(module: str, *arguments: str) -> list[str]:
        opened.append([module, *arguments])
        return [sys.executable, "-c", "pass"]

    monkeypatch.setattr("thresher.ui.stick.session.own_command", command)
    monkeypatch.setattr("thresher.ui.stick.session.shutil.which", lambda _name: None)
    session = Session(home, run)
    session.begin()
    qtbot.waitUntil(lambda: session.page is not None, timeout=10_000)
    page = session.page
    assert isinstance(page, FirstPage)
    page.wrong.setChecked(True)
    page.open.click()
    qtbot.keyClick(page.layouts, Qt.Key.Key_Return)  # an impatient second press starts nothing twice
    qtbot.waitUntil(lambda: bool(opened), timeout=10_000)
    assert opened == [["thresher.ui", "--live"]]
    assert read_state(run).clock_wrong
    assert page.trouble.text() == "Opening the bench …"
    qtbot.waitUntil(lambda: isinstance(session.page, BetweenPage), timeout=20_000)
    again = Session(home, run)
    again.begin()
    qtbot.waitUntil(lambda: len(opened) == 2, timeout=10_000)
    assert not isinstance(again.page, FirstPage), "nothing is asked a second time"
    job = home / "data/thresher/jobs/a.thresher"
    job.parent.mkdir(parents=True)
    job.write_bytes(b"job")
    (home / "going-on").write_text("data/thresher/jobs/a.thresher\n")
    after_crash = Session(home, run)
    after_crash.begin()
    qtbot.waitUntil(lambda: len(opened) == 3, timeout=10_000)
    assert opened[-1] == ["thresher.ui", "--live", "--job", str(job)], "after a crash it goes on"
    both = (again, after_crash)
    qtbot.waitUntil(lambda: all(isinstance(each.page, BetweenPage) for each in both), timeout=20_000)
    for each in (session, again, after_crash):
        assert each.page is not None
        each.page.close()


def test_a_partition_that_cannot_be_made_is_said_and_memory_is_left(
    qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_state(StickState(reason="none yet", drive="/dev/sdb", room=5_000_000_000), tmp_path)

    def refuse(_home: Path, _run: Path) -> StickState:
        raise EnvironmentFault("running mkfs.ext4 /dev/sdb3", "input/output error", "The stick may be failing.")

    monkeypatch.setattr("thresher.ui.stick.session.keep_on_stick", refuse)
    session = Session(tmp_path, tmp_path)
    session.begin()
    qtbot.waitUntil(lambda: session.page is not None, timeout=10_000)
    page = session.page
    assert isinstance(page, FirstPage)
    page.open.click()
    qtbot.waitUntil(lambda: "input/output error" in page.trouble.text(), timeout=10_000)
    assert page.memory.isChecked()
    assert page.open.isEnabled()
