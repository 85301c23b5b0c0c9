"""Compiled kernels are used only after they gave known answers, and whoever cannot have them is told why."""

import os
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import pytest

from thresher.engine.run.kernels import Kernels, kernels_sentence
from thresher.loads import warm_up
from thresher.loads.warm_up import MODULES, WarmUp


def settled(kernels: Kernels) -> WarmUp:
    deadline = time.monotonic() + 120
    while (state := kernels.poll()).usable is None:
        assert time.monotonic() < deadline
        time.sleep(0.02)
    return state


def test_kernels_are_compiled_checked_and_reported_to_be_ready() -> None:
    kernels = Kernels()
    try:
        state = settled(kernels)
        assert state.usable
        assert state.done == state.total == len(MODULES)
        assert state.vector_bits in (128, 256, 512)
        assert kernels_sentence(state) == f"loads compiled, {state.vector_bits}-bit vectors"
        assert kernels.poll() == state
    finally:
        kernels.close()


def test_what_is_damaged_on_the_disk_is_compiled_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """As after a power cut: files of the right length with nothing in them, and one cut short."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    subprocess.run([sys.executable, "-P", "-c", "import thresher.loads.kernels.digits"], check=True)
    files = sorted(tmp_path.rglob("*.nb[ic]"))
    assert len(files) == 10
    for file in files:
        file.write_bytes(bytes(file.stat().st_size))
    files[0].write_bytes(b"")
    kernels = Kernels()
    try:
        state = settled(kernels)
        assert state.usable, state.detail
        assert kernels.failed_first, "the first try met the damaged files"
        assert all(any(file.read_bytes()) for file in files)
    finally:
        kernels.close()


def test_closing_ends_the_compiler_in_its_middle() -> None:
    kernels = Kernels()
    kernels.close()
    assert kernels.poll().usable is None
    kernels.close()


def test_sentences_tell_progress_and_reasons() -> None:
    assert kernels_sentence(WarmUp(3)) == f"compiling loads, 3 of {len(MODULES)}"
    assert kernels_sentence(WarmUp(0, usable=False, detail="it is Tuesday")) == "loads in NumPy: it is Tuesday"


def lines_of(done: "subprocess.CompletedProcess[str]") -> list[WarmUp]:
    return [msgspec.json.decode(line, type=WarmUp) for line in done.stdout.splitlines()]


def test_without_the_compiler_it_states_so_and_ends_in_order(tmp_path: Path) -> None:
    (tmp_path / "numba.py").write_text("raise ImportError('no compiler on this bench')\n")
    environment = os.environ | {"PYTHONPATH": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-m", "thresher.loads.warm_up"], env=environment, capture_output=True, text=True, check=False
    )
    last = lines_of(done)[-1]
    assert done.returncode == 1
    assert last.usable is False
    assert "no compiler on this bench" in last.detail


def test_a_compiler_that_dies_is_reported_with_how(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "numba.py").write_text("import os, signal\nos.kill(os.getpid(), signal.SIGILL)\n")
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    kernels = Kernels()
    state = settled(kernels)
    assert state.usable is False
    assert "SIGILL" in state.detail


def test_wrong_answers_are_named_and_the_kernels_not_used(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setitem(warm_up._CHECKS, "sieve", lambda: False)
    assert warm_up.main() == 1
    last = msgspec.json.decode(capsys.readouterr().out.splitlines()[-1], type=WarmUp)
    assert last.usable is False
    assert last.detail == "compiled kernels gave wrong answers: sieve"
