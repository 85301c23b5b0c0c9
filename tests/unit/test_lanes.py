"""Lanes: which there are, how they can be arranged, and where a rise leads."""

import json
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.sensors.continuation import continue_rise
from thresher.sensors.lanes import Lane, choose_lanes
from thresher.sensors.layout import (
    LaneLayout,
    arranged,
    decode_layout,
    encode_layout,
    folded,
    heightened,
    machine_sort,
    moved,
    toggled,
)
from thresher.sensors.pyramid import Pyramid


def channel(key: str, quantity: Quantity, kind: PartKind, core: int | None = None, name: str = "") -> Channel:
    limits = (Limit(11.4, LimitSide.ABOVE, "ATX"),) if quantity is Quantity.VOLTAGE else ()
    return Channel(key, name or key, quantity, kind, "/sys/x", limits, core)


MACHINE = (
    channel("t/package", Quantity.TEMPERATURE, PartKind.PROCESSOR),
    channel("t/0", Quantity.TEMPERATURE, PartKind.PROCESSOR, 0),
    channel("cpufreq/0", Quantity.CLOCK, PartKind.PROCESSOR, 0),
    channel("counters/0/clock", Quantity.CLOCK, PartKind.PROCESSOR, 0),
    channel("v/5", Quantity.VOLTAGE, PartKind.POWER, name="+5V"),
    channel("v/12", Quantity.VOLTAGE, PartKind.POWER, name="+12V"),
    channel("f/1", Quantity.FAN, PartKind.COOLING),
    channel("d/1", Quantity.TEMPERATURE, PartKind.DRIVE),
    channel("g/1", Quantity.TEMPERATURE, PartKind.GRAPHICS),
    channel("stat/use", Quantity.USE, PartKind.PROCESSOR),
    channel("stat/cpu0", Quantity.USE, PartKind.PROCESSOR, 0),
    channel("b/1", Quantity.HUMIDITY, PartKind.BOARD),
)
LANES = choose_lanes(MACHINE)
KEYS = [lane.key for lane in LANES]


def shown(layout: LaneLayout) -> list[str]:
    return [lane.key for lane in arranged(LANES, layout)[0]]


def test_every_channel_stands_in_exactly_one_lane() -> None:
    placed = [index for lane in LANES for index in lane.channels]
    assert sorted(placed) == list(range(len(MACHINE)))
    assert len(KEYS) == len(set(KEYS))


def test_what_counts_is_drawn_strongly() -> None:
    lead = {lane.key: [MACHINE[i].key for i in lane.lead] for lane in LANES}
    assert lead["core temperature"] == ["t/0"]
    assert lead["core clock"] == ["counters/0/clock"]
    assert lead["processor use"] == ["stat/use"]
    assert KEYS.index("rail +12V") == 2
    assert KEYS[-1] == "rail +5V", "the other rails stand among the rest"


def test_a_channel_that_is_not_believed_leads_no_lane() -> None:
    doubted = replace(MACHINE[8], distrust="stuck")
    other = channel("g/2", Quantity.TEMPERATURE, PartKind.GRAPHICS)
    lane = next(each for each in choose_lanes((doubted, other)) if each.key == "graphics temperature")
    assert lane.lead == (1,)
    assert lane.channels == (0, 1)


def test_the_first_lanes_stand_open_and_folding_is_remembered() -> None:
    assert shown(LaneLayout()) == KEYS[:6]
    layout = folded(folded(LaneLayout(), "fans", fold=True), "humidity", fold=False)
    assert "fans" not in shown(layout)
    assert shown(layout)[-1] == "humidity"
    assert shown(folded(layout, "fans", fold=False)) == [*KEYS[:6], "humidity"]


def test_lanes_move_and_pinned_ones_stand_on_top() -> None:
    up = moved(LaneLayout(), LANES, "fans", -1)
    assert shown(up).index("fans") == KEYS[:6].index("fans") - 1
    assert set(shown(up)) == set(KEYS[:6]), "moving one opens and folds no other"
    pinned = replace(up, pinned=toggled((), "drive temperature"))
    assert shown(pinned)[0] == "drive temperature"
    assert moved(LaneLayout(), LANES, "nowhere", 1) == LaneLayout()
    assert shown(moved(LaneLayout(), LANES, KEYS[0], -1))[0] == KEYS[0]


def done(layout: LaneLayout, key: str, what: int) -> LaneLayout:
    match what:
        case 0:
            return moved(layout, LANES, key, -1)
        case 1:
            return moved(layout, LANES, key, 2)
        case 2 | 3:
            return folded(layout, key, fold=what == 2)
        case 4:
            return heightened(layout, key, 3.0)
        case _:
            return replace(layout, pinned=toggled(layout.pinned, key))


