"""The window on a real engine: started, watched, stopped and asked by keyboard."""

import itertools
import os
import signal
from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QAbstractButton, QMessageBox
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.model.parts import PartKind, PartStatus
from thresher.ui.footer import footer_text
from thresher.ui.rail import STATIONS
from thresher.ui.stations.bench.suspect_card import full_reasons, shown_suspects
from thresher.ui.stations.bench.tape_view import ENTRY_ROLE
from thresher.ui.stations.bench.vitals import vitals
from thresher.ui.window import MainWindow


def tape_text(window: MainWindow) -> list[str]:
    model = window.bench.tape.model()
    assert model is not None
    return [str(model.data(model.index(row, 0))) for row in range(model.rowCount())]


def press(qtbot: QtBot, window: MainWindow, key: Qt.Key, control: bool = False) -> None:
    modifier = Qt.KeyboardModifier.ControlModifier if control else Qt.KeyboardModifier.NoModifier
    qtbot.keyClick(window, key, modifier)


def test_the_demo_from_start_to_suspect_by_keyboard(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    state = window.state
    assert "Start loads 16 threads for 0:13:00" in window.bench.head.sentence()
    qtbot.waitUntil(lambda: window.band.act_button.text().startswith("Start"), timeout=5_000)
    assert shown_suspects(state) == []
    press(qtbot, window, Qt.Key.Key_Return, control=True)
    qtbot.waitUntil(lambda: state.active, timeout=10_000)
    qtbot.waitUntil(lambda: window.band.act_button.text().startswith("STOP"), timeout=5_000)
    qtbot.waitUntil(lambda: len(state.run.busy_cores) == 8, timeout=10_000)
    qtbot.waitUntil(lambda: state.run.corrected >= 2 and state.run.mismatches >= 1, timeout=60_000)
    qtbot.waitUntil(lambda: any("P-104" in line for line in tape_text(window)), timeout=5_000)
    assert any("Machine check, core 5" in line for line in tape_text(window))
    qtbot.waitUntil(lambda: state.status_of(PartKind.PROCESSOR) is PartStatus.REPLACE, timeout=30_000)
    suspect = shown_suspects(state)[0]
    assert (suspect.part, suspect.place) == ("processor", "core 5")
    assert suspect.probability > 0.9
    assert "× corrected machine check, core 5" in full_reasons(suspect)
    assert "findings" in window.windowTitle()
    press(qtbot, window, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: state.run.state == "ended", timeout=10_000)
    assert (state.run.ending, state.run.workers_running) == ("stopped", 0)
    assert "every worker has ended" in footer_text(state)
    qtbot.waitUntil(lambda: any("16 of 16 workers have ended" in line for line in tape_text(window)), timeout=5_000)


def test_a_second_window_sees_all_that_went_before(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    first = open_window(engine)
    first.start()
    qtbot.waitUntil(lambda: first.state.run.run_at > 60, timeout=30_000)
    second = open_window(engine)
    qtbot.waitUntil(lambda: len(second.state.history) >= len(first.state.history) - 60, timeout=10_000)
    assert len(second.state.history) > 50
    qtbot.waitUntil(lambda: len(tape_text(second)) >= 3, timeout=5_000)
    assert second.state.run.run == 1
    assert second.state.origin == first.state.origin


def test_an_engine_that_dies_and_comes_back_shows_the_interrupted_run(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow, tmp_path: Path
) -> None:
    window = open_window(engine)
    window.start()
    qtbot.waitUntil(lambda: window.state.run.workers_running == 16, timeout=20_000)
    os.kill(engine.process.pid, signal.SIGKILL)
    engine.process.wait(10)
    again = EngineProcess(tmp_path, "--simulate", "lighthouse-playout", "--speed", "30")
    try:
        qtbot.waitUntil(lambda: any("interrupted after" in line for line in tape_text(window)), timeout=20_000)
        assert window.state.run.state == "idle"
    finally:
        again.close()


def test_a_broken_sheet_is_reported_whole_and_changes_nothing(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow, tmp_path: Path
) -> None:
    window = open_window(engine)
    before = window.state.sheet
    broken = tmp_path / "broken.toml"
    broken.write_text(
        'format = "thresher-sheet/1"\n[[blocks]]\nrow = "processor"\nload = "juggling"\nstart = 0\nlength = 0\n'
    )
    window.files.put_sheet(broken)
    qtbot.waitUntil(lambda: "juggling" in window.state.trouble, timeout=5_000)
    box = window.findChild(QMessageBox, "message_box")
    assert box is not None
    for words in ("broken.toml cannot be used", "title", "no load 'juggling'; known are matrix", "at least 1 second"):
        assert words in box.text()
    box.close()
    assert window.state.sheet == before
    window.files.put_sheet(tmp_path / "nowhere.toml")
    qtbot.waitUntil(lambda: "Cannot read" in window.state.trouble)


def test_a_good_sheet_is_put_on_the_bench(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow, tmp_path: Path
) -> None:
    window = open_window(engine)
    good = tmp_path / "good.toml"
    good.write_text(
        'format = "thresher-sheet/1"\ntitle = "Half a minute"\n[limits]\ntemperature_c = 90\n'
        '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 30\nthreads = 1\n'
    )
    window.files.put_sheet(good)
    qtbot.waitUntil(
        lambda: window.state.sheet is not None and window.state.sheet.title == "Half a minute", timeout=5_000
    )
    qtbot.waitUntil(lambda: "Start loads 1 thread for 0:00:30" in window.bench.head.sentence(), timeout=5_000)
    assert "It stops at 90 °C" in window.bench.head.sentence()


def test_every_station_can_be_reached_and_states_what_it_is(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    for number, name in enumerate(STATIONS):
        press(qtbot, window, Qt.Key(Qt.Key.Key_1 + number), control=True)
        assert window.stations.currentIndex() == number
        assert window.rail.current == number
        assert window.stations.currentWidget() is not None, name


def test_zooming_stops_following_and_home_follows_again(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    axis = window.bench.axis
    qtbot.waitUntil(lambda: axis.end > 900, timeout=5_000)
    whole = (axis.begin, axis.end)
    press(qtbot, window, Qt.Key.Key_Plus)
    zoomed = axis.follows
    assert zoomed is False
    assert axis.end - axis.begin < whole[1] - whole[0]
    press(qtbot, window, Qt.Key.Key_End)
    assert axis.end - axis.begin == pytest.approx(65.0)
    press(qtbot, window, Qt.Key.Key_Home)
    assert window.bench.axis.follows is True
    assert axis.end == pytest.approx(whole[1], rel=0.2)


def test_the_cursor_reads_a_lane_at_a_time(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    qtbot.waitUntil(lambda: len(window.state.history) > 15, timeout=10_000)
    lane = window.state.lanes[0]
    text = window.bench.lanes.reading_at(lane, window.state.now)
    assert 25 < float(text.split("–")[0]) < 60
    assert window.bench.lanes.reading_at(lane, window.state.now + 5000) == ""


def test_parts_can_be_asked_by_mouse_and_keyboard(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    window.bench.map.repaint()
    asked: list[str] = []
    window.bench.map.picked.connect(asked.append)
    window.bench.map.setFocus()
    for _ in range(3):
        qtbot.keyClick(window.bench.map, Qt.Key.Key_Down)
    assert any(text.startswith("Processor: Tern 8-460") for text in asked)
    assert any("(/sys/firmware/dmi/tables/DMI)" in text for text in asked)
    core = next(spot for spot in window.bench.map.spots if spot.text.startswith("Core 5"))
    assert "limit 100 °C, read from the chip (temp7_crit)" in core.text
    assert window.bench.map.spot_at(core.area.center()) == core
    assert window.bench.map.spot_at(QPointF(-5, -5)) is None


def test_every_number_of_the_vitals_reports_where_it_is_from(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    cards = {card.title: card for card in vitals(window.state)}
    assert set(cards) >= {"Headroom", "Slowest core", "Package", "Findings", "Clean proof"}
    assert "/sys/class/hwmon" in cards["Headroom"].about
    assert "counters of CPU" in cards["Slowest core"].about
    assert "needs time under load" in cards["Clean proof"].line
    rail = next(card for title, card in cards.items() if title.startswith("Rail"))
    assert "ATX" in rail.about


def test_what_could_not_be_read_is_listed(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    press(qtbot, window, Qt.Key.Key_U, control=True)
    box = window.findChild(QMessageBox, "message_box")
    assert box is not None
    assert "Every source of this machine was read" in box.text()
    box.close()


def test_controls_have_names_and_shortcuts_are_in_the_menu(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    for station in (1, 2, 3):
        window.show_station(station)
        for button in window.findChildren(QAbstractButton):
            if button.isVisible():
                assert button.objectName()
                assert button.accessibleName()
                assert button.toolTip()
    menu = window.band.menu_button.menu()
    assert menu is not None
    actions: list[QAction] = [action for action in menu.actions() if not action.isSeparator()]
    without = {action.text() for action in actions if not action.shortcuts()}
    assert without == {"Paper", "Night bench", "Follow the desktop"}
    for painted in (window.bench.map, window.bench.vitals, window.bench.run_sheet, window.rail, window.footer):
        assert painted.accessibleName()


def test_tape_entries_are_drawn_as_high_as_their_text(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.start()
    qtbot.waitUntil(lambda: len(tape_text(window)) >= 3, timeout=20_000)
    tape = window.bench.tape
    model = tape.model()
    assert model is not None
    rects = [tape.visualRect(model.index(row, 0)) for row in range(3)]
    assert all(above.bottom() < below.top() + 1 for above, below in itertools.pairwise(rects))
    assert model.data(model.index(0, 0), ENTRY_ROLE) == window.state.tape[-1]
