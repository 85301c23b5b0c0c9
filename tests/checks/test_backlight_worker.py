"""A backlight that is turned down is put back: at the end, and after a kill of the program."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from thresher.machine.driven_process import DrivenProcess
from thresher.model.errors import SourceUnavailable

WORKER = "thresher.machine.backlight_worker"


@pytest.fixture
def panel(tmp_path: Path) -> Path:
    (tmp_path / "panel0").mkdir()
    (tmp_path / "panel0" / "brightness").write_text("312\n")
    return tmp_path / "panel0"


def now(panel: Path) -> str:
    return (panel / "brightness").read_text().strip()


def test_it_is_driven_and_put_back(panel: Path) -> None:
    light = DrivenProcess("light", WORKER, panel.name, str(panel.parent))
    assert now(panel) == "312"
    light.drive(40)
    assert now(panel) == "40"
    light.close()
    assert now(panel) == "312"


PROGRAM = """
import sys
from thresher.machine.driven_process import DrivenProcess
light = DrivenProcess("light", "thresher.machine.backlight_worker", *sys.argv[1:])
light.drive(7)
print("dark", flush=True)
__import__("signal").pause()
"""


def test_a_kill_of_the_program_puts_it_back_too(panel: Path) -> None:
    command = [sys.executable, "-c", PROGRAM, panel.name, str(panel.parent)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as program:
        assert program.stdout is not None
        assert program.stdout.readline() == "dark\n"
        assert now(panel) == "7"
        os.kill(program.pid, signal.SIGKILL)
    deadline = time.monotonic() + 10
    while now(panel) != "312":
        assert time.monotonic() < deadline, now(panel)
        time.sleep(0.02)


def test_one_that_is_not_there_or_holds_no_number_is_refused(panel: Path) -> None:
    with pytest.raises(SourceUnavailable, match="No such file"):
        DrivenProcess("light", WORKER, "panel9", str(panel.parent))
    (panel / "brightness").write_text("bright\n")
    with pytest.raises(SourceUnavailable, match="invalid literal"):
        DrivenProcess("light", WORKER, panel.name, str(panel.parent))


def test_without_rights_the_login_manager_is_asked_and_its_refusal_is_said(
    panel: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may write everywhere")
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nonexistent")
    (panel / "brightness").chmod(0o444)
    with pytest.raises(SourceUnavailable, match="no login manager answers"):
        DrivenProcess("light", WORKER, panel.name, str(panel.parent))
