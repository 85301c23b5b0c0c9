"""Cards of this computer on a run sheet, the software renderer in place of a card: killed, crashed, hung workers."""

import os
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.engine.assembly import open_engine
from thresher.engine.card_jobs import working
from thresher.engine.engine import Engine
from thresher.graphics import worker_process
from thresher.graphics.egl import CardDevice
from thresher.loads.status import CardStatus
from thresher.machine.live import LiveSystem
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending, Outcome
from thresher.model.sheet import Block, RunSheet
from thresher.protocol.events import TapeEvent, TickEvent


@pytest.fixture
def live(tmp_path: Path, renderer: CardDevice) -> Iterator[tuple[Engine, Heard]]:
    """An engine on this computer, where OpenGL offers the software renderer at least."""
    assert renderer.software
    system = LiveSystem()
    engine, heard = open_engine(system, tmp_path / "live.thresher", interval_s=0.2), Heard()
    if engine.inventory.parts_of(PartKind.GRAPHICS):
        engine.close()
        pytest.skip("this computer has a graphics card: the software renderer is not what would be worked")
    engine.subscribe(heard)
    yield engine, heard
    engine.close()


def raster(seconds: float) -> RunSheet:
    return RunSheet("Renderer", (Block(PartKind.GRAPHICS, "raster", 0.0, seconds),))


def worker_pids() -> list[int]:
    """The processes of workers that are ours."""
    found = subprocess.run(
        ["pgrep", "-f", "-P", str(os.getpid()), "thresher.graphics.worker"], capture_output=True, text=True, check=False
    )
    return [int(word) for word in found.stdout.split()]


def send_all(number: signal.Signals) -> None:
    """Send a signal to every worker of ours."""
    for pid in worker_pids():
        os.kill(pid, number)


def when_drawing(engine: Engine, act: Callable[[], object]) -> threading.Thread:
    """Do something on another thread once frames are drawn."""
    drawing = threading.Event()

    def look(event: object) -> None:
        if isinstance(event, TickEvent):
            status = event.run.newest(CardStatus)
            if status is not None and status.cards[0].middle_ms is not None:
                drawing.set()

    def wait() -> None:
        if drawing.wait(60):
            act()

    engine.subscribe(look)
    thread = threading.Thread(target=wait, daemon=True)
    thread.start()
    return thread


def test_the_renderer_is_worked_and_no_card_passes_on_it(live: tuple[Engine, Heard]) -> None:
    engine, heard = live
    status = engine.run_to_end(raster(8.0))
    assert (status.ending, status.outcome) == (Ending.FINISHED, Outcome.COULD_NOT_TELL)
    tape = "\n".join(heard.tape())
    assert "it draws on the processor: no card was tested" in tape
    assert "all right; software renderer: no card was tested" in tape
    assert engine.findings == ()
    assert engine.conductor.exposures() == []


def test_a_worker_that_crashes_is_a_finding_and_is_started_again(
    live: tuple[Engine, Heard], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(working, "_START_AGAIN_S", 1.0)
    engine, heard = live
    when_drawing(engine, lambda: send_all(signal.SIGSEGV))
    status = engine.run_to_end(raster(12.0))
    assert status.ending is Ending.FINISHED
    (finding,) = engine.findings
    assert (finding.code, finding.kind) == ("G-430", FindingKind.GRAPHICS_HANG)
    assert "signal 11" in finding.detail
    tape = heard.tape()
    assert any("started again in 1 s" in line for line in tape)
    assert sum("software renderer works" in line for line in tape) == 2


def test_a_worker_that_a_person_ended_accuses_nothing(live: tuple[Engine, Heard]) -> None:
    engine, heard = live
    when_drawing(engine, lambda: send_all(signal.SIGKILL))
    engine.run_to_end(raster(6.0))
    assert engine.findings == ()
    assert any("its worker ended by itself (signal 9)" in line for line in heard.tape())


def test_a_worker_that_hangs_is_found_ended_and_the_run_goes_on(
    live: tuple[Engine, Heard], monkeypatch: pytest.MonkeyPatch
) -> None:
    engine, heard = live
    stopped: list[int] = []

    def hang() -> None:
        monkeypatch.setattr(working, "SILENT_S", 3.0)  # only now: to begin may take longer on a busy machine
        stopped.extend(worker_pids())
        for pid in stopped:
            os.kill(pid, signal.SIGSTOP)

    when_drawing(engine, hang)
    lost = threading.Event()

    def end_when_lost(event: object) -> None:
        """The run goes on after the loss, and is then brought to its end."""
        if isinstance(event, TapeEvent) and "of software renderer lost" in event.entry.title and not lost.is_set():
            lost.set()
            engine.submit(lambda: engine.sheets.changes().end_block(0))

    engine.subscribe(end_when_lost)
    status = engine.run_to_end(raster(90.0))
    assert status.ending is Ending.FINISHED
    (finding,) = engine.findings
    assert (finding.code, finding.kind) == ("G-310", FindingKind.GRAPHICS_HANG)
    assert "no sign of life" in finding.detail
    assert stopped
    deadline = time.monotonic() + 20
    while any(pid in worker_pids() for pid in stopped) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not any(pid in worker_pids() for pid in stopped)
    assert any("Load of software renderer lost" in line for line in heard.tape())


def test_stop_ends_the_worker(live: tuple[Engine, Heard]) -> None:
    engine, _ = live
    pids: list[int] = []

    def stop() -> None:
        pids.extend(worker_pids())
        engine.submit(engine.stop)

    when_drawing(engine, stop)
    status = engine.run_to_end(raster(60.0))
    assert status.ending is Ending.STOPPED
    assert pids
    deadline = time.monotonic() + 20
    while any(pid in worker_pids() for pid in pids) and time.monotonic() < deadline:
        time.sleep(0.02)
    assert not any(pid in worker_pids() for pid in pids)


def test_without_any_opengl_the_block_says_what_is_missing(
    live: tuple[Engine, Heard], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """A worker that finds no EGL library, as on a machine without one."""
    import sys

    from thresher.model import own_program

    (tmp_path / "without.py").write_text(
        "import ctypes, runpy\n"
        "real = ctypes.CDLL\n"
        "def refuse(name, *a, **k):\n"
        "    if name and 'EGL' in str(name): raise OSError(f'{name}: cannot open shared object file')\n"
        "    return real(name, *a, **k)\n"
        "ctypes.CDLL = refuse\n"
        "runpy.run_module('thresher.graphics.worker', run_name='__main__')\n"
    )
    monkeypatch.setattr(
        own_program, "own_command", lambda module, *words: [sys.executable, str(tmp_path / "without.py")]
    )
    engine, heard = live
    engine.run_to_end(raster(6.0))
    assert engine.findings == ()
    assert any("could not be carried out" in line and "no card was tested" in line for line in heard.tape())
    assert worker_process.SILENT_S > 0
