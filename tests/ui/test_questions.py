"""What questions watch in the window: fields under a pointer or fingers, cameras, sounds, and displays in turn."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtGui import QEventPoint, QPointingDevice, QTouchEvent, QWheelEvent
from PyQt6.QtWidgets import QApplication, QWidget
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.media.frames import Frame, parse_frame
from thresher.model.checks import CheckOutcome
from thresher.model.questions import NO_DEVICE, Answer, Choice, Question, Watched
from thresher.protocol.commands import PutRound
from thresher.ui.camera_worker import grey_values, jpeg
from thresher.ui.look import Look
from thresher.ui.questions.camera_pane import CameraPane
from thresher.ui.questions.fields_pane import FieldsPane
from thresher.ui.questions.full_screen import FullScreen, connector_of
from thresher.ui.questions.view import rows_of
from thresher.ui.window import MainWindow

OpenWindow = Callable[[EngineProcess], MainWindow]


def fields(qtbot: QtBot, watch: Watched) -> FieldsPane:
    pane = FieldsPane(Look(), Question("Fields", "Pass over them", (Choice("D", "done", "Done"),), watch=watch))
    qtbot.addWidget(pane)
    pane.resize(1600, 900)  # 16 by 9 fields of 100 pixels
    pane.show()
    return pane


def wheel(pane: FieldsPane, eighths: int) -> None:
    at = QPointF(50, 50)
    event = QWheelEvent(
        at,
        at,
        QPoint(),
        QPoint(0, eighths),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(pane, event)


def test_a_pointer_marks_what_it_passes_over_also_where_it_jumps(qtbot: QtBot) -> None:
    pane = fields(qtbot, Watched.POINTER)
    qtbot.mouseMove(pane, QPoint(50, 50))
    qtbot.mouseMove(pane, QPoint(1550, 50))
    assert pane.passed >= {(column, 0) for column in range(16)}
    for button in (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton):
        qtbot.mouseClick(pane, button)
    wheel(pane, 120)
    wheel(pane, -240)
    measured = dict(pane.answer("done").measured)
    assert measured["fields"] == 144
    assert measured["fields left"] == 144 - len(pane.passed)
    assert (measured["pressed"], measured["wheel up"], measured["wheel down"]) == (2, 1, 2)
    assert pane.answer("done").details == "left button, right button"
    pane.grab()
    for _ in range(5):  # a pad sends a notch in pieces: five of 40 eighths are two begun notches
        wheel(pane, 40)
    assert dict(pane.answer("done").measured)["wheel up"] == 3


def touch(pane: FieldsPane, kind: QEvent.Type, *points: tuple[int, int]) -> None:
    state = QEventPoint.State.Pressed if kind == QEvent.Type.TouchBegin else QEventPoint.State.Updated
    places = [QPointF(pane.mapToGlobal(QPoint(*at))) for at in points]
    made = [QEventPoint(number, state, at, at) for number, at in enumerate(places)]
    device = QPointingDevice.primaryPointingDevice()
    pane.event(QTouchEvent(kind, device, Qt.KeyboardModifier.NoModifier, made))


def test_fingers_fill_the_fields_and_a_mouse_does_not(qtbot: QtBot) -> None:
    pane = fields(qtbot, Watched.TOUCH)
    qtbot.mouseMove(pane, QPoint(50, 50))
    qtbot.mouseMove(pane, QPoint(1550, 850))
    qtbot.mouseClick(pane, Qt.MouseButton.LeftButton)
    assert not pane.passed
    touch(pane, QEvent.Type.TouchBegin, (150, 250))
    touch(pane, QEvent.Type.TouchBegin, (150, 250), (1550, 850))
    assert pane.passed == {(1, 2), (15, 8)}
    measured = dict(pane.answer("done").measured)
    assert (measured["fields left"], measured["fingers"], measured["pressed"]) == (142, 2, 0)
    pane.grab()


def test_a_camera_that_is_not_there_answers_by_itself(qtbot: QtBot) -> None:
    pane = CameraPane(
        Look(), Question("Camera", "Right?", (Choice("G", "good", "Yes"),), watch=Watched.CAMERA, device=7)
    )
    qtbot.addWidget(pane)
    answers: list[Answer] = []
    pane.by_itself.connect(answers.append)
    pane.begin()
    qtbot.waitUntil(lambda: bool(answers), timeout=20_000)
    assert answers[0].word == NO_DEVICE
    assert answers[0].details
    pane.grab()
    pane.end()


def test_frames_of_a_camera_are_shown_and_counted(qtbot: QtBot) -> None:
    import base64

    import msgspec
    from PyQt6.QtGui import QColor, QImage

    image = QImage(64, 36, QImage.Format.Format_RGB32)
    image.fill(QColor(77, 77, 77))
    assert grey_values(image).shape == (36, 64)
    assert set(grey_values(image).flat) == {77}
    line = msgspec.json.encode(
        Frame(device="Lookout", devices=1, picture=base64.b64encode(jpeg(image)).decode(), frames=12, changed=11)
    )
    pane = CameraPane(Look(), Question("Camera", "Right?", (), watch=Watched.CAMERA))
    qtbot.addWidget(pane)
    pane.resize(900, 400)
    pane._take(line)
    assert (pane.picture.width(), pane.picture.height()) == (64, 36)
    answer = pane.answer("good")
    assert (answer.details, dict(answer.measured)["frames"]) == ("Lookout", 12)
    pane.grab()
    assert parse_frame(b"[video4linux2] ioctl failed") is None


@pytest.mark.parametrize(("kernel", "window"), [("HDMI-A-1", "HDMI-1"), ("eDP-1", "eDP-1"), ("DP-2", "DisplayPort-2")])
def test_a_connector_is_known_by_both_its_names(kernel: str, window: str) -> None:
    assert connector_of(kernel) == connector_of(window)
    assert connector_of(kernel) != connector_of("HDMI-2")


def test_a_pointer_is_tested_in_the_window_and_answered_by_key(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow
) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    try:
        window = open_window(engine)
        view, state = window.question, window.state
        window.requests.send(PutRound(checks=("pointer",)))
        qtbot.waitUntil(lambda: window.bench.editor.draft.title == "Pointer", timeout=10_000)
        window.start()
        qtbot.waitUntil(view.isVisible, timeout=10_000)
        pane = view.pane
        assert isinstance(pane, FieldsPane)
        qtbot.waitUntil(lambda: window.isFullScreen() and bool(pane.covered), timeout=5_000)
        qtbot.waitUntil(lambda: pane.geometry() == view.rect() == window.rect(), timeout=5_000)
        for row in range(9):
            y = int((row + 0.5) * pane.height() / 9)
            qtbot.mouseMove(pane, QPoint(2, y))
            qtbot.mouseMove(pane, QPoint(pane.width() - 2, y))
        qtbot.mouseClick(pane, Qt.MouseButton.LeftButton)
        view.grab()
        qtbot.keyClick(view, Qt.Key.Key_D)
        qtbot.waitUntil(lambda: bool(state.checks), timeout=20_000)
        (found,) = state.checks
        assert (found.outcome, found.why) == (CheckOutcome.PASS, "pointer and buttons work; no wheel was turned")
        assert view.pane is None
    finally:
        engine.close()


def test_a_machine_without_sound_says_so_and_the_run_goes_on(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("PULSE_SERVER", f"unix:{tmp_path / 'nobody'}")
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    try:
        window = open_window(engine)
        window.requests.send(PutRound(checks=("speakers", "memory fitted")))
        qtbot.waitUntil(lambda: window.bench.editor.draft.title == "Chosen checks", timeout=10_000)
        window.start()
        qtbot.waitUntil(lambda: len(window.state.checks) == 2, timeout=30_000)
        speakers, fitted = window.state.checks
        assert (speakers.check, speakers.outcome) == ("speakers", CheckOutcome.INCONCLUSIVE)
        assert "sound" in speakers.why
        assert fitted.outcome is CheckOutcome.PASS
        assert window.question.isHidden()
    finally:
        engine.close()


def test_choices_that_do_not_fit_into_one_row_stand_in_two() -> None:
    assert rows_of([100, 100, 100], 400) == [[0, 1, 2]]
    # 6 of 150 and 5 gaps of 16 are 980
    assert rows_of([150] * 6, 980) == [[0, 1, 2, 3, 4, 5]]
    assert rows_of([150] * 6, 979) == [[0, 1, 2], [3, 4, 5]]
    assert rows_of([150] * 5, 400) == [[0, 1], [2], [3, 4]]
    assert rows_of([900], 400) == [[0]]
    assert rows_of([], 400) == [[]]


def test_the_window_goes_to_the_screen_that_is_asked_for_and_says_when_there_is_none(qtbot: QtBot) -> None:
    window = QWidget()
    qtbot.addWidget(window)
    window.resize(640, 480)
    window.show()
    screen = FullScreen(window)
    assert screen.answer("good") == Answer("good")
    screen.take("HDMI-A-7")
    answer = screen.answer("good")
    here = window.screen()
    assert here is not None
    assert (answer.details, dict(answer.measured)["shown elsewhere"]) == (here.name(), 1.0)
    assert dict(answer.measured)["picture wide"] == here.geometry().width()
    screen.take(here.name())
    assert dict(screen.answer("good").measured)["shown elsewhere"] == 0.0
    screen.give_back_soon()
    qtbot.waitUntil(lambda: not window.isFullScreen(), timeout=5_000)
