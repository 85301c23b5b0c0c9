"""The pyramid loses no spike at any zoom, whatever was put in."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.model.channels import Tick
from thresher.sensors.extremes import Extremes
from thresher.sensors.pyramid import Pyramid

VALUES = st.lists(st.one_of(st.just(float("nan")), st.floats(-1e6, 1e6, width=32)), min_size=1, max_size=400)


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


@given(VALUES, st.lists(st.integers(1, 90), max_size=12))
@settings(max_examples=150, deadline=None)
def test_many_at_once_are_the_same_as_one_by_one(values: list[float], pieces: list[int]) -> None:
    wide = np.array([[value, -value] for value in values], dtype=np.float32)
    times = np.arange(float(len(values)))
    together, start = Pyramid(2), 0
    for piece in (*pieces, len(values)):
        together.extend(times[start : start + piece], wide[start : start + piece])
        start += piece
    singly = filled(values)
    for columns in (8, 40, 1000):
        for one, other in zip(
            together.series(1, 0.0, float(len(values)), columns),
            singly.series(1, 0.0, float(len(values)), columns),
            strict=True,
        ):
            np.testing.assert_array_equal(one, other)
    assert len(together) == len(values)


@given(st.lists(st.lists(st.one_of(st.just(float("nan")), st.floats(-1e5, 1e5, width=32)), min_size=3, max_size=3)))
def test_extremes_of_many_rows_are_those_of_each(rows: list[list[float]]) -> None:
    one, many = Extremes(3), Extremes(3)
    for row in rows:
        one.add(Tick(0.0, 0.0, tuple(None if np.isnan(value) else value for value in row), {}))
    many.add_rows(np.array(rows, dtype=np.float32).reshape(len(rows), 3))
    np.testing.assert_array_equal(one.minimum, many.minimum)
    np.testing.assert_array_equal(one.maximum, many.maximum)
    np.testing.assert_allclose(one.mean, many.mean, rtol=1e-6, atol=1e-6)
