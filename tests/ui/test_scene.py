"""The scene of a card in its own window: frames come, keys record what is seen, Stop is where it always is."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.graphics.mirror import Frame
from thresher.model.card_port import Artefact
from thresher.ui import theme
from thresher.ui.look import Look
from thresher.ui.stations.bench.frame_strip import FrameHistory, draw_frames, stutters
from thresher.ui.stations.bench.frames_card import cards_of_run
from thresher.ui.stations.bench.scene_window import KEYS, SceneView
from thresher.ui.window import MainWindow


@pytest.fixture
def diorama(tmp_path: Path) -> Iterator[EngineProcess]:
    """An engine on a machine with two cards, the first of which draws wrong pixels when it is hot."""
    started = EngineProcess(tmp_path, "--simulate", "museum-diorama", "--speed", "20", "--sheet", "picture-hunt")
    yield started
    started.close()


def test_the_scene_shows_frames_and_takes_what_is_seen(
    diorama: EngineProcess, open_window: Callable[..., MainWindow], qtbot: QtBot
) -> None:
    window = open_window(diorama)
    window.show_scene()
    assert not window.scene.isVisible()  # nothing draws yet
    window.start()
    qtbot.waitUntil(lambda: any(card.mirror for card in cards_of_run(window.state)), timeout=30_000)
    assert {card.card for card in cards_of_run(window.state)} == {"card0", "card1"}
    qtbot.waitUntil(lambda: window.bench.right.frames.height() > 100, timeout=10_000)
    window.show_scene()
    scene = window.scene
    assert scene.isVisible()
    qtbot.waitUntil(lambda: scene.view.image is not None, timeout=20_000)
    assert scene.view.image is not None
    assert (scene.view.image.width(), scene.view.image.height()) == (384, 216)
    assert "card0 (simulated)" in scene.words.text()
    assert all(button.isEnabled() for button in scene.buttons.values())
    qtbot.keyClick(scene, Qt.Key.Key_T)
    qtbot.waitUntil(lambda: any("tearing" in each.title for each in window.state.findings), timeout=20_000)
    assert "Recorded: tearing" in scene.said.text()
    qtbot.keyClick(scene, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: window.state.run.state == "ended", timeout=20_000)
    qtbot.waitUntil(lambda: not scene.buttons[Artefact.DOTS].isEnabled(), timeout=20_000)
    assert "no scene is drawn now" in scene.words.text()
    before = len(window.state.findings)
    qtbot.keyClick(scene, Qt.Key.Key_D)
    qtbot.wait(100)
    assert len(window.state.findings) == before
    scene.close()


def test_every_artefact_has_a_key_of_its_own() -> None:
    assert set(KEYS.values()) == set(Artefact)
    assert len(KEYS) == len(Artefact)


def test_a_frame_is_shown_upright(qapp: QApplication) -> None:
    from PyQt6.QtWidgets import QWidget

    parent = QWidget()
    view = SceneView(parent)
    bottom, top = bytes((255, 0, 0, 255)) * 2, bytes((0, 0, 255, 255)) * 2
    view.show_frame(Frame(0, 2, 2, bottom + top))
    assert view.image is not None
    assert view.image.pixelColor(0, 0).blue() == 255
    assert view.image.pixelColor(0, 1).red() == 255
    parent.deleteLater()


def test_stutter_stands_out_of_the_strip(qapp: QApplication) -> None:
    from PyQt6.QtCore import QRectF
    from PyQt6.QtGui import QColor, QPainter

    times = (6.0,) * 20 + (18.0,) + (6.0,) * 4
    assert stutters(times, 6.0) == 1
    image = QImage(120, 30, QImage.Format.Format_RGB32)
    painter = QPainter(image)
    scheme = Look(theme.LIGHT).scheme
    draw_frames(painter, QRectF(0, 0, 120, 30), times, 6.0, scheme)
    painter.end()
    fault = QColor(scheme.fault)
    reds = [
        x
        for x in range(120)
        if abs(image.pixelColor(x, 2).red() - fault.red()) < 12 and image.pixelColor(x, 2).green() < 120
    ]
    assert reds
    assert all(100 < x < 110 for x in reds)  # the fifth stroke from the right, 3 px each


def test_frame_times_of_one_report_are_taken_once() -> None:
    history = FrameHistory(most=5)
    assert history.add("card0", (1.0, 2.0)) == (1.0, 2.0)
    assert history.add("card0", (1.0, 2.0)) == (1.0, 2.0)
    assert history.add("card0", (3.0, 4.0, 5.0, 6.0)) == (2.0, 3.0, 4.0, 5.0, 6.0)
    assert history.add("card1", ()) == ()
