"""The whole program as a person starts it: a real window on a virtual display, keys, and a finding that arrives."""

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from thresher.model.errors import EnvironmentFault
from thresher.protocol.answers import Snapshot
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import GetSnapshot, QuitEngine

pytestmark = [
    pytest.mark.x11,
    pytest.mark.skipif(not (shutil.which("Xvfb") and shutil.which("xdotool")), reason="Xvfb or xdotool is missing"),
]


@pytest.fixture
def display() -> Iterator[str]:
    """A virtual display of its own."""
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp", "-noreset"],
        pass_fds=[write],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    with os.fdopen(read) as stream:
        number = stream.readline().strip()
    assert number, "Xvfb did not start"
    yield f":{number}"
    server.terminate()
    server.wait(10)


def wait_for(condition: Callable[[], bool], seconds: float, what: str) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline, f"waited in vain for {what}"
        time.sleep(0.1)


class Desktop:
    """A display, a window of the demo on it, and a hand at the keyboard."""

    def __init__(self, display: str, folder: Path) -> None:
        """Start the demo and wait for its window."""
        self.folder = folder
        self.environment = os.environ | {
            "DISPLAY": display,
            "QT_QPA_PLATFORM": "xcb",
            "XDG_RUNTIME_DIR": str(folder / "run"),
            "XDG_DATA_HOME": str(folder / "data"),
            "HOME": str(folder),
        }
        (folder / "run").mkdir(mode=0o700)
        self.socket = folder / "run" / "thresher" / "demo.sock"
        with (folder / "window.log").open("wb") as log:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "thresher.cli", "demo", "--speed", "30"],
                env=self.environment,
                stdout=log,
                stderr=log,
            )

    def wait_until_shown(self) -> None:
        """Wait for the window and put the keyboard into it."""
        wait_for(lambda: "playout" in self.title(), 30, f"the window: {(self.folder / 'window.log').read_text()}")
        self.xdotool("windowfocus", self.xdotool("search", "--name", "Thresher").splitlines()[-1])

    def xdotool(self, *arguments: str) -> str:
        """Do what a hand does."""
        done = subprocess.run(["xdotool", *arguments], env=self.environment, capture_output=True, text=True, timeout=20)
        return done.stdout.strip()

    def title(self) -> str:
        """Return the window's title, empty while there is no window."""
        numbers = self.xdotool("search", "--name", "Thresher").splitlines()
        return self.xdotool("getwindowname", numbers[-1]) if numbers else ""

    def close(self) -> None:
        """End the window by its key, and see that its engine goes too."""
        self.xdotool("key", "ctrl+q")
        assert self.process.wait(15) == 0
        wait_for(lambda: not _answers(self.socket), 15, "the engine's end")
        assert "Traceback" not in (self.folder / "window.log").read_text()


@pytest.fixture
def desktop(display: str, tmp_path: Path) -> Iterator[Desktop]:
    """The demo in a real window."""
    made = Desktop(display, tmp_path)
    try:
        made.wait_until_shown()
        yield made
    finally:
        if made.process.poll() is None:
            made.process.kill()
        made.process.wait()
        with contextlib.suppress(EnvironmentFault), EngineClient(made.socket, timeout_s=5) as client:
            client.call(QuitEngine())


def test_the_demo_is_started_by_a_key_and_its_findings_arrive(desktop: Desktop) -> None:
    desktop.xdotool("key", "ctrl+Return")
    wait_for(lambda: "findings" in desktop.title(), 60, "a finding in the window's title")
    with EngineClient(desktop.socket) as client:
        wait_for(lambda: _codes(client) >= {"P-104", "P-310"}, 60, "a wrong result and a machine check")
        assert desktop.socket.stat().st_mode & 0o777 == 0o600
        desktop.xdotool("key", "Escape")
        wait_for(lambda: client.call(GetSnapshot()).run.ending == "stopped", 10, "the run's end")
    desktop.close()
    assert list((desktop.folder / "data").rglob("*.thresher"))


def test_a_killed_engine_is_started_again_on_the_same_job(desktop: Desktop) -> None:
    desktop.xdotool("key", "ctrl+Return")
    with EngineClient(desktop.socket) as client:
        wait_for(lambda: client.call(GetSnapshot()).run.workers_running == 16, 30, "a load")
        first = client.call(GetSnapshot())
        os.kill(first.pid, signal.SIGKILL)

    def second() -> Snapshot | None:
        try:
            with EngineClient(desktop.socket, timeout_s=5) as again:
                return again.call(GetSnapshot())
        except EnvironmentFault:
            return None

    wait_for(lambda: (found := second()) is not None and found.pid != first.pid, 30, "another engine")
    found = second()
    assert found is not None
    assert found.job_file == first.job_file
    assert any("interrupted after" in entry.title for entry in found.tape)
    wait_for(lambda: desktop.title().endswith(", idle"), 15, "the window on the new engine")
    desktop.close()


def _codes(client: EngineClient) -> set[str]:
    return {finding.code for finding in client.call(GetSnapshot()).findings}


def _answers(socket: Path) -> bool:
    try:
        EngineClient(socket, timeout_s=2).close()
    except EnvironmentFault:
        return False
    return True


def test_a_run_of_two_parts_is_composed_by_keys_alone(desktop: Desktop) -> None:
    with EngineClient(desktop.socket) as client:
        for key in ("ctrl+m", "space", "Down", "space", "Return", "ctrl+Return"):
            desktop.xdotool("key", key)
            time.sleep(0.2)
        wait_for(lambda: len(client.call(GetSnapshot()).run.busy_cores) == 8, 30, "the load on all cores")
        run = client.call(GetSnapshot()).run
        assert [item.title for item in run.plan] == ["matrix, shared cache", "memory, 4 patterns"]
        assert run.length_s == 300
        desktop.xdotool("key", "Escape")
        wait_for(lambda: client.call(GetSnapshot()).run.ending == "stopped", 10, "the run's end")
    desktop.close()
