"""A job file that cannot be written: what waits is kept beside it, said at the end, and put in at the next opening."""

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from thresher.cli.app import main
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Channel, Quantity, Tick
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Inventory, Part, PartKind
from thresher.model.sheet import RunSheet

MACHINE = Inventory("bench", True, (Part("processor", PartKind.PROCESSOR, "Tern"),), ())
CHANNELS = (Channel("c/1", "Core 0", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/x", (), 0),)
WRONG = Finding("P-104", FindingKind.WRONG_RESULT, Severity.FAULT, PartKind.PROCESSOR, 12.0, "Wrong", "detail", run=1)


def _begin(path: Path, sheet: RunSheet, elsewhere: Path | None = None) -> JournalWriter:
    writer = JournalWriter(path, elsewhere)
    writer.begin_run(1, sheet, MACHINE, CHANNELS, "boot", 10.0, 1e9)
    writer.add_tick(1, Tick(11.0, 1e9, (50.0,), {}, 0))
    assert writer.settle(10.0)
    return writer


def _break(path: Path) -> None:
    """Let every further commit fail, as it does on a disk that is full."""
    with closing(sqlite3.connect(path)) as other, other:
        other.execute("ALTER TABLE ticks RENAME TO ticks_away")
        other.execute("ALTER TABLE marks RENAME TO marks_away")


def _heal(path: Path) -> None:
    with closing(sqlite3.connect(path)) as other, other:
        other.execute("ALTER TABLE ticks_away RENAME TO ticks")
        other.execute("ALTER TABLE marks_away RENAME TO marks")


def _wait(reached: Callable[[], object]) -> None:
    until = time.monotonic() + 10
    while not reached():
        assert time.monotonic() < until
        time.sleep(0.02)


def _end_in_trouble(writer: JournalWriter, path: Path) -> None:
    _break(path)
    for second in range(12, 20):
        writer.add_tick(1, Tick(float(second), 1e9, (51.0,), {}, 0))
    writer.add_mark(1, 12.0, "finding", WRONG)
    writer.end_run(1, 20.0, "finished", "")
    _wait(lambda: writer.health().trouble)


def test_rows_that_could_not_be_written_are_kept_and_put_in_at_the_next_opening(
    tmp_path: Path, sheet: Callable[[float], RunSheet], capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "a.thresher"
    writer = _begin(path, sheet(60.0))
    _end_in_trouble(writer, path)
    closed = writer.close()
    assert (closed.kept, closed.lost_readings, closed.lost_others, closed.refused) == (10, 0, 0, 0)
    assert not closed.complete
    assert f"10 rows wait in {path}.rescue" in closed.sentences[0]
    _heal(path)
    assert main(["verdict", str(path)]) in (0, 1)
    assert f"Rows of this job wait in {path}.rescue" in capsys.readouterr().out
    again = JournalWriter(path)
    assert [(each.rows, each.trouble) for each in again.put_back] == [(10, "")]
    assert again.close().complete
    with JobFile(path) as stored:
        (run,) = stored.runs()
        assert (run.ending, run.ended_at) == ("finished", 20.0)
        assert stored.readings(run).at.tolist() == [float(second) for second in range(11, 20)]
        assert stored.findings(run) == [WRONG]
        assert "written" not in " ".join(stored.job()), "the bookkeeping is no field of the job"
    assert sorted(each.name for each in tmp_path.iterdir()) == [".a.thresher.lock", "a.thresher"]


def test_the_end_and_the_findings_are_safe_before_the_program_ends(
    tmp_path: Path, sheet: Callable[[float], RunSheet]
) -> None:
    """As after a kill: nothing has been closed, and the rescue file is read as it lies there."""
    path = tmp_path / "a.thresher"
    writer = _begin(path, sheet(60.0))
    _end_in_trouble(writer, path)
    beside = tmp_path / "a.thresher.rescue"
    _wait(lambda: b"finished" in beside.read_bytes())
    assert beside.stat().st_blocks * 512 >= 1 << 20, "the room had been set aside before"
    copy = tmp_path / "after" / "a.thresher"
    copy.parent.mkdir()
    for name in ("", "-wal", ".rescue"):
        shutil.copy(f"{path}{name}", f"{copy}{name}")
    _heal(copy)
    JournalWriter(copy).close()
    with JobFile(copy) as stored:
        (run,) = stored.runs()
        assert run.ending == "finished"
        assert stored.findings(run) == [WRONG]
        assert stored.readings(run).at.tolist() == [11.0], "readings wait in memory only"
    writer.close()


def test_rows_that_the_file_takes_later_are_not_put_in_twice(
    tmp_path: Path, sheet: Callable[[float], RunSheet]
) -> None:
    path = tmp_path / "a.thresher"
    writer = _begin(path, sheet(60.0))
    _end_in_trouble(writer, path)
    _wait(lambda: b"finished" in (tmp_path / "a.thresher.rescue").read_bytes())
    kept = (tmp_path / "a.thresher.rescue").read_bytes()
    _heal(path)
    assert writer.settle(10.0)
    assert writer.close().complete
    (tmp_path / "a.thresher.rescue").write_bytes(kept)  # as if the program had died before it could take them out
    again = JournalWriter(path)
    assert again.put_back == ()
    again.close()
    with JobFile(path) as stored:
        assert stored.findings(stored.runs()[0]) == [WRONG]


def test_a_row_that_is_refused_is_kept_with_its_reason_and_holds_nothing_up(
    tmp_path: Path, sheet: Callable[[float], RunSheet]
) -> None:
    """The number of a run used twice, and a number that SQLite cannot hold."""
    path = tmp_path / "a.thresher"
    writer = _begin(path, sheet(60.0))
    writer.begin_run(1, sheet(30.0), MACHINE, CHANNELS, "boot", 20.0, 1e9)
    writer.add_tick(1, Tick(12.0, 1e9, (51.0,), {}, 1 << 70))
    writer.add_tick(1, Tick(13.0, 1e9, (52.0,), {}, 0))
    assert writer.settle(10.0)
    health = writer.health()
    assert (health.refused, health.trouble, health.waiting) == (2, None, 0)
    assert "UNIQUE constraint" in health.why_refused
    closed = writer.close()
    assert not closed.complete
    assert "refused 2 rows" in closed.sentences[0]
    lines = [json.loads(line) for line in (tmp_path / "a.thresher.refused.jsonl").read_text().splitlines()]
    assert [line["write"] for line in lines] == ["begin run", "tick"]
    assert "UNIQUE" in lines[0]["why"]
    with JobFile(path) as stored:
        assert stored.readings(stored.runs()[0]).at.tolist() == [11.0, 13.0]


def test_a_drive_that_takes_nothing_any_more_sends_its_rows_elsewhere(
    tmp_path: Path, sheet: Callable[[float], RunSheet]
) -> None:
    """The descriptors of the rescue file are useless too, as after a stick was pulled."""
    path, elsewhere = tmp_path / "stick" / "a.thresher", tmp_path / "home"
    path.parent.mkdir()
    writer = _begin(path, sheet(60.0), elsewhere)
    _break(path)
    beside = path.with_name("a.thresher.rescue")
    descriptor = next(
        int(name) for name in os.listdir("/proc/self/fd") if os.path.realpath(f"/proc/self/fd/{name}") == str(beside)
    )
    full = os.open("/dev/full", os.O_WRONLY)
    os.dup2(full, descriptor)  # every write fails with "no space left on device"
    os.close(full)
    writer.add_mark(1, 12.0, "finding", WRONG)
    writer.end_run(1, 20.0, "finished", "")
    _wait(lambda: writer.health().trouble)
    closed = writer.close()
    assert closed.kept_in == (elsewhere / "a.thresher.rescue",)
    assert (closed.kept, closed.lost_others) == (2, 0)
    _heal(path)
    again = JournalWriter(path, elsewhere)
    assert [each.rows for each in again.put_back if not each.trouble] == [2]
    again.close()
    assert not (elsewhere / "a.thresher.rescue").exists()


@pytest.mark.parametrize(
    "content", [b"not ours\n", b'{"rescue": "x", "job": "a"}\n{"row": 1, "write": "drop"}\n', b"\xff"]
)
def test_a_foreign_rescue_file_is_reported_and_left(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "a.thresher"
    JournalWriter(path).close()
    (tmp_path / "a.thresher.rescue").write_bytes(content)
    writer = JournalWriter(path)
    (trouble,) = writer.put_back
    assert trouble.rows == 0
    assert "a.thresher.rescue" in trouble.trouble
    assert writer.close().complete
    assert (tmp_path / "a.thresher.rescue").read_bytes() == content


FILL = """
import os, sqlite3, sys, threading, time
from pathlib import Path
def ticks():
    try:
        with sqlite3.connect(f"file:{sys.argv[1]}/full.thresher?mode=ro", uri=True) as job:
            return job.execute("SELECT count(*) FROM ticks").fetchone()[0]
    except sqlite3.Error:
        return 0
def fill():
    while ticks() < 3:
        time.sleep(0.1)
    with open(Path(sys.argv[1]) / "filler", "wb", buffering=0) as stream:
        if len(sys.argv) > 3:  # the room of the black box does not become free
            os.link(sys.argv[1] + "/full.thresher.blackbox", sys.argv[1] + "/kept")
        try:
            while True:
                stream.write(bytes(4096))
        except OSError:
            pass
threading.Thread(target=fill, daemon=True).start()
from thresher.cli.app import main
options = ["--simulate", "ferry-office", "--speed", "40", "--job", sys.argv[1] + "/full.thresher"]
sys.exit(main(["run", sys.argv[2], *options]))
"""

SHEET = """
format = "thresher-sheet/1"
title = "Two minutes"
[[blocks]]
row = "processor"
load = "integer"
start = "0:00"
length = "1:40"
"""


@pytest.mark.parametrize(("taken", "code"), [("kept", 2), ("", 0)])
def test_a_run_on_a_file_system_that_fills_up_is_whole_after_room_was_made(
    tmp_path: Path, taken: str, code: int
) -> None:
    """A real file system of 6 MB in a name space of its own, filled up once some readings are written.

    The black box is removed at the end; where that makes room, the job file becomes complete by itself.
    """
    if subprocess.run(["unshare", "-rm", "true"], check=False, capture_output=True).returncode:
        pytest.skip("no user name spaces here, so no file system of our own can be mounted")
    mount, sheet = tmp_path / "mount", tmp_path / "two.toml"
    mount.mkdir()
    sheet.write_text(SHEET)
    (tmp_path / "fill.py").write_text(FILL)
    script = (
        f"mount -t tmpfs -o size=6m none {mount} || exit 99\n"
        f"{sys.executable} {tmp_path}/fill.py {mount} {sheet} {taken}\n"
        "echo run $?\n"
        f"rm -f {mount}/filler {mount}/kept\n"
        f"{sys.executable} -m thresher.cli run {sheet} --simulate ferry-office --speed 0"
        f" --job {mount}/full.thresher --json >/dev/null\n"
        f"cp {mount}/full.thresher* {tmp_path}\n"
    )
    done = subprocess.run(
        ["unshare", "-rm", "sh", "-c", script], check=False, capture_output=True, text=True, timeout=120
    )
    assert "Cannot write the job file" in done.stdout, done.stdout + done.stderr
    assert "the disk is full" in done.stdout
    assert "The job file is not complete" in done.stdout
    assert f"run {code}" in done.stdout, "the exit code of the run"
    assert ("rows wait in" in done.stderr) is bool(taken)
    with JobFile(tmp_path / "full.thresher") as stored:
        first, _ = stored.runs()
        assert first.ending == "finished"
        readings = stored.readings(first)
        assert readings.at[-1] - readings.at[0] >= 98


def test_a_job_file_on_a_full_file_system_is_refused_with_a_reason(tmp_path: Path) -> None:
    """Not even the name of the lock's holder can be written there."""
    if subprocess.run(["unshare", "-rm", "true"], check=False, capture_output=True).returncode:
        pytest.skip("no user name spaces here, so no file system of our own can be mounted")
    script = (
        f"mount -t tmpfs -o size=64k none {tmp_path} || exit 99\n"
        f"cat /dev/zero > {tmp_path}/filler 2>/dev/null\n"
        f"exec {sys.executable} -m thresher.cli run short-round --simulate ferry-office --speed 0"
        f" --job {tmp_path}/full.thresher\n"
    )
    done = subprocess.run(
        ["unshare", "-rm", "sh", "-c", script], check=False, capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 2, done.stdout + done.stderr
    assert f"{tmp_path}/full.thresher" in done.stderr
    assert "full" in done.stderr
    assert "bug" not in done.stderr
