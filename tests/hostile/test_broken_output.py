"""Output that breaks ends nothing: the run goes on to its end in the job file."""

import contextlib
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.model.own_program import own_command

SHEET = """
format = "thresher-sheet/1"
title = "Half a minute"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 30
"""


def start(tmp_path: Path, stdout: int, speed: str = "0") -> "subprocess.Popen[bytes]":
    (tmp_path / "s.toml").write_text(SHEET)
    command = own_command("thresher.cli", "run", "s.toml", "--simulate", "ferry-office", "--speed", speed)
    return subprocess.Popen(
        [*command, "--job", "j.thresher"],
        cwd=tmp_path,
        stdout=stdout,
        stderr=subprocess.PIPE,
        env=os.environ | {"XDG_DATA_HOME": str(tmp_path / "data")},
    )


def ended(tmp_path: Path) -> str | None:
    with JobFile(tmp_path / "j.thresher") as stored:
        return stored.runs()[0].ending


def test_a_closed_pipe_ends_no_run(tmp_path: Path) -> None:
    read, write = os.pipe()
    process = start(tmp_path, write)
    os.close(write)
    os.close(read)
    _, said = process.communicate(timeout=90)
    assert process.returncode == 0, said
    assert b"Traceback" not in said
    assert ended(tmp_path) == "finished"


def test_a_full_device_ends_no_run(tmp_path: Path) -> None:
    with Path("/dev/full").open("wb") as full:
        process = start(tmp_path, full.fileno())
        _, said = process.communicate(timeout=90)
    assert process.returncode == 0, said
    assert b"Traceback" not in said
    assert ended(tmp_path) == "finished"


def test_a_terminal_that_goes_away_ends_no_run(tmp_path: Path) -> None:
    process = start(tmp_path, subprocess.DEVNULL, speed="20")
    job = tmp_path / "j.thresher"
    deadline = time.monotonic() + 30
    while time.monotonic() < deadline:
        if job.exists():
            # for a moment the file is there with nothing in it
            with contextlib.suppress(InputError), JobFile(job, read_only=True) as stored:
                if stored.runs():
                    break
        time.sleep(0.1)
    process.send_signal(signal.SIGHUP)
    process.communicate(timeout=90)
    assert process.returncode == 0
    assert ended(tmp_path) == "finished"


def test_closed_standard_input_is_reported(tmp_path: Path) -> None:
    done = subprocess.run(
        ["/bin/sh", "-c", f"exec {sys.executable} -P -m thresher.cli decode - <&-"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert done.returncode == 2
    assert "standard input" in done.stderr
    assert "Traceback" not in done.stderr


def test_a_csv_that_cannot_be_written_is_reported_before_anything_is_watched(tmp_path: Path) -> None:
    from thresher.cli.app import main

    out = tmp_path / "nowhere" / "w.csv"
    assert main(["watch", "--simulate", "ferry-office", "--seconds", "3600", "--csv", str(out)]) == 2


@pytest.mark.parametrize("words", [("--help",), ("inventory", "--simulate", "ferry-office")])
def test_short_output_into_a_closed_pipe_leaves_no_traceback(tmp_path: Path, words: tuple[str, ...]) -> None:
    read, write = os.pipe()
    os.close(read)
    done = subprocess.run(
        own_command("thresher.cli", *words), cwd=tmp_path, stdout=write, stderr=subprocess.PIPE, timeout=60, check=False
    )
    os.close(write)
    assert b"Traceback" not in done.stderr, done.stderr
