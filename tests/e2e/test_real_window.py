"""The whole program as a person starts it: a real window on a virtual display, keys, and a finding that arrives."""

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from thresher.engine.client import EngineClient
from thresher.engine.protocol import Snapshot
from thresher.model.errors import EnvironmentFault

pytestmark = [
    pytest.mark.x11,
    pytest.mark.skipif(not (shutil.which("Xvfb") and shutil.which("xdotool")), reason="Xvfb or xdotool is missing"),
]


@pytest.fixture
def display() -> Iterator[str]:
    """A virtual display of its own."""
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"],
        pass_fds=[write], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    os.close(write)
    with os.fdopen(read) as stream:
        number = stream.readline().strip()
    assert number, "Xvfb did not start"
    yield f":{number}"
    server.terminate()
    server.wait(10)


def wait_for(condition: object, seconds: float, what: str) -> None:
    deadline = time.monotonic() + seconds
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < deadline, f"waited in vain for {what}"
        time.sleep(0.1)


def test_the_demo_is_started_by_a_key_and_its_findings_arrive(display: str, tmp_path: Path) -> None:
    environment = os.environ | {
        "DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "XDG_RUNTIME_DIR": str(tmp_path / "run"),
        "XDG_DATA_HOME": str(tmp_path / "data"), "HOME": str(tmp_path),
    }  # fmt: skip
    (tmp_path / "run").mkdir(mode=0o700)

    def xdotool(*arguments: str) -> str:
        done = subprocess.run(["xdotool", *arguments], env=environment, capture_output=True, text=True, timeout=20)
        return done.stdout.strip()

    with (tmp_path / "window.log").open("wb") as log:
        window = subprocess.Popen(
            [sys.executable, "-m", "thresher.cli", "demo", "--speed", "30"], env=environment, stdout=log, stderr=log
        )
    try:
        wait_for(lambda: "Playout" in _title(xdotool) or "playout" in _title(xdotool), 30, "the window")
        number = xdotool("search", "--name", "Thresher").splitlines()[-1]
        xdotool("windowfocus", number)
        xdotool("key", "ctrl+Return")
        wait_for(lambda: "findings" in _title(xdotool), 60, "a finding in the window's title")
        socket = tmp_path / "run" / "thresher" / "demo.sock"
        with EngineClient(socket) as client:
            wait_for(lambda: _codes(client) >= {"P-104", "P-310"}, 60, "a wrong result and a machine check")
            assert socket.stat().st_mode & 0o777 == 0o600
            xdotool("key", "Escape")
            wait_for(lambda: client.call("snapshot", Snapshot).run.ending == "stopped", 10, "the run's end")
        xdotool("key", "ctrl+q")
        assert window.wait(15) == 0
        wait_for(lambda: not _answers(socket), 15, "the engine's end")
    finally:
        if window.poll() is None:
            window.kill()
            window.wait()
    assert list((tmp_path / "data").rglob("*.thresher"))
    assert "Traceback" not in (tmp_path / "window.log").read_text()


def _title(xdotool: object) -> str:
    numbers = xdotool("search", "--name", "Thresher").splitlines()  # type: ignore[operator]
    return xdotool("getwindowname", numbers[-1]) if numbers else ""  # type: ignore[operator]


def _codes(client: EngineClient) -> set[str]:
    return {finding.code for finding in client.call("snapshot", Snapshot).findings}


def _answers(socket: Path) -> bool:
    try:
        EngineClient(socket, timeout_s=2).close()
    except EnvironmentFault:
        return False
    return True
