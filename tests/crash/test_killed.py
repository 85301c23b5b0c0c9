"""Bad times: the engine killed, workers killed, files torn, the disk full, the socket taken."""

import os
import random
import shutil
import signal
import subprocess
import sys
import textwrap
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.crash.engine_process import EngineProcess, alive
from thresher.journal.black_box import box_path
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import GetSnapshot, StartRun, StopRun, Subscribe
from thresher.protocol.events import TickEvent
from thresher.server.server import take_socket

ON_MODEL = ("--simulate", "lighthouse-playout", "--speed", "30", "--sheet", "reset-hunt-short")
StartEngine = Callable[..., EngineProcess]


@pytest.fixture
def start_engine(tmp_path: Path) -> Iterator[StartEngine]:
    started: list[EngineProcess] = []

    def start(*arguments: str) -> EngineProcess:
        engine = EngineProcess(tmp_path, *(arguments or ON_MODEL))
        started.append(engine)
        return engine

    yield start
    for engine in started:
        engine.close()


def gone(pids: list[int]) -> bool:
    deadline = time.monotonic() + 5
    while any(alive(pid) for pid in pids):
        if time.monotonic() > deadline:
            return False
        time.sleep(0.01)
    return True


def test_a_killed_engine_loses_nothing_but_the_tick_it_was_in(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(Subscribe())
    engine.client.call(StartRun())
    seen: list[TickEvent] = []
    while not (seen and seen[-1].run.run_at >= 60):
        event = engine.client.next_event()
        if isinstance(event, TickEvent) and event.run.run is not None:
            seen.append(event)
    workers = engine.workers()
    assert len(workers) == 16
    engine.kill()
    assert gone(workers)
    with JobFile(engine.job) as stored:
        (run,) = stored.runs()
        assert run.ending is None
        assert "while matrix, shared cache ran" in (stored.interruption(run) or "")
        written = set(stored.readings(run).at.tolist())
    # the run's first row comes with the first tick after its start; at most the last one may be missing
    shown = [event.tick.at for event in seen if event.tick.at > run.began_at]
    assert [at for at in shown if at not in written] in ([], shown[-1:])

    again = start_engine()
    tape = [entry.title for entry in again.client.call(GetSnapshot()).tape]
    assert any("interrupted after" in title and "matrix, shared cache ran" in title for title in tape)
    with JobFile(engine.job) as stored:
        assert stored.runs()[0].ending == "interrupted"


def test_many_kills_at_random_moments_leave_a_file_that_opens(start_engine: StartEngine, tmp_path: Path) -> None:
    rng = random.Random(3)
    for round_number in range(4):
        engine = start_engine()
        engine.client.call(StartRun())
        engine.wait(lambda status: status.run_at > 3)
        time.sleep(rng.random() * 0.4)
        engine.kill()
        with JobFile(tmp_path / "job.thresher") as stored:
            runs = stored.runs()
            assert len(runs) == round_number + 1
            assert len(stored.readings(runs[-1]).at) > 0


def test_a_torn_write_ahead_file_loses_only_its_end(start_engine: StartEngine, tmp_path: Path) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.run_at > 20)
    engine.kill()
    wal = tmp_path / "job.thresher-wal"
    whole = wal.read_bytes()
    rng = random.Random(4)
    with JobFile(_copy(tmp_path, "whole", whole)) as stored:
        everything = stored.readings(stored.runs()[0]).at.tolist()
    for cut in [0, 20, *(rng.randrange(len(whole)) for _ in range(8))]:
        with JobFile(_copy(tmp_path, f"cut-{cut}", whole[:cut])) as stored:
            for run in stored.runs():
                kept = stored.readings(run).at.tolist()
                assert kept == everything[: len(kept)]


def _copy(folder: Path, name: str, wal: bytes) -> Path:
    target = folder / name / "job.thresher"
    target.parent.mkdir()
    shutil.copy(folder / "job.thresher", target)
    (target.parent / "job.thresher-wal").write_bytes(wal)
    return target


def test_a_worker_killed_from_outside_is_reported_and_the_run_goes_on(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.workers_running == 16)
    victim = engine.workers()[4]
    os.kill(victim, signal.SIGKILL)
    status = engine.wait(lambda status: status.workers_running == 15)
    assert status.state == "loading"
    snapshot = engine.client.call(GetSnapshot())
    shown = next(entry for entry in snapshot.tape if entry.code == "X-810")
    assert "ended by signal SIGKILL" in shown.detail
    assert not any(finding.code == "P-110" for finding in snapshot.findings)
    sentence = engine.client.call(StopRun())
    assert sentence.startswith("16 of 16 workers have ended")


def test_a_run_whose_workers_are_all_killed_ends_and_is_no_pass(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.workers_running == 16)
    for worker in engine.workers():
        os.kill(worker, signal.SIGKILL)
    status = engine.wait(lambda status: status.state == "ended")
    assert (status.ending, status.outcome) == ("could not run", "could not tell")
    assert "every worker has ended" in status.ending_detail


def test_stop_ends_every_worker(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.workers_running == 16)
    workers = engine.workers()
    assert len(workers) == 16
    engine.client.call(StopRun())
    assert gone(workers)
    assert engine.status().workers_running == 0


