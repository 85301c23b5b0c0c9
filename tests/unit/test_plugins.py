"""A load, a step and a verb from a package outside the source tree: one file each, named by an entry point."""

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.plugin.thresher_example_check import FanCheck, FanCheckStep
from thresher.engine.assembly import open_engine
from thresher.engine.run import step_kinds
from thresher.model.sheet import RunSheet
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

PLUGIN = Path(__file__).parent.parent / "plugin"
ENTRY_POINTS = """
[thresher.loads]
counting = thresher_example_load:LOAD
[thresher.steps]
fan-check = thresher_example_check:KIND
[thresher.verbs]
greet = thresher_example_verb:greet
"""
SHEET = """
format = "thresher-sheet/1"
title = "Counting"
[[blocks]]
row = "processor"
load = "counting"
working_set = "inside the core"
start = 0
length = 20
"""

Thresher = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def thresher(tmp_path: Path) -> Thresher:
    """The command line with the example package installed."""
    info = tmp_path / "installed" / "thresher_example-1.0.dist-info"
    info.mkdir(parents=True)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: thresher-example\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(ENTRY_POINTS)
    paths = f"{info.parent}{os.pathsep}{PLUGIN}"
    environment = os.environ | {"PYTHONPATH": paths, "XDG_DATA_HOME": str(tmp_path), "XDG_STATE_HOME": str(tmp_path)}

    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "thresher.cli", *arguments]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, env=environment, cwd=tmp_path)

    return run


def test_a_verb_of_another_package_is_listed_and_runs(thresher: Thresher) -> None:
    assert "Greet a machine by name." in thresher("--help").stdout
    assert thresher("greet", "Oyster").stdout == "Machine on the bench: Oyster\n"


@pytest.mark.parametrize("where", [(), ("--simulate", "ferry-office", "--speed", "0")])
def test_a_load_of_another_package_runs_here_and_on_a_simulated_machine(
    thresher: Thresher, tmp_path: Path, where: tuple[str, ...]
) -> None:
    (tmp_path / "s.toml").write_text(SHEET if where else SHEET.replace("length = 20", "length = 6"))
    done = thresher("run", "s.toml", *where, "--job", "j.thresher", "--json")
    assert done.returncode == 0, done.stderr + done.stdout
    run = json.loads(done.stdout)["run"]
    assert (run["ending"], run["mismatches"]) == ("finished", 0)
    assert run["beats"] > 10
    assert run["plan"][0]["about"] == "Strains addition.\nFinds adders that add wrongly."


def test_an_entry_point_of_the_wrong_kind_is_refused_in_words(thresher: Thresher, tmp_path: Path) -> None:
    points = tmp_path / "installed" / "thresher_example-1.0.dist-info" / "entry_points.txt"
    points.write_text("[thresher.loads]\nbad = thresher_example_verb:greet\n")
    (tmp_path / "s.toml").write_text(SHEET)
    done = thresher("run", "s.toml", "--simulate", "ferry-office", "--speed", "0")
    assert done.returncode == 2
    assert "entry point bad cannot be used" in done.stderr
    assert "is a function, expected Load" in done.stderr


def test_a_step_of_another_package_is_carried_out_by_the_conductor(
    ferry: Scenario, sheet: Callable[[float], RunSheet], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(step_kinds.STEP_KINDS, FanCheck, FanCheckStep.of)
    block = sheet(20.0)

    class SheetWithCheck(RunSheet):
        @property
        def items(self) -> tuple[object, ...]:  # type: ignore[override]
            return (FanCheck(), *super().blocks)

    engine = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "job.thresher")
    try:
        status = engine.run_to_end(SheetWithCheck(block.title, block.blocks))
        assert (status.ending, status.plan[0].title, status.plan[0].state) == ("finished", "fan check", "done")
        assert any(entry.title == "Fan check" and entry.detail == "pass" for entry in engine.snapshot().tape)
        assert status.plan[1].start_s < 5, "the block follows as soon as the check has ended"
    finally:
        engine.close()
