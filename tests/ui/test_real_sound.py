"""Sound for real: a sound server of the test's own, whose output is heard by its input, and the process that plays."""

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent
from pytestqt.qtbot import QtBot

from tests.conftest import Run
from thresher.checks.sound.loop import CHECK
from thresher.media.messages import Message, answer_of, parse_message
from thresher.model.checks import CheckOutcome
from thresher.model.own_program import own_command
from thresher.model.questions import NO_DEVICE, Answer, Choice, Question, SoundKind
from thresher.ui.look import Look
from thresher.ui.questions.sound_pane import SoundPane

WORKER = "thresher.ui.sound_worker"
StartServer = Callable[..., None]


@pytest.fixture
def sound(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[StartServer]:
    """Start a sound server with a silent output; `source` says what its input hears of it."""
    program = shutil.which("pulseaudio")
    if program is None:
        pytest.skip("no PulseAudio here; scripts/setup test installs it")
    home = tmp_path / "pulse"
    home.mkdir(mode=0o700)
    servers: list[subprocess.Popen[bytes]] = []
    socket = home / "native"
    for name in ("HOME", "XDG_RUNTIME_DIR", "PULSE_RUNTIME_PATH"):
        monkeypatch.setenv(name, str(home))
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "disabled:")
    monkeypatch.setenv("PULSE_SERVER", f"unix:{socket}")

    def start(source: str = "", sink: str = "rate=48000") -> None:
        modules = [f"module-null-sink sink_name=out {sink}"]
        if source:
            modules.append(f"module-remap-source master=out.monitor source_name=ear {source}")
        modules.append(f"module-native-protocol-unix socket={socket} auth-anonymous=1")
        servers.append(
            subprocess.Popen(
                [program, "-n", "--daemonize=no", "--exit-idle-time=-1", "--use-pid-file=no", "--disallow-exit"]
                + [f"--load={each}" for each in modules],
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        )
        deadline = time.monotonic() + 15
        while not socket.exists():
            assert time.monotonic() < deadline, "the sound server does not start"
            time.sleep(0.05)

    yield start
    for server in servers:
        server.terminate()
        server.wait(10)


def worker(kind: str, device: int = 0) -> list[Message]:
    done = subprocess.run(
        own_command(WORKER, kind, str(device)),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        timeout=60,
        check=True,
    )
    return [message for line in done.stdout.splitlines() if (message := parse_message(line)) is not None]


def loop_result(answer: Answer, how: str = "cable") -> tuple[CheckOutcome, str]:
    """Judge an answer as the check does."""
    from tests.checks.bench import HandBench
    from thresher.machine.tree import TreeSystem

    bench = HandBench(TreeSystem(Path("/sys")), answers=[how, answer], attended=True)
    (result,) = bench.run(CHECK)
    return result.outcome, result.why


def assert_passes(answer: Answer) -> None:
    """A good loop passes; where this machine was too busy to play without a gap three times, the test says so."""
    outcome, why = loop_result(answer)
    if outcome is CheckOutcome.INCONCLUSIVE and why.startswith("dropouts"):
        measured = dict(answer.measured)
        for name in ("left", "right", "low", "high"):
            assert measured[f"{name} distortion"] < 3.0, "clean in places: torn, not distorted"
        pytest.skip(f"this machine is too busy to play sound: {why}")
    assert (outcome, why) == (CheckOutcome.PASS, "every tone comes back at its level and frequency")


# the input of a process is kept open while it plays: it ends with it
@pytest.fixture
def open_worker() -> Callable[[str], list[Message]]:
    def run(kind: str) -> list[Message]:
        process = subprocess.Popen(
            own_command(WORKER, kind, "0"), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )
        assert process.stdout is not None
        assert process.stdin is not None
        with process:
            lines = process.stdout.read().splitlines()
            process.stdin.close()
        return [message for line in lines if (message := parse_message(line)) is not None]

    return run


def test_a_loop_through_a_real_sound_server_passes(
    sound: StartServer, open_worker: Callable[[str], list[Message]]
) -> None:
    sound(source="channels=2")
    answer = answer_of(open_worker("loop"))
    assert answer.details == "Remapped Null Output" or "Null Output" in answer.details
    measured = dict(answer.measured)
    assert measured["left frequency"] == pytest.approx(440, rel=0.005)
    assert measured["left level"] == pytest.approx(-12, abs=1.5)
    assert_passes(answer)


def test_a_lost_side_is_found_through_a_real_sound_server(
    sound: StartServer, open_worker: Callable[[str], list[Message]]
) -> None:
    sound(source="channels=1 channel_map=mono master_channel_map=front-left remix=no")
    outcome, why = loop_result(answer_of(open_worker("loop")))
    assert outcome is CheckOutcome.FAIL
    assert why == "missing in the recording: right tone"


def test_silence_at_the_input_is_no_voice(sound: StartServer, open_worker: Callable[[str], list[Message]]) -> None:
    sound(source="channels=2")
    answer = answer_of(open_worker("voice"))
    assert dict(answer.measured)["loudest"] < -80


def test_without_an_input_that_is_the_answer(sound: StartServer) -> None:
    sound()
    assert answer_of(worker("voice")).word == NO_DEVICE
    assert answer_of(worker("voice")).details == "this machine has no sound input"
    assert answer_of(worker("left", device=3)).details == "there are only 1 of them"


def test_without_a_sound_server_that_is_the_answer(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("PULSE_SERVER", f"unix:{tmp_path / 'nobody'}")
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path))
    answer = answer_of(worker("left"))
    assert answer.word == NO_DEVICE
    assert "sound" in answer.details


