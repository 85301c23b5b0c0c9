"""The sail loft's job with its four heat runs, recorded once by the simulated machine."""

from pathlib import Path

import pytest

from thresher.app.demo_runs import record_sail_loft
from thresher.journal.jobfile import create_job
from thresher.simulator.scenario import load_scenario, shipped_scenarios


@pytest.fixture(scope="session")
def sail_loft(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """As it came in, dust cleaned out, fresh paste, and two minutes with the side panel off."""
    scenario = load_scenario(shipped_scenarios()["sail-loft"])
    path = tmp_path_factory.mktemp("loft") / "0428-sail-loft.thresher"
    create_job(path, {"number": "0428", "machine": scenario.title, "model": "sail-loft"})
    record_sail_loft(path, scenario, 1_773_900_000.0)
    return path
