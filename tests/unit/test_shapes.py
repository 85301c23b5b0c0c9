"""How a load is applied over time."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.model.shapes import SLICE_S, TemperatureHold, edges_per_second, mean_share, rest_until, share_at
from thresher.model.sheet import Shape, ShapeKind

PULSE = Shape(ShapeKind.PULSE, 0.02, 0.5)
HOP = Shape(ShapeKind.HOP, 10.0, 0.8)
STAGGER = Shape(ShapeKind.STAGGER, 5.0)
RAMP = Shape(ShapeKind.RAMP, 60.0)

shapes = st.one_of(
    st.just(Shape()),
    st.builds(Shape, st.just(ShapeKind.PULSE), st.floats(0.02, 10), st.floats(0.05, 0.95)),
    st.builds(Shape, st.just(ShapeKind.HOP), st.floats(0.1, 60), st.floats(0.05, 1.0)),
    st.builds(Shape, st.just(ShapeKind.STAGGER), st.floats(0.1, 60)),
    st.builds(Shape, st.just(ShapeKind.RAMP), st.floats(1, 600)),
)


def test_a_pulse_comes_on_for_all_cores_at_the_same_moment() -> None:
    for at in (0.0, 0.0099, 0.0101, 0.0199, 123.4501, 123.4599):
        shares = {share_at(PULSE, at, worker, 16) for worker in range(16)}
        assert len(shares) == 1
    assert mean_share(PULSE, 0.0, 1.0, 3, 16) == pytest.approx(0.5, abs=0.03)
    assert edges_per_second(PULSE) == pytest.approx(50.0)


def test_hop_has_one_core_at_a_time_and_pauses() -> None:
    for turn in range(8):
        working = [worker for worker in range(4) if share_at(HOP, turn * 10 + 3, worker, 4) > 0]
        assert working == [turn % 4]
        assert not any(share_at(HOP, turn * 10 + 9, worker, 4) for worker in range(4))


def test_stagger_adds_a_core_each_period_and_begins_again() -> None:
    counts = [sum(share_at(STAGGER, at, worker, 3) > 0 for worker in range(3)) for at in (2, 7, 12, 17, 22)]
    assert counts == [0, 1, 2, 3, 0]


def test_a_ramp_grows_to_full_and_begins_again() -> None:
    shares = [share_at(RAMP, at, 0, 4) for at in (1, 20, 40, 59, 61)]
    assert shares == [*sorted(shares[:4]), shares[4]]
    assert shares[3] == pytest.approx(1.0, abs=0.03)
    assert shares[4] < 0.1


@given(shapes, st.floats(0, 1000), st.integers(0, 15), st.floats(0.05, 1.0))
def test_resting_always_ends_later_and_work_comes_back(shape: Shape, at: float, worker: int, allowed: float) -> None:
    until = rest_until(shape, at, worker, 16, allowed)
    assert until >= at
    assert until - at <= max(shape.period_s * 17, SLICE_S) + 1e-6
    # following the rests leads to work within a round of all workers
    now = at
    for _ in range(200):
        after = rest_until(shape, now, worker, 16, allowed)
        if after == now:
            break
        now = after + 1e-6
    assert rest_until(shape, now, worker, 16, allowed) == now


@given(st.floats(0.05, 0.95))
def test_a_share_is_given_within_each_slice(allowed: float) -> None:
    steps = 400
    working = sum(rest_until(Shape(), n * 0.001, 0, 1, allowed) == n * 0.001 for n in range(steps))
    assert working / steps == pytest.approx(allowed, abs=0.06)


def test_holding_settles_near_the_temperature_that_was_set() -> None:
    """A first-order machine: full load would bring it to 105 °C, half of it to 65."""
    holder, temperature, history = TemperatureHold(80.0), 40.0, []
    for _ in range(600):
        allowed = holder.step(temperature, 1.0)
        temperature += (25.0 + 80.0 * allowed - temperature) / 40.0
        history.append(temperature)
    assert max(history) < 84.0
    assert all(abs(each - 80.0) < 1.5 for each in history[-100:])
