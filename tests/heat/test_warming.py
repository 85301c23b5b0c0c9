"""The approach to a plateau: ends, time constants and honest bands from readings made by the formula."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.heat.spans import SECONDS, warm_up
from thresher.heat.warming import fit, gather, step_of


def test_end_and_time_constants_of_two_parts_that_warm_up_come_out() -> None:
    # 22 + 18 + 30 = 70 °C at the end
    found = fit(SECONDS, warm_up(SECONDS, 22.0, ((4.0, 18.0), (90.0, 30.0))))
    assert found is not None
    assert found.end.low <= 70.0 <= found.end.high
    assert found.end.error < 1.0
    quick, slow = (constant.value for constant, amount in found.time_constants() if amount.value > 5.0)
    assert 2.5 < quick < 7.0
    assert 65.0 < slow < 125.0


def test_after_one_time_constant_the_band_is_wide_and_holds_the_end() -> None:
    # after 90 s of a part with 90 s, 30 K / e = 11 K are still to come
    whole = warm_up(SECONDS, 22.0, ((4.0, 18.0), (90.0, 30.0)))
    early, late = fit(SECONDS[:90], whole[:90]), fit(SECONDS, whole)
    assert early is not None and late is not None
    assert early.end.low <= 70.0 <= early.end.high
    assert early.end.error > 3.0 * late.end.error
    assert early.left().value > 5.0
    assert abs(late.left().value) < 0.5


def test_nine_of_ten_bands_hold_the_end() -> None:
    rng = np.random.default_rng(7)
    inside = 0
    for case in range(40):
        slow = float(rng.uniform(40.0, 200.0))
        amount = float(rng.uniform(10.0, 40.0))
        values = warm_up(SECONDS, 25.0, ((2.0, 15.0), (slow, amount)), seed=case, noise=float(rng.uniform(0.2, 0.6)))
        found = fit(SECONDS, np.round(values))
        assert found is not None
        inside += found.end.low <= 40.0 + amount <= found.end.high
    assert inside >= 32  # of 40; a band of 90 % gives fewer than 32 once in seventy times


def test_a_sensor_that_sits_on_one_step_does_not_make_the_band_narrower_than_its_step() -> None:
    # it rises to 60.4 and shows 60, without noise: half a kelvin is what such a sensor may hide
    found = fit(SECONDS, np.floor(warm_up(SECONDS, 22.0, ((30.0, 38.4),), noise=0.0)))
    assert found is not None
    assert found.end.high - found.end.low > 0.6


def test_the_time_until_the_last_kelvin_follows_from_the_formula() -> None:
    # 40 K with 100 s: one kelvin is left after 100 ln 40 = 369 s
    found = fit(SECONDS, warm_up(SECONDS, 20.0, ((100.0, 40.0),)))
    assert found is not None
    assert found.within(1.0).value == pytest.approx(369.0, rel=0.12)


def test_too_few_or_too_short_readings_give_nothing() -> None:
    assert fit(SECONDS[:8], SECONDS[:8]) is None
    assert fit(np.linspace(0.0, 10.0, 60), np.linspace(20.0, 30.0, 60)) is None
    assert fit(SECONDS, np.full(len(SECONDS), np.nan)) is None


def test_readings_are_gathered_into_blocks_that_keep_their_mean() -> None:
    times = np.arange(600, dtype=np.float64)
    blocks = gather(times, times * 2.0)
    assert blocks.counts.sum() == 600
    assert blocks.counts[0] == 1
    assert blocks.counts[-1] > 5
    assert float((blocks.means * blocks.counts).sum()) == pytest.approx(2.0 * 599 * 600 / 2)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.floats(-40.0, 120.0) | st.just(float("nan")), min_size=0, max_size=80))
def test_no_readings_however_odd_raise_or_give_a_number_without_end(values: list[float]) -> None:
    found = fit(np.arange(len(values), dtype=np.float64), np.array(values, dtype=np.float64))
    if found is not None:
        assert np.isfinite([found.end.low, found.end.value, found.end.high]).all()
        assert found.end.low <= found.end.value <= found.end.high


def test_the_step_of_a_sensor_is_the_smallest_difference() -> None:
    assert step_of(np.array([40.0, 40.5, 41.5, np.nan])) == 0.5
    assert step_of(np.array([40.0, 40.0])) == 0.0
