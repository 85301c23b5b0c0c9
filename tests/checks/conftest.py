"""What several tests of checks share: a sound notebook."""

from dataclasses import replace

import pytest

from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios


@pytest.fixture
def notebook() -> Scenario:
    """The harbour master's notebook with nothing wrong, a cable plugged in and fans that can be driven."""
    scenario = load_scenario(shipped_scenarios()["harbour-notebook"])
    wired, radio = scenario.interfaces
    return replace(
        scenario, faults=(), driven_fans=True, interfaces=(replace(wired, address="192.168.7.43"), radio), speed=1.0
    )