def test_an_engine_reported_to_end_stops_its_run_in_order(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.run_at > 5)
    engine.process.terminate()
    assert engine.process.wait(20) == 0
    with JobFile(engine.job) as stored:
        run = stored.runs()[0]
        # a machine that is shut down asks all programs so: that is not somebody who stops the run
        assert (run.ending, run.ending_detail) == ("interrupted", "the program was asked to end (SIGTERM)")
    assert not engine.socket.exists()


def test_the_socket_is_for_its_owner_only(start_engine: StartEngine) -> None:
    engine = start_engine()
    assert engine.socket.stat().st_mode & 0o777 == 0o600


def test_a_socket_in_use_is_reported_and_the_engine_there_is_left_alone(
    start_engine: StartEngine, tmp_path: Path
) -> None:
    engine = start_engine()
    with pytest.raises(EnvironmentFault, match="another engine answers there"):
        take_socket(engine.socket)
    other = subprocess.run(
        [sys.executable, "-m", "thresher.cli", "engine", "--socket", str(engine.socket), *ON_MODEL],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert other.returncode == 2
    assert "another engine answers there" in other.stderr
    assert engine.status().state == "idle"


def test_a_folder_that_others_may_write_to_is_refused(tmp_path: Path) -> None:
    (tmp_path / "open").mkdir()
    (tmp_path / "open").chmod(0o777)
    with pytest.raises(EnvironmentFault, match="other users may write"):
        take_socket(tmp_path / "open" / "engine.sock")


def test_an_engine_that_nobody_needs_ends_by_itself_but_not_while_a_run_goes_on(start_engine: StartEngine) -> None:
    engine = start_engine("--simulate", "ferry-office", "--speed", "40", "--sheet", "short-round", "--linger", "1")
    engine.client.call(StartRun())
    engine.client.close()
    assert engine.process.wait(30) == 0
    with JobFile(engine.job) as stored:
        assert stored.runs()[0].ending == "finished"


def test_a_socket_left_by_a_killed_engine_is_taken_over(start_engine: StartEngine) -> None:
    start_engine().kill()
    assert start_engine().status().state == "idle"


def test_a_window_that_dies_leaves_the_run_going_and_another_can_come(start_engine: StartEngine) -> None:
    engine = start_engine()
    engine.client.call(StartRun())
    engine.wait(lambda status: status.run_at > 5)
    engine.client.close()
    with EngineClient(engine.socket) as second:
        snapshot = second.call(GetSnapshot())
        assert snapshot.run.state in ("waiting", "loading", "preparing")
        assert snapshot.run.run_at > 5


FULL_DISK = """
import resource, sys
from pathlib import Path
from thresher.app.wiring import make_engine, sheet_named
from thresher.app.machines import open_system
from thresher.protocol.events import TapeEvent, TickEvent

system = open_system(simulate="ferry-office", speed=0.0)
engine = make_engine(system, Path(sys.argv[1]))
titles = []
waiting = []

def hear(event):
    if isinstance(event, TapeEvent):
        titles.append(event.entry.title)
    if isinstance(event, TickEvent):
        waiting.append(event.health.rows_waiting)

engine.subscribe(hear)
resource.setrlimit(resource.RLIMIT_FSIZE, (90_000, resource.RLIM_INFINITY))
status = engine.run_to_end(sheet_named("short-round"))
assert "Cannot write the job file" in titles, titles
assert max(waiting) > 50, max(waiting)
assert status.ending == "finished", status
resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
engine.watch(30)
engine.close()
health = engine.health()
assert (health.rows_waiting, health.trouble) == (0, None), health
"""


def test_a_full_disk_stops_nothing_and_loses_nothing(tmp_path: Path) -> None:
    """A limit on file sizes stands for the full disk: the operating system refuses every further byte."""
    job = tmp_path / "full.thresher"
    done = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(FULL_DISK), str(job)], capture_output=True, text=True, timeout=120
    )
    assert done.returncode == 0, done.stderr
    with JobFile(job) as stored:
        (run,) = stored.runs()
        at = stored.readings(run).at
        assert run.ending == "finished"
        assert len(at) == round(at[-1] - at[0]) + 1
        assert any(entry.code == "X-820" for entry in stored.tape(run))


def test_a_run_in_the_terminal_that_is_ended_by_a_shutdown_is_looked_into_at_the_next_start(tmp_path: Path) -> None:
    job = tmp_path / "job.thresher"
    command = [sys.executable, "-m", "thresher.cli", "run", "reset-hunt-short", "--simulate", "ferry-office"]
    command += ["--speed", "20", "--job", str(job), "--shop", str(tmp_path / "shop")]
    run = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    assert run.stdout is not None
    while "every result checked" not in (line := run.stdout.readline()):
        assert line, "it ended before its load began"
    run.terminate()
    run.communicate(timeout=60)
    assert box_path(job).exists()
    with JobFile(job, read_only=True) as stored:
        (ended,) = stored.runs()
        assert ended.ending == "interrupted"
    go_on = [sys.executable, "-m", "thresher.cli", "go-on", str(job), "--simulate", "ferry-office"]
    done = subprocess.run(go_on, capture_output=True, text=True, timeout=120, stdin=subprocess.DEVNULL, check=False)
    assert "ended by program killed" in done.stdout
    assert "asked to end by signal 15" in done.stdout
    assert not box_path(job).exists()