def test_the_window_plays_and_stops_and_plays_again(qtbot: QtBot, sound: StartServer) -> None:
    sound()
    question = Question("Sound", "Where?", (Choice("L", "left", "Left"),), sound=SoundKind.SWEEP)
    pane = SoundPane(Look(), question)
    qtbot.addWidget(pane)
    pane.resize(900, 110)
    pane.show()
    pane.begin()
    qtbot.waitUntil(lambda: bool(pane.messages), timeout=15_000)
    assert pane.playing
    pane.grab()
    answer = pane.answer("left")
    assert (answer.word, answer.details) == ("left", "Null Output")
    pane.end()
    press = QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_P, Qt.KeyboardModifier.NoModifier, "p")
    assert pane.key(press, pressed=True), "P is for the pane"
    qtbot.waitUntil(lambda: pane.playing, timeout=5_000)
    qtbot.waitUntil(lambda: not pane.playing, timeout=30_000)
    pane.end()


def test_the_window_records_and_answers_by_itself(qtbot: QtBot, sound: StartServer) -> None:
    sound(source="channels=2")
    pane = SoundPane(Look(), Question("Sound", "Be quiet", (), sound=SoundKind.LOOP))
    qtbot.addWidget(pane)
    pane.resize(900, 110)
    pane.show()
    answers: list[Answer] = []
    pane.by_itself.connect(answers.append)
    pane.begin()
    qtbot.waitUntil(lambda: pane.level_db > -30, timeout=20_000)
    pane.grab()
    qtbot.waitUntil(lambda: bool(answers), timeout=90_000)
    pane.end()
    assert_passes(answers[0])


def test_a_process_that_dies_is_said(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(
        "thresher.ui.questions.sound_pane.own_command",
        lambda *_arguments: [sys.executable, "-c", "raise SystemExit(3)"],
    )
    pane = SoundPane(Look(), Question("Sound", "Be quiet", (), sound=SoundKind.VOICE))
    qtbot.addWidget(pane)
    answers: list[Answer] = []
    pane.by_itself.connect(answers.append)
    pane.begin()
    qtbot.waitUntil(lambda: bool(answers), timeout=15_000)
    assert (answers[0].word, answers[0].details) == (
        NO_DEVICE,
        "the process that plays and records has ended before its time",
    )
    assert os.environ.get("QT_QPA_PLATFORM")


def test_sound_is_asked_in_the_terminal_too(sound: StartServer, thresher: Run) -> None:
    sound(source="channels=2")
    done = thresher(
        "check", "run", "speakers", "--ask", "--simulate", "ferry-office", "--speed", "50", stdin="l\nx\nr\np\ny\n"
    )
    assert done.returncode == 0, done.stdout
    assert "Playing on Null Output" in done.stdout
    assert "Type one of R, L, B, N, D, S." in done.stdout, "x is no answer"
    assert "pass           speakers, Null Output" in done.stdout