@given(st.lists(st.tuples(st.sampled_from(KEYS), st.integers(0, 5)), max_size=25))
def test_whatever_is_done_no_lane_is_lost_and_it_reads_back(actions: list[tuple[str, int]]) -> None:
    layout = LaneLayout()
    for key, what in actions:
        layout = done(layout, key, what)
        visible, rest = arranged(LANES, layout)
        assert sorted(lane.key for lane in (*visible, *rest)) == sorted(KEYS)
    assert decode_layout(encode_layout(layout)) == layout


def test_a_layout_from_elsewhere_is_checked() -> None:
    with pytest.raises(InputError, match="lane layout"):
        decode_layout('{"order": 7}')
    tall = decode_layout(json.dumps({"heights": {"fans": 99.0, "package": 0.0}}))
    assert tall.heights == {"fans": 4.0, "package": 0.5}
    assert machine_sort(LANES) == machine_sort(tuple(reversed(LANES)))


# ---- continuation


@given(
    st.floats(45, 130),
    st.floats(3, 40),
    st.floats(25, 150),
    st.floats(0, 0.4),
    st.integers(0, 2**31),
)
@settings(max_examples=150, deadline=None)
def test_a_clear_exponential_rise_is_continued_to_its_level(
    level: float, missing: float, tau: float, noise: float, seed: int
) -> None:
    times = np.arange(0.0, 240.0)
    clean = level - missing * np.exp(-(times - times[-1]) / tau)
    values = clean + np.random.default_rng(seed).normal(0, noise, len(times))
    found = continue_rise(times, values)
    rise = clean[-1] - clean[0]
    if found is None:
        # nothing is reported only when there is little to continue: slow, flat, far away, or lost in noise
        assert tau > 90 or missing < 6 or rise < 40 * max(noise, 0.1) or missing > 30
        return
    assert found.level_c == pytest.approx(level, abs=max(3.0, 0.35 * missing))
    assert found.seconds > 0
    assert found.at(clean[-1], 1e6) == pytest.approx(found.level_c)
    wanted = (clean[-1] + found.level_c) / 2
    assert found.at(clean[-1], found.until(clean[-1], wanted)) == pytest.approx(wanted, abs=0.01)


@pytest.mark.parametrize(
    "values",
    [
        np.full(240, 60.0),
        np.linspace(40, 90, 240),
        np.linspace(90, 40, 240),
        np.full(240, np.nan),
        60 + np.sin(np.arange(240.0)),
        40 + np.exp(np.arange(240.0) / 60),
        np.array([50.0, 60.0, 65.0]),
        np.empty(0),
    ],
)
def test_nothing_is_reported_about_what_does_not_level(values: np.ndarray) -> None:
    assert continue_rise(np.arange(float(len(values))), values) is None


# ---- what is drawn


@given(
    st.lists(st.one_of(st.just(float("nan")), st.floats(-1e4, 1e4, width=32)), min_size=1, max_size=500),
    st.integers(1, 80),
)
@settings(max_examples=150, deadline=None)
def test_columns_of_pixels_lose_no_extreme(values: list[float], count: int) -> None:
    wide = np.array([[value, -value] for value in values], dtype=np.float32)
    pyramid = Pyramid(2)
    pyramid.extend(np.arange(float(len(values))), wide)
    low, high = pyramid.columns([0], 0.0, float(len(values)), count)
    there = wide[~np.isnan(wide[:, 0]), 0]
    if len(there):
        assert np.nanmin(low) == there.min()
        assert np.nanmax(high) == there.max()
    else:
        assert np.isnan(low).all()
    both_low, both_high = pyramid.columns([0, 1], 0.0, float(len(values)), count, together=True)
    assert both_low.shape == (count, 1)
    known = ~(np.isnan(both_low) | np.isnan(both_high))
    assert np.all(both_low[known] <= both_high[known])


def test_no_line_is_drawn_over_a_gap() -> None:
    pyramid = Pyramid(1)
    values = np.array([[1.0], [1.0], [np.nan], [1.0], [1.0]], dtype=np.float32)
    pyramid.extend(np.arange(5.0), values)
    low, _ = pyramid.columns([0], 0.0, 4.0, 40)
    assert np.isnan(low[11:29]).all()
    assert not np.isnan(low[:9]).any()


def test_a_lane_keeps_its_limit() -> None:
    limited = (replace(MACHINE[0], limits=(Limit(95.0, LimitSide.BELOW, "chip"),)),)
    (lane,) = choose_lanes(limited)
    assert isinstance(lane, Lane)
    assert lane.limit is not None
    assert lane.limit.value == 95.0


def test_an_envelope_is_closed_between_ticks_too() -> None:
    pyramid = Pyramid(2)
    pyramid.extend(np.arange(5.0), np.tile(np.array([0.0, 100.0], dtype=np.float32), (5, 1)))
    low, high = pyramid.columns([0, 1], 0.0, 4.0, 50, together=True)
    assert np.nanmax(low) == 0.0
    assert np.nanmin(high) == 100.0
