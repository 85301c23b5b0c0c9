"""The pyramid loses no spike at any zoom, whatever was put in."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.sensors.pyramid import Pyramid

VALUES = st.lists(st.one_of(st.just(float("nan")), st.floats(-1e6, 1e6)), min_size=1, max_size=400)


def filled(values: list[float]) -> Pyramid:
    pyramid = Pyramid(2)
    for time, value in enumerate(values):
        pyramid.append(float(time), np.array([value, -value]))
    return pyramid


@given(VALUES, st.integers(8, 60))
@settings(max_examples=200, deadline=None)
def test_smallest_and_largest_are_always_among_what_is_drawn(values: list[float], columns: int) -> None:
    pyramid = filled(values)
    times, drawn = pyramid.series(0, 0.0, float(len(values)), columns)
    there = np.array([value for value in values if not np.isnan(value)])
    seen = drawn[~np.isnan(drawn)]
    assert len(times) == len(drawn)
    assert np.all(np.diff(times) >= 0)
    if len(there):
        assert seen.min() == there.min()
        assert seen.max() == there.max()
    else:
        assert not len(seen)


@given(VALUES, st.data())
@settings(max_examples=150, deadline=None)
def test_a_window_holds_every_extreme_inside_it(values: list[float], data: st.DataObject) -> None:
    begin = data.draw(st.integers(0, len(values) - 1))
    end = data.draw(st.integers(begin, len(values) - 1))
    pyramid = filled(values)
    _, drawn = pyramid.series(1, float(begin), float(end), 16)
    inside = -np.array(values[begin : end + 1])
    inside = inside[~np.isnan(inside)]
    if len(inside):
        seen = drawn[~np.isnan(drawn)]
        assert seen.max() >= inside.max()
        assert seen.min() <= inside.min()


@given(st.integers(1, 5000), st.integers(10, 300))
@settings(max_examples=40, deadline=None)
def test_about_two_points_a_column_are_drawn(count: int, columns: int) -> None:
    pyramid = Pyramid(1)
    for time in range(count):
        pyramid.append(float(time), np.array([float(time % 7)]))
    times, _ = pyramid.series(0, 0.0, float(count), columns)
    # the newest ticks that fill no group yet come on top: three rows of each level at most
    assert len(times) <= 2 * columns + 2 * 3 * 7
    assert pyramid.span == (0.0, float(count - 1))
    assert len(pyramid) == count


def test_few_points_are_drawn_as_they_are() -> None:
    pyramid = filled([1.0, 5.0, 2.0])
    times, values = pyramid.series(0, 0.0, 3.0, 100)
    assert times.tolist() == [0.0, 1.0, 2.0]
    assert values.tolist() == [1.0, 5.0, 2.0]


def test_an_empty_pyramid_draws_nothing() -> None:
    pyramid = Pyramid(3)
    times, values = pyramid.series(0, 0.0, 10.0, 100)
    assert len(times) == len(values) == 0
    assert pyramid.span is None
