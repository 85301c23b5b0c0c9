"""Rails under load by hand-made readings: load line, droop, tolerance, and what may be concluded."""

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Run
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind
from thresher.supply.rails import RailReport, conclusions, droop_on_edges, load_line, rail_reports, total_power

RAIL = Channel(
    "boardmon/656/in1",
    "+12V",
    Quantity.VOLTAGE,
    PartKind.POWER,
    "in1_input",
    (Limit(11.4, LimitSide.ABOVE, "by hand"), Limit(12.6, LimitSide.BELOW, "by hand")),
)
PACKAGE = Channel("rapl/0/package", "package", Quantity.POWER, PartKind.PROCESSOR, "energy_uj")
CORES = Channel("rapl/0/core", "cores", Quantity.POWER, PartKind.PROCESSOR, "energy_uj")
CARD = Channel("amdgpu/0/power1", "card0 power", Quantity.POWER, PartKind.GRAPHICS, "power1_average")
AMPERES = Channel("psu/1/curr1", "+12V", Quantity.CURRENT, PartKind.POWER, "curr1_input")


def steady_run(volts_idle: float, mv_per_w: float, watts: float) -> tuple[np.ndarray, np.ndarray]:
    """Sixty seconds idle at 20 W, sixty loaded; the package takes 60 % of the load and the card 40 %."""
    at = np.arange(120.0)
    load = np.where(at < 60, 0.0, watts)
    package, card = 12.0 + 0.6 * load, 8.0 + 0.4 * load
    volts = volts_idle - mv_per_w / 1000.0 * load
    return at, np.column_stack((volts, package, package - 5.0, card))


def test_a_load_line_is_what_the_rail_falls_per_watt() -> None:
    at, values = steady_run(12.10, 0.8, 250.0)
    (rail,) = rail_reports((RAIL, PACKAGE, CORES, CARD), at, values, (0.0, 59.5))
    assert rail.line is not None
    assert rail.line.mv == pytest.approx(0.8)
    assert rail.line.unit == "W"
    assert rail.idle == pytest.approx(12.10)
    assert rail.loaded == pytest.approx(11.90)
    assert rail.lowest == pytest.approx(11.90)
    assert rail.within
    assert "12.10 V idle, 11.90 V loaded, lowest 11.90 V (-0.8 %), falls 0.80 mV per W" in rail.sentence


def test_cores_inside_a_package_are_not_counted_twice() -> None:
    _, values = steady_run(12.1, 0.8, 100.0)
    power = total_power((RAIL, PACKAGE, CORES, CARD), values)
    assert power[0] == pytest.approx(20.0)
    assert power[-1] == pytest.approx(120.0)


def test_confidence_follows_the_scatter() -> None:
    rng = np.random.default_rng(4)
    watts = np.linspace(20.0, 300.0, 400)
    quiet = load_line(watts, 12.1 - 0.0005 * watts + rng.normal(0, 0.002, 400), of_rail=False)
    rough = load_line(watts, 12.1 - 0.0005 * watts + rng.normal(0, 0.02, 400), of_rail=False)
    assert quiet is not None
    assert rough is not None
    assert quiet.mv == pytest.approx(0.5, abs=2 * quiet.mv_within)
    # standard error of a slope: s / sqrt(sum of squares about the mean); 400 points over 280 W have 2.63e6 W²
    assert quiet.mv_within == pytest.approx(1.966 * 2.0 / np.sqrt(2.63e6), rel=0.2)
    assert rough.mv_within > 5 * quiet.mv_within
    assert quiet.share > 0.99 > rough.share


def test_nothing_is_said_where_the_load_hardly_changed() -> None:
    at, values = steady_run(12.1, 0.8, 20.0)
    assert rail_reports((RAIL, PACKAGE, CORES, CARD), at, values, (0.0, 59.0)) == []
    assert load_line(np.full(100, 50.0), np.linspace(11.9, 12.1, 100), of_rail=False) is None


def test_a_rail_with_its_own_current_is_set_against_that() -> None:
    at, values = steady_run(12.1, 0.0, 240.0)
    amperes = np.where(at < 60, 2.0, 22.0)
    values[:, 0] = 12.1 - 0.010 * amperes
    (rail,) = rail_reports((RAIL, PACKAGE, CORES, CARD, AMPERES), at, np.column_stack((values, amperes)), (0.0, 59.0))
    assert rail.line is not None
    assert (rail.line.unit, rail.line.of_rail) == ("A", True)
    assert rail.line.mv == pytest.approx(10.0)


def test_a_droop_is_deeper_than_the_load_line_and_ends() -> None:
    at = np.arange(0.0, 200.0, 0.5)
    power = np.where((at // 10).astype(int) % 2 == 1, 220.0, 20.0)
    volts = 12.1 - 0.0005 * power
    plain = droop_on_edges(at, volts, power)
    assert plain is not None
    assert (plain.edges, plain.deepest_mv) == (10, 0.0)
    for edge in range(10, 200, 20):  # 90 mV below for a second after each edge
        volts = np.where((at >= edge) & (at < edge + 1.0), volts - 0.090, volts)
    dipped = droop_on_edges(at, volts, power)
    assert dipped is not None
    assert dipped.edges == 10
    assert dipped.deepest_mv == pytest.approx(90.0, rel=0.12)
    assert dipped.recovery_s == pytest.approx(0.5)  # readings at 0 and at 0.5 s lie in it
    assert droop_on_edges(at, volts, np.full(len(at), 50.0)) is None


def test_a_rail_out_of_tolerance_is_said_and_what_cannot_be_seen_too() -> None:
    at, values = steady_run(12.0, 3.0, 250.0)
    (rail,) = rail_reports((RAIL, PACKAGE, CORES, CARD), at, values, (0.0, 59.0))
    assert not rail.within
    assert "outside 11.40 to 12.60 V" in rail.sentence
    words = " ".join(conclusions([rail], has_currents=False))
    assert "measure at the plug with a meter" in words
    assert "No sensor reports the rails' currents" in words
    good = replace(rail, lowest=11.8)
    assert "Every rail stayed within" in " ".join(conclusions([good], has_currents=True))
    assert isinstance(good, RailReport)


def test_missing_readings_are_left_out() -> None:
    at, values = steady_run(12.1, 0.8, 250.0)
    values[10:20, 0] = np.nan
    values[70:80, 1:] = np.nan
    (rail,) = rail_reports((RAIL, PACKAGE, CORES, CARD), at, values, (0.0, 59.0))
    assert rail.line is not None
    assert rail.line.mv == pytest.approx(0.8, rel=0.02)


def test_the_verb_reads_a_stored_run(finished_job: Path, thresher: Run) -> None:
    found = thresher("supply", str(finished_job), "--json")
    data = json.loads(found.stdout)
    assert found.returncode == 0
    assert (data["run"], data["rails"]) == (1, [])  # it begins under load, so the power hardly changes
    assert "No rail can be judged" in thresher("supply", str(finished_job)).stdout
    missing = thresher("supply", str(finished_job), "--run", "99")
    assert missing.returncode == 2
    assert "this job has no run 99" in missing.stderr
