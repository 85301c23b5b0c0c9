"""The lanes on screen: arranged, marked, asked, saved; and the small strip."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QRectF, QSettings, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QComboBox
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.journal.jobfile import JobFile
from thresher.model.channels import Limit, LimitSide
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.sensors.lanes import Lane
from thresher.ui.look import Look
from thresher.ui.stations.bench.lane_painter import LaneFrame
from thresher.ui.stations.bench.lane_pictures import lanes_image, save_lanes
from thresher.ui.stations.bench.lanes_canvas import range_text
from thresher.ui.stations.bench.lanes_view import LanesView
from thresher.ui.time_axis import TimeAxis
from thresher.ui.window import MainWindow


@pytest.fixture(scope="module")
def engine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[EngineProcess]:
    """One engine for all tests here: the demo machine, fast, kept running between windows."""
    arguments = ("--simulate", "lighthouse-playout", "--speed", "150", "--sheet", "reset-hunt-short")
    started = EngineProcess(tmp_path_factory.mktemp("lanes"), *arguments)
    yield started
    started.close()


@pytest.fixture
def own_engine(tmp_path: Path) -> Iterator[EngineProcess]:
    """An engine for a test that starts a run of its own."""
    started = EngineProcess(tmp_path, "--simulate", "lighthouse-playout", "--speed", "30")
    yield started
    started.close()


@pytest.fixture
def window(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> MainWindow:
    made = open_window(engine)
    if not made.state.run_findings():  # the first window carries the run out; those after it see it stored
        made.start()
        qtbot.waitUntil(lambda: len(made.state.run_findings()) >= 2, timeout=60_000)
        made.stop()
        qtbot.waitUntil(lambda: made.state.run.state == "ended", timeout=10_000)
    origin = made.state.origin
    qtbot.waitUntil(lambda: len(made.state.history.rows(origin, origin + 120.0)[0]) > 100, timeout=20_000)
    made.bench.show_all()
    made.bench.lanes.setFocus()
    made.bench.lanes.repaint()
    return made


def test_lanes_are_arranged_by_keyboard(qtbot: QtBot, window: MainWindow) -> None:
    lanes = window.bench.lanes
    first = [lane.key for lane in lanes.shown()]
    qtbot.keyClick(lanes, Qt.Key.Key_Down)
    qtbot.keyClick(lanes, Qt.Key.Key_Down)
    assert lanes.chosen == first[1]
    qtbot.keyClick(lanes, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert [lane.key for lane in lanes.shown()][:2] == [first[1], first[0]]
    qtbot.keyClick(lanes, Qt.Key.Key_Space)
    assert lanes.chosen in [lane.key for lane in lanes.folded_lanes()]
    qtbot.keyClick(lanes, Qt.Key.Key_Space)
    assert lanes.chosen in [lane.key for lane in lanes.shown()]
    qtbot.keyClick(lanes, Qt.Key.Key_BracketRight)
    lanes.repaint()
    heights = {frame.lane.key: frame.area.height() for frame in lanes._frames}
    assert heights[lanes.chosen] == max(heights.values())
    qtbot.keyClick(lanes, Qt.Key.Key_P)
    assert lanes.shown()[0].key == lanes.chosen


def test_a_folded_lane_opens_at_a_click_and_a_channel_hides_by_the_menu(qtbot: QtBot, window: MainWindow) -> None:
    lanes = window.bench.lanes
    lane, area = lanes._chips[0]
    qtbot.mouseClick(lanes, Qt.MouseButton.LeftButton, pos=area.center().toPoint())
    assert lane.key in [each.key for each in lanes.shown()]
    lanes.chosen = "fans"
    menu = lanes.lane_menu()
    assert menu is not None
    action = next(each for each in menu.actions() if each.text() == "CPU fan")
    assert action.isChecked()
    action.trigger()
    fan = next(each for each in window.state.channels if each.name == "CPU fan")
    assert lanes.layout_of_lanes.hidden == (fan.key,)
    menu.close()


def test_a_dragged_range_states_minimum_mean_and_maximum(qtbot: QtBot, window: MainWindow) -> None:
    lanes, axis = window.bench.lanes, window.bench.axis
    left, right = (QPoint(round(axis.x(at, lanes.width())), 30) for at in (60.0, 120.0))
    qtbot.mousePress(lanes, Qt.MouseButton.LeftButton, pos=left)
    qtbot.mouseMove(lanes, right)
    qtbot.mouseRelease(lanes, Qt.MouseButton.LeftButton, pos=right)
    assert lanes.range is not None
    assert lanes.range == pytest.approx((60.0, 120.0), abs=3.0)
    assert "Core temp: min" in lanes.accessibleDescription()
    times, rows = window.state.history.rows(*(each + window.state.origin for each in lanes.range))
    hot = lanes.shown()[0].lead
    assert f"max {float(np.nanmax(rows[:, list(hot)])):.1f} °C" in lanes.accessibleDescription()
    assert len(times) > 50
    qtbot.mouseClick(lanes, Qt.MouseButton.LeftButton, pos=left)
    assert lanes.range is None


def test_the_next_finding_comes_into_the_middle(qtbot: QtBot, window: MainWindow) -> None:
    findings = sorted(each.run_at or 0.0 for each in window.state.run_findings())
    axis = window.bench.axis
    axis.look_at(findings[0] - 60, findings[0] - 5)
    found = window.bench.lanes.go_to_finding(1)
    assert found is not None
    assert (axis.begin + axis.end) / 2 == pytest.approx(findings[0], abs=1.0)
    assert found.code in window.state.trouble
    later = window.bench.lanes.go_to_finding(1)
    assert later is not None
    assert (later.run_at or 0.0) > (found.run_at or 0.0)
    before = window.bench.lanes.go_to_finding(-1)
    assert before is not None
    assert window.bench.lanes.go_to_finding(-1) is None
    assert window.state.trouble == "No finding before"


def test_panning_keeps_the_span_and_the_cursor_reads_all_lanes(qtbot: QtBot, window: MainWindow) -> None:
    lanes, axis = window.bench.lanes, window.bench.axis
    axis.look_at(0.0, 100.0)
    qtbot.keyClick(lanes, Qt.Key.Key_Right)
    assert (axis.begin, axis.end) == pytest.approx((10.0, 110.0))
    qtbot.waitUntil(lambda: all(lanes.reading_at(lane, 60.0) for lane in lanes.shown()))
    assert lanes.reading_at(lanes.shown()[0], 1e7) == ""


def test_the_lanes_are_saved_with_their_title(window: MainWindow, tmp_path: Path) -> None:
    png, svg = tmp_path / "lanes.png", tmp_path / "lanes.svg"
    save_lanes(window.bench.lanes, png)
    save_lanes(window.bench.lanes, svg)
    image = QImage(str(png))
    assert (image.width(), image.height()) == (2560, 1440)
    assert len({image.pixel(x, y) for x in range(0, 2560, 40) for y in range(0, 1440, 40)}) > 5
    text = svg.read_text()
    assert "Job 0417" in text
    assert "simulated machine" in text
    assert lanes_image(window.bench.lanes).width() == 2560
    with pytest.raises(InputError, match=r"expected .png or .svg"):
        save_lanes(window.bench.lanes, tmp_path / "lanes.bmp")
    with pytest.raises(EnvironmentFault, match="writing"):
        save_lanes(window.bench.lanes, tmp_path / "no" / "lanes.png")


def test_the_small_strip_shows_and_stops(qtbot: QtBot, own_engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(own_engine)
    window.toggle_strip()
    strip = window.strip
    assert strip.isVisible()
    assert strip.windowFlags() & Qt.WindowType.WindowStaysOnTopHint
    window.start()
    qtbot.waitUntil(lambda: window.state.run.run_at > 2, timeout=20_000)
    strip.repaint()
    assert "Headroom" in strip.accessibleDescription()
    qtbot.mouseClick(strip, Qt.MouseButton.LeftButton, pos=QPoint(strip.width() - 20, 20))
    qtbot.waitUntil(lambda: window.state.run.state == "ended", timeout=10_000)
    window.toggle_strip()
    assert not strip.isVisible()


def test_an_arrangement_is_remembered_for_machines_of_the_same_sort(window: MainWindow, tmp_path: Path) -> None:
    settings = QSettings(str(tmp_path / "window.ini"), QSettings.Format.IniFormat)
    view = LanesView(window.state, Look(), TimeAxis(), window, settings)
    view._take_layout()
    view.chosen = "fans"
    view.arrange(view._pinned("fans"))
    again = LanesView(window.state, Look(), TimeAxis(), window, settings)
    again._take_layout()
    assert again.shown()[0].key == "fans"


def test_range_words_count_the_time_beyond_a_limit() -> None:
    lane = Lane("Core temp", "°C", PartKind.PROCESSOR, (0,), (0,), Limit(90.0, LimitSide.BELOW, "chip"))
    times = np.arange(5.0)
    text = range_text(lane, times, np.array([[80.0], [91.0], [95.0], [np.nan], [70.0]]), [0])
    assert text == "min 70.0  mean 84.0  max 95.0 °C  beyond its limit 0:00:02"
    assert range_text(lane, times, np.full((5, 1), np.nan), [0]) == "no readings"
    assert LaneFrame(lane, QRectF(0, 0, 300, 60), 50.0, 100.0).y(100.0) == pytest.approx(3.0)


def test_a_log_from_elsewhere_is_matched_by_eye_and_becomes_a_job(
    qtbot: QtBot, open_window: OpenWindow, engine: EngineProcess, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    log = tmp_path / "theirs.csv"
    rows = "".join(f"{n},{60 + n % 3},11.1,7\n" for n in range(20))
    log.write_text("time,Socket [°C],+12V [V],Mood\n" + rows)
    window = open_window(engine)
    shown: list[Path] = []
    monkeypatch.setattr(window.files, "show_stored", shown.append)
    with qtbot.waitSignal(window.files.columns_asked) as asked:
        window.files.match_log(log)
    (dialog,) = asked.args
    assert dialog.changes() == ["Socket [°C]=temperature,board", "+12V [V]=voltage,power", "Mood="]
    part = dialog.table.cellWidget(0, 2)
    assert isinstance(part, QComboBox)
    part.setCurrentText("processor")
    with qtbot.waitSignal(window.files.log_imported, timeout=30_000) as taken:
        dialog.accept()
    with JobFile(Path(taken.args[0])) as stored:
        (run,) = stored.runs()
        assert [channel.kind.value for channel in run.channels] == ["processor", "power"]
        assert [finding.code for finding in stored.findings(run)] == ["S-410"]
    assert shown == [Path(taken.args[0])]
    assert "1 finding" in window.state.trouble
    with qtbot.waitSignal(window.files.columns_asked) as asked:
        window.files.match_log(log)
    (again,) = asked.args
    assert again.changes()[0] == "Socket [°C]=temperature,processor", "what was chosen is remembered"
    again.reject()
    (tmp_path / "bad.csv").write_text("nothing")
    window.files.match_log(tmp_path / "bad.csv")
    qtbot.waitUntil(lambda: "expected titles" in window.state.trouble)
