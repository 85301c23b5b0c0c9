"""A fan that is driven is put back as it was: at the end, after a kill, and where the board takes no control back."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from thresher.machine.driven_process import fan_process
from thresher.model.errors import SourceUnavailable


def board(folder: Path, duty: str = "128", mode: str | None = "5") -> Path:
    (folder / "pwm2").write_text(f"{duty}\n")
    if mode is not None:
        (folder / "pwm2_enable").write_text(f"{mode}\n")
    return folder


def state(folder: Path) -> tuple[str, str | None]:
    mode = folder / "pwm2_enable"
    return (folder / "pwm2").read_text().strip(), mode.read_text().strip() if mode.exists() else None


@pytest.mark.parametrize("mode", ["5", "2", "1", None])
def test_it_is_driven_and_put_back(tmp_path: Path, mode: str | None) -> None:
    folder = board(tmp_path, mode=mode)
    fan = fan_process(str(folder), 2)
    fan.drive(255)
    assert state(folder) == ("255", "1" if mode is not None else None)
    fan.drive(90)
    assert state(folder)[0] == "90"
    fan.close()
    assert state(folder) == ("128", mode)


def test_it_is_let_go_without_waiting_and_put_back_all_the_same(tmp_path: Path) -> None:
    folder = board(tmp_path)
    fan = fan_process(str(folder), 2)
    fan.drive(255)
    fan.let_go()
    deadline = time.monotonic() + 10
    while state(folder) != ("128", "5"):
        assert time.monotonic() < deadline, state(folder)
        time.sleep(0.02)
    fan.close()
    fan.let_go()
    assert state(folder) == ("128", "5"), "once more changes nothing"


DRIVER = """
import os, sys
from thresher.machine.driven_process import fan_process
fan = fan_process(sys.argv[1], 2)
fan.drive(255)
print("driven", flush=True)
__import__("signal").pause()
"""


def test_a_kill_of_the_program_puts_it_back_too(tmp_path: Path) -> None:
    folder = board(tmp_path)
    with subprocess.Popen([sys.executable, "-c", DRIVER, str(folder)], stdout=subprocess.PIPE, text=True) as program:
        assert program.stdout is not None
        assert program.stdout.readline() == "driven\n"
        assert state(folder) == ("255", "1")
        os.kill(program.pid, signal.SIGKILL)
    deadline = time.monotonic() + 10
    while state(folder) != ("128", "5"):
        assert time.monotonic() < deadline, state(folder)
        time.sleep(0.02)


def test_a_fan_that_is_not_there_is_refused_with_a_reason(tmp_path: Path) -> None:
    with pytest.raises(SourceUnavailable, match="No such file"):
        fan_process(str(tmp_path), 2)


def test_one_that_may_not_be_driven_is_left_alone(tmp_path: Path) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may write everywhere")
    folder = board(tmp_path)
    (folder / "pwm2_enable").chmod(0o444)
    with pytest.raises(SourceUnavailable, match="Permission denied"):
        fan_process(str(folder), 2)
    assert state(folder) == ("128", "5")
