"""A worker that does nothing is not always the fault of its core."""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator

import pytest

from thresher.loads.team.stalls import RunTimes


@pytest.fixture
def sleeper() -> Iterator[int]:
    process = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    yield process.pid
    process.kill()
    process.wait()


def test_a_stopped_process_is_innocent(sleeper: int) -> None:
    os.kill(sleeper, signal.SIGSTOP)
    deadline = time.monotonic() + 5
    while RunTimes().look(sleeper) != "something has stopped its process":
        assert time.monotonic() < deadline
        time.sleep(0.01)


def test_the_first_look_decides_nothing_and_the_second_finds_no_excuse(sleeper: int) -> None:
    times = RunTimes()
    assert times.look(sleeper) == "it is looked at for the first time"
    assert times.look(sleeper) == ""


def test_one_that_ran_in_the_meantime_is_innocent() -> None:
    times = RunTimes()
    times.look(os.getpid())
    until = time.thread_time() + 2.1
    while time.thread_time() < until:
        sum(range(1000))
    assert times.look(os.getpid()) in ("it has run in the meantime", "other programs take its core")


def test_one_that_is_gone_cannot_be_looked_at() -> None:
    process = subprocess.Popen([sys.executable, "-c", ""])
    process.wait()
    assert RunTimes().look(process.pid) == "its process cannot be looked at"
