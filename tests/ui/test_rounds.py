"""Rounds and questions in the window: put on the bench, followed on the map, answered by key, listed by part."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QMessageBox
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.model.checks import CheckOutcome, CheckResult, Figure
from thresher.model.parts import PartKind
from thresher.model.questions import Picture, PictureKind
from thresher.protocol.commands import PutRound
from thresher.ui.questions.keys_pane import KeysPane
from thresher.ui.questions.pictures import draw_picture
from thresher.ui.stations.bench.map_picks import Picks, Target
from thresher.ui.stations.evidence.checks_list import before, change_words
from thresher.ui.window import MainWindow

OpenWindow = Callable[[EngineProcess], MainWindow]


def test_the_checks_of_a_picked_part_run_and_are_listed(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "harbour-notebook", "--speed", "200")
    try:
        window = open_window(engine)
        bench, state = window.bench, window.state
        assert bench.picker.check_button.text() == "Short round"
        bench.map.set_picks(Picks((Target("battery BAT0", PartKind.BATTERY),)))
        assert bench.picker.check_button.text() == "Check these"
        qtbot.mouseClick(bench.picker.check_button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: bench.editor.draft.title == "Short round of battery", timeout=10_000)
        assert state.sheet is not None
        assert [block.load for block in state.sheet.blocks] == ["battery wear", "adapter", "battery rate"]
        qtbot.waitUntil(lambda: "carries out 3 checks (battery)" in bench.head.sentence(), timeout=10_000)
        window.start()
        qtbot.waitUntil(lambda: state.check_of(PartKind.BATTERY) == "fail", timeout=20_000)
        qtbot.waitUntil(lambda: state.run.state == "ended", timeout=30_000)
        bench.map.grab()
        battery = next(part for part in state.snapshot.machine.parts if part.kind is PartKind.BATTERY)  # type: ignore[union-attr]
        assert "Check battery wear, BAT0: fail" in bench.map.about(battery)
        window.show_station(2)
        window.evidence.show_page(3)
        rows = window.evidence.checks.rows
        assert next(each.title for each in rows.ordered()) == "battery wear, BAT0"
        rows.grab()
        tab = window.evidence.tabs.button(3)
        assert tab is not None
        assert "1 failed" in tab.text()
        assert any("failed: battery wear" in entry.detail for entry in state.tape)
    finally:
        engine.close()


def test_a_question_covers_the_window_and_is_answered_by_key(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow
) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "50")
    try:
        window = open_window(engine)
        view, state = window.question, window.state
        assert view.isHidden()
        window.requests.send(PutRound(checks=("picture",)))
        qtbot.waitUntil(lambda: window.bench.editor.draft.title == "Picture", timeout=10_000)
        window.start()
        qtbot.waitUntil(view.isVisible, timeout=10_000)
        qtbot.waitUntil(lambda: window.isFullScreen() and view.geometry() == window.rect(), timeout=5_000)
        assert view.text.text() == "Is it all white, evenly lit?"
        assert set(view.buttons) == {"good", "spot", "uneven light", "skip"}
        view.grab()
        qtbot.keyClick(view, Qt.Key.Key_G)
        qtbot.waitUntil(lambda: view.text.text().startswith("Is it all black") and view.isVisible(), timeout=10_000)
        qtbot.mouseClick(view.buttons["spot"], Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: view.text.text() == "Is it all red?" and view.isVisible(), timeout=10_000)
        qtbot.keyClick(view, Qt.Key.Key_Escape)
        assert view.isHidden()
        assert state.active, "Esc left the question and stopped nothing"
        qtbot.waitUntil(lambda: not window.isFullScreen(), timeout=5_000)
        qtbot.waitUntil(lambda: bool(state.checks), timeout=20_000)
        (result,) = state.checks
        assert (result.outcome, result.why) == (CheckOutcome.FAIL, "seen: spot on black")
    finally:
        engine.close()


def test_after_a_round_without_a_fault_the_long_part_is_offered_with_its_time(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow
) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "200")
    try:
        window = open_window(engine)
        window.requests.send(PutRound(parts=(PartKind.COOLING,)))
        qtbot.waitUntil(
            lambda: window.state.sheet is not None and "cooling" in window.state.sheet.title, timeout=10_000
        )
        window.start()
        qtbot.waitUntil(lambda: window.findChild(QMessageBox, "message_box") is not None, timeout=40_000)
        box = window.findChild(QMessageBox, "message_box")
        assert box is not None
        assert box.text().startswith("No faults found so far")
        assert "memory, long pass, drive, all of it" in box.text()
        assert "0:14:08" in box.text(), "706 s for 8 GiB of memory, 142 s for 256 GB of flash"
        yes = next(each for each in box.buttons() if each.text() == "Put the long part on the bench")
        qtbot.mouseClick(yes, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(
            lambda: [block.load for block in window.state.sheet.blocks] == ["memory, long pass", "drive, all of it"],  # type: ignore[union-attr]
            timeout=10_000,
        )
    finally:
        engine.close()


def result(outcome: CheckOutcome, share: float, wall: float) -> CheckResult:
    figure = Figure("full charge left", share, "%")
    return CheckResult("battery wear", PartKind.BATTERY, outcome, "", (figure,), "BAT0", wall=wall)


def test_a_result_is_held_against_the_time_before() -> None:
    first = result(CheckOutcome.PASS, 81.0, 1.7e9)
    second = result(CheckOutcome.PASS, 74.0, 1.75e9)
    third = result(CheckOutcome.FAIL, 61.0, 1.78e9)
    results = [first, second, third]
    assert before(results, first) is None
    assert change_words(first, None) == "first time"
    assert change_words(second, before(results, second)).endswith(": full charge left 81")
    assert change_words(third, before(results, third)).startswith("pass ")


@pytest.mark.parametrize("kind", list(PictureKind))
def test_pictures_fill_the_screen(kind: PictureKind) -> None:
    image = QImage(320, 200, QImage.Format.Format_RGB32)
    image.fill(QColor(1, 2, 3))
    painter = QPainter(image)
    draw_picture(painter, QRectF(image.rect()), Picture(kind, (255, 255, 255)))
    painter.end()
    untouched = QColor(1, 2, 3).rgb()
    assert all(image.pixel(x, y) != untouched for x in (0, 160, 319) for y in (0, 100, 199))
    greys = {QColor(image.pixel(x, 100)).red() for x in range(320)}
    expected = {PictureKind.FIELD: 1, PictureKind.GREYS: 17}
    assert kind not in expected or len(greys) == expected[kind]


def test_every_key_lights_up_and_none_answers(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    try:
        window = open_window(engine)
        view, state = window.question, window.state
        window.requests.send(PutRound(checks=("keys",)))
        qtbot.waitUntil(lambda: window.bench.editor.draft.title == "Keys", timeout=10_000)
        window.start()
        qtbot.waitUntil(view.isVisible, timeout=10_000)
        for key in range(Qt.Key.Key_A, Qt.Key.Key_Z + 1):
            qtbot.keyClick(view, Qt.Key(key))
        qtbot.keyClick(view, Qt.Key.Key_Escape)
        qtbot.mouseClick(view, Qt.MouseButton.RightButton, pos=view.rect().topLeft())
        assert view.isVisible(), "no key leaves the view"
        assert isinstance(view.pane, KeysPane)
        assert set(view.pane.times.came) >= {"A", "Z", "Esc", "right button"}
        assert len(view.pane.times.came) == 28
        assert view.leave.text().startswith("Hold Esc for two seconds")
        view.grab()
        qtbot.mouseClick(view.buttons["missing"], Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: bool(state.checks), timeout=20_000)
        (found,) = state.checks
        assert (found.outcome, found.code) == (CheckOutcome.FAIL, "S-640")
        assert found.figures[0].value == 28
    finally:
        engine.close()


def test_holding_esc_leaves_where_keys_are_tested(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    try:
        window = open_window(engine)
        view, state = window.question, window.state
        window.requests.send(PutRound(checks=("keys",)))
        qtbot.waitUntil(lambda: window.bench.editor.draft.title == "Keys", timeout=10_000)
        window.start()
        qtbot.waitUntil(view.isVisible, timeout=10_000)
        qtbot.keyPress(view, Qt.Key.Key_Escape)
        qtbot.waitUntil(view.isHidden, timeout=10_000)
        qtbot.waitUntil(lambda: bool(state.checks), timeout=20_000)
        assert state.checks[0].missing == "the question was left unanswered"
    finally:
        engine.close()
