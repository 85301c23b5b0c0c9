"""What many tests share: simulated machines, engines without a window, trees of files, and tidy sockets."""

import os
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import settings

from thresher.cli.app import main
from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.model.sheet import RunSheet
from thresher.protocol.events import EngineEvent, TapeEvent
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.physics import STEP_S
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

settings.register_profile("untimed", deadline=None)  # how long an example takes depends on the machine's other work
settings.load_profile("untimed")
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="thresher-tests-")  # the program's log stays out of the user's

SHORT_SHEET = """
format = "thresher-sheet/1"
title = "Test sheet"

[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = {length}
"""


@pytest.fixture
def lighthouse() -> Scenario:
    """The demo machine: one weak core, a clogged heatsink."""
    return load_scenario(shipped_scenarios()["lighthouse-playout"])


@pytest.fixture
def ferry() -> Scenario:
    """A machine with nothing wrong."""
    return load_scenario(shipped_scenarios()["ferry-office"])


@pytest.fixture
def sheet() -> Callable[[float], RunSheet]:
    """A sheet with one matrix block of some seconds."""
    return lambda length: parse_sheet(SHORT_SHEET.format(length=length), "test sheet")


class Heard:
    """Collects what an engine reports."""

    def __init__(self) -> None:
        """Begin with nothing."""
        self.events: list[EngineEvent] = []

    def __call__(self, event: EngineEvent) -> None:
        """Hear one event."""
        self.events.append(event)

    def tape(self) -> list[str]:
        """Return the titles on the tape with their details."""
        return [f"{e.entry.title}: {e.entry.detail}" for e in self.events if isinstance(e, TapeEvent)]

    def codes(self) -> set[str]:
        """Return the fault codes on the tape."""
        return {e.entry.code for e in self.events if isinstance(e, TapeEvent) and e.entry.code}


@pytest.fixture
def make_engine(tmp_path: Path) -> Iterator[Callable[..., tuple[Engine, Heard]]]:
    """Make engines on simulated machines that run as fast as can be; all are closed at the end.

    With `coarse` the machine lives in slices of half a second and is read every five: for what takes hours of its time.
    """
    made: list[Engine] = []

    def make(
        scenario: Scenario, job: str = "job.thresher", coarse: bool = False, **options: object
    ) -> tuple[Engine, Heard]:
        system = SimulatedMachine(scenario, speed=0.0, step_s=0.5 if coarse else STEP_S)
        if coarse:
            options = {"interval_s": 5.0, **options}
        fields = {"machine": scenario.title, "symptoms": "\n".join(scenario.symptoms)}
        engine = open_engine(system, tmp_path / job, fields, **options)  # type: ignore[arg-type]
        heard = Heard()
        engine.subscribe(heard)
        made.append(engine)
        return engine, heard

    yield make
    for engine in made:
        engine.close()


@pytest.fixture(scope="session")
def finished_job(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The job file of six minutes of the demo machine, made once; copy it before anything is changed in it."""
    path = tmp_path_factory.mktemp("finished") / "job.thresher"
    scenario = load_scenario(shipped_scenarios()["lighthouse-playout"])
    fields = {"machine": scenario.title, "symptoms": "\n".join(scenario.symptoms)}
    engine = open_engine(SimulatedMachine(scenario, speed=0.0), path, fields)
    engine.run_to_end(parse_sheet(SHORT_SHEET.format(length=360), "test sheet"))
    engine.close()
    return path


@pytest.fixture
def write_tree(tmp_path: Path) -> Callable[[dict[str, str | bytes]], Path]:
    """Write files into a directory that looks like the root of a machine."""

    def write(files: dict[str, str | bytes]) -> Path:
        root = tmp_path / "root"
        for name, content in files.items():
            path = root / name.lstrip("/")
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else content.encode())
        root.mkdir(exist_ok=True)
        return root

    return write


@dataclass(frozen=True, slots=True)
class Done:
    """How a verb ended and what it printed."""

    returncode: int
    stdout: str
    stderr: str


Run = Callable[..., Done]


@pytest.fixture
def thresher(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]) -> Run:
    """Run verbs in this process, in a folder of their own, without a display."""
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(tmp_path / "run"))
    monkeypatch.chdir(tmp_path)

    def run(*arguments: str, stdin: str = "") -> Done:
        typed = tmp_path / "typed"
        typed.write_text(stdin)
        source = typed.open()
        monkeypatch.setattr(sys, "stdin", source)
        capfd.readouterr()
        with source:
            code = main(arguments)
        return Done(code, *capfd.readouterr())

    return run
