"""The time axis: pixels and times are one."""

import itertools

from hypothesis import given
from hypothesis import strategies as st

from thresher.ui.time_axis import TimeAxis


@given(st.floats(-1e5, 1e5), st.floats(10, 1e6), st.floats(0, 1), st.floats(400, 3000))
def test_a_pixel_and_its_time_are_the_same_place(begin: float, span: float, share: float, width: float) -> None:
    axis = TimeAxis()
    axis.look_at(begin, begin + span)
    time = begin + share * span
    assert abs(axis.time(axis.x(time, width), width) - time) < span * 1e-6


@given(st.floats(1.01, 4), st.floats(0, 1))
def test_zooming_keeps_the_time_under_the_mouse_where_it_is(factor: float, share: float) -> None:
    axis = TimeAxis()
    axis.look_at(0.0, 1000.0)
    around = share * 1000
    before = axis.x(around, 900)
    axis.zoom(factor, around)
    assert abs(axis.x(around, 900) - before) < 0.01
    assert axis.end - axis.begin < 1000.0


def test_it_never_shows_less_than_seconds() -> None:
    axis = TimeAxis()
    for _ in range(100):
        axis.zoom(2.0, axis.begin + 1)
    assert axis.end - axis.begin >= 5.0


@given(st.floats(20, 2e6), st.floats(300, 2500))
def test_labels_never_stand_closer_than_they_are_wide(span: float, width: float) -> None:
    axis = TimeAxis()
    axis.look_at(-30.0, span)
    ticks = axis.ticks(width)
    pixels = [axis.x(tick, width) for tick in ticks]
    if width > 400:
        assert all(later - earlier >= 50 for earlier, later in itertools.pairwise(pixels))
    assert all(axis.begin <= tick <= axis.end for tick in ticks)


def test_it_follows_until_a_person_looks_elsewhere() -> None:
    axis = TimeAxis()
    axis.fit(0.0, 500.0)
    assert axis.end == 500.0
    axis.look_at(10.0, 20.0)
    axis.fit(0.0, 900.0)
    assert axis.end == 20.0
    axis.follow()
    axis.fit(0.0, 900.0)
    assert axis.end == 900.0


def test_the_last_minute_keeps_up_with_now_until_a_person_looks_elsewhere() -> None:
    axis = TimeAxis()
    axis.follow_last(60.0)
    for now in (100.0, 101.0, 160.0):
        axis.move_now(now)
        assert (axis.begin, axis.end) == (now - 60.0, now + 5.0)
    axis.fit(0.0, 900.0)
    assert axis.end == 165.0
    axis.zoom(2.0, 150.0)
    kept = axis.begin, axis.end
    axis.move_now(500.0)
    assert (axis.begin, axis.end) == kept
