"""Clean exposure is counted by one rule: while a run goes on, from its job file, and after a crash."""

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.exposure import ExposureMeter, band_of, exposures_of_readings
from thresher.model.sheet import RunSheet
from thresher.model.verdict import Exposure
from thresher.simulator.scenario import Scenario


def test_minutes_count_from_reading_to_reading_at_the_temperature_that_ends_them() -> None:
    meter = ExposureMeter("matrix")
    for at, hottest in ((100.0, 50.0), (130.0, 61.0), (160.0, 64.9), (190.0, None)):
        meter.reading(at, hottest)
    # 60 to 65 °C is one band, told by its middle
    assert meter.exposures(3, 1) == [Exposure(3, 1, "matrix", 1.0, 62.5), Exposure(3, 1, "matrix", 0.5, None)]


def test_one_reading_is_no_time() -> None:
    assert exposures_of_readings(1, 0, "sieve", [(5.0, 40.0)]) == []


@pytest.mark.parametrize(("degrees", "band"), [(0.0, 2.5), (4.99, 2.5), (5.0, 7.5), (-0.1, -2.5), (97.0, 97.5)])
def test_bands_are_five_degrees_wide(degrees: float, band: float) -> None:
    assert band_of(degrees) == band


@given(st.lists(st.tuples(st.floats(0.1, 60.0), st.floats(20.0, 110.0)), min_size=1, max_size=40))
def test_the_minutes_of_all_bands_add_up_to_the_time(steps: list[tuple[float, float]]) -> None:
    at, readings = 0.0, [(0.0, 20.0)]
    for seconds, degrees in steps:
        at += seconds
        readings.append((at, degrees))
    total = sum(each.minutes for each in exposures_of_readings(1, 0, "matrix", readings))
    assert total == pytest.approx(at / 60.0)


def by_band(exposures: list[Exposure]) -> dict[tuple[int, str, float | None], float]:
    return {(each.block, each.load, each.temperature_c): each.minutes for each in exposures}


def test_a_run_counts_the_same_live_and_from_its_file(
    make_engine: Callable[..., tuple[Engine, object]],
    ferry: Scenario,
    sheet: Callable[[float], RunSheet],
    tmp_path: Path,
) -> None:
    engine, _ = make_engine(ferry)
    engine.run_to_end(sheet(90))
    live = by_band(engine.conductor.exposures())
    assert sum(live.values()) == pytest.approx(1.5, abs=0.05)
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        (run,) = stored.runs()
        assert by_band(stored.exposures(run)) == pytest.approx(live)
