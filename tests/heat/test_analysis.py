"""A span of load: plateau, resistance, throttling, headroom, and what went wrong on the way of the heat."""

import numpy as np
import pytest

from tests.heat.spans import SECONDS, span, warm_up
from thresher.heat.analysis import analyse
from thresher.heat.heat_path import Trouble, allowed_resistance, judge
from thresher.heat.load_span import CASE, COOLANT, RoomFrom, cut
from thresher.heat.remedies import expected
from thresher.heat.throttling import Cause, find_throttling
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind

# die to room 0.45 K/W at 100 W in a room of 22 °C: 67 °C; 15 K of it within seconds, 30 K through the heatsink
GOOD = ((3.0, 15.0), (80.0, 30.0))
DUSTY = ((3.0, 15.0), (140.0, 55.0))
DRY = ((6.0, 45.0), (80.0, 26.0))


def test_resistance_is_the_rise_over_the_room_by_the_power() -> None:
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD)))
    assert heat is not None and heat.resistance is not None
    assert heat.resistance.low <= 0.45 <= heat.resistance.high
    assert heat.resistance.error < 0.02
    assert heat.reached
    assert heat.plateau.low <= 67.0 <= heat.plateau.high
    # 78 K to the limit at 0.45 K/W: 173 W; or a room that is 33 K warmer
    assert heat.throttles_above_w is not None and heat.throttles_in_room_c is not None
    assert heat.throttles_above_w.value == pytest.approx(173.3, abs=4.0)
    assert heat.throttles_in_room_c.value == pytest.approx(55.0, abs=1.5)


def test_stages_divide_the_way_where_sensors_stand() -> None:
    # the case 6 K above the room: 0.06 K/W, and 0.39 K/W up to the die
    case = warm_up(SECONDS, 22.0, ((300.0, 6.0),), seed=3, noise=0.1)
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD), stages=((CASE, case),)))
    assert heat is not None
    die, rest = heat.stages
    assert (die.begins, die.ends, rest.ends) == ("die", "case air", "room")
    assert die.resistance.value == pytest.approx(0.39, abs=0.02)
    assert rest.resistance.value == pytest.approx(0.06, abs=0.015)


def test_a_room_that_is_guessed_widens_the_band() -> None:
    hot = warm_up(SECONDS, 22.0, GOOD)
    typed, guessed = (analyse(span(hot, room_from=source)) for source in (RoomFrom.TYPED, RoomFrom.COLD_START))
    assert typed is not None and typed.resistance is not None
    assert guessed is not None and guessed.resistance is not None
    assert guessed.resistance.error > 2.0 * typed.resistance.error


def test_after_a_fan_step_only_what_follows_counts() -> None:
    # the fan slows at 400 s, and the plateau goes from 67 to 79 °C
    hot = warm_up(SECONDS, 22.0, GOOD)
    later = SECONDS >= 400.0
    hot[later] += 12.0 * (1.0 - np.exp(-(SECONDS[later] - 400.0) / 80.0))
    fan = np.where(later, 900.0, 1500.0)
    heat = analyse(span(hot, fan=fan))
    assert heat is not None
    assert heat.steady_s == pytest.approx(400.0, abs=20.0)
    assert heat.plateau.low <= 79.0 <= heat.plateau.high


def test_a_pump_that_stops_is_found_though_no_sensor_shows_it() -> None:
    hot = warm_up(SECONDS, 22.0, GOOD)
    later = SECONDS >= 660.0
    hot[later] += 20.0 * (1.0 - np.exp(-(SECONDS[later] - 660.0) / 40.0))
    coolant = warm_up(SECONDS, 22.0, ((200.0, 8.0),), seed=4)
    heat = analyse(span(hot, stages=((COOLANT, coolant),)))
    assert heat is not None and heat.broken is not None
    assert heat.broken.at_s == pytest.approx(660.0, abs=140.0)
    assert heat.broken.kelvin == pytest.approx(20.0, abs=3.0)
    verdict = judge(heat)
    assert verdict.trouble is Trouble.PUMP
    assert "the pump" in verdict.sentence


def test_noise_alone_is_no_break() -> None:
    for seed in range(6):
        heat = analyse(span(warm_up(SECONDS, 22.0, GOOD, seed=seed, noise=0.8)))
        assert heat is not None and heat.broken is None


@pytest.mark.parametrize(
    ("parts", "trouble", "remedy"),
    [(GOOD, Trouble.NOTHING, ""), (DUSTY, Trouble.AIR, "Clean"), (DRY, Trouble.SEATING, "paste")],
)
def test_what_is_wrong_follows_from_the_piece_that_has_too_much(
    parts: tuple[tuple[float, float], ...], trouble: Trouble, remedy: str
) -> None:
    heat = analyse(span(warm_up(SECONDS, 22.0, parts)))
    assert heat is not None
    assert judge(heat).trouble is trouble
    gains = {each.words: each.gain.value for each in expected(heat) if each.name in ("clean", "paste")}
    if remedy:
        assert max(gains, key=lambda words: gains[words]).lower().find(remedy.lower()) >= 0
        assert max(gains.values()) > 5.0


def test_what_is_allowed_comes_from_the_part_s_own_limits() -> None:
    # (100 °C - 38 °C of air) / 125 W
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD)))
    assert heat is not None
    assert allowed_resistance(heat) == pytest.approx(62.0 / 125.0)


def test_this_shop_s_own_reference_counts_before_the_limits() -> None:
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD)))
    assert heat is not None
    verdict = judge(heat, reference=0.25)
    assert verdict.trouble is not Trouble.NOTHING
    assert verdict.expected == 0.25


def test_a_fan_that_reports_nothing_under_load_has_stopped() -> None:
    heat = analyse(span(warm_up(SECONDS, 22.0, DUSTY), fan=0.0))
    assert heat is not None
    assert judge(heat).sentence == "CPU fan has stopped."


def test_throttling_far_below_the_limit_means_that_the_limit_was_set_low() -> None:
    clock = np.where(SECONDS > 300.0, 3.6, 4.5)
    counter = np.maximum(0.0, SECONDS - 300.0)
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD), clock=clock, throttled_s=counter))
    assert heat is not None
    assert judge(heat).trouble is Trouble.LIMIT_LOW


def test_without_power_only_temperatures_are_known() -> None:
    heat = analyse(span(warm_up(SECONDS, 22.0, GOOD), power=None))
    assert heat is not None
    assert heat.resistance is None
    assert expected(heat) == ()
    assert judge(heat).trouble is Trouble.UNKNOWN


def test_a_short_run_is_not_judged() -> None:
    heat = analyse(span(warm_up(SECONDS[:60], 22.0, GOOD)))
    assert heat is not None
    assert not heat.reached
    assert "Run it longer" in judge(heat).sentence


def test_throttling_is_counted_with_its_cause_and_what_it_cost() -> None:
    # 4.5 GHz for 600 s, then 3.6 GHz (a fifth less) for 720 s because of heat
    clock = np.where(SECONDS >= 600.0, 3.6, 4.5)
    hot = np.where(SECONDS >= 600.0, 99.5, 80.0)
    (found,) = find_throttling(span(hot, clock=clock))
    assert found.cause is Cause.HEAT
    assert found.begins_s == pytest.approx(600.0)
    assert found.seconds == pytest.approx(719.0)
    assert found.clock_lost == pytest.approx(0.2)
    assert found.work_lost == pytest.approx(0.2 * 719.0 / 1319.0)
    # 719 s are 12.0 min; a fifth of 719 in 1319 s is 10.9 %
    assert found.sentence == (
        "Throttled by heat for 12.0 min, from 10.0 min on: clock 20 % lower, 10.9 % of the work lost"
    )


@pytest.mark.parametrize(
    ("power", "flag", "cause"),
    [(124.0, "", Cause.POWER), (90.0, "current limit", Cause.CURRENT), (90.0, "power limit 1", Cause.POWER)],
)
def test_a_lowered_clock_without_heat_has_another_cause(power: float, flag: str, cause: Cause) -> None:
    clock = np.where(SECONDS >= 600.0, 4.0, 4.5)
    held = ((flag, np.where(SECONDS >= 600.0, 1.0, 0.0)),) if flag else ()
    (found,) = find_throttling(span(np.full(1320, 70.0), clock=clock, power=power, held_by=held))
    assert found.cause is cause


def test_a_sensor_that_goes_before_the_load_ends_leaves_what_it_had_shown() -> None:
    hot = warm_up(SECONDS, 22.0, GOOD)
    hot[900:] = np.nan
    heat = analyse(span(hot))
    assert heat is not None
    assert heat.plateau.low <= 67.0 <= heat.plateau.high
    assert heat.late_above_k == pytest.approx(45.0, abs=0.3)
    assert find_throttling(span(hot, throttled_s=np.full(1320, np.nan))) == ()


def test_without_a_clock_only_the_machine_s_own_counter_speaks() -> None:
    counter = np.clip(SECONDS - 300.0, 0.0, 90.0)
    (found,) = find_throttling(span(np.full(1320, 96.0), clock=None, throttled_s=counter))
    assert (found.begins_s, found.seconds, found.clock_lost, found.work_lost) == (301.0, 90.0, None, None)


def test_without_a_room_there_is_no_resistance_and_nothing_that_is_no_number() -> None:
    case = warm_up(SECONDS, 22.0, ((300.0, 6.0),), noise=0.1)
    heat = analyse(
        span(warm_up(SECONDS, 22.0, GOOD), room_c=float("nan"), room_from=RoomFrom.UNKNOWN, stages=((CASE, case),))
    )
    assert heat is not None
    assert heat.resistance is None and heat.throttles_in_room_c is None and heat.throttles_above_w is None
    assert [each.ends for each in heat.stages] == [CASE]
    assert np.isfinite([heat.plateau.low, heat.plateau.high]).all()


def channel(key: str, name: str, quantity: Quantity, kind: PartKind, **more: object) -> Channel:
    return Channel(key, name, quantity, kind, f"/sys/{key}", **more)  # type: ignore[arg-type]


LIMIT = (Limit(95.0, LimitSide.BELOW, "the chip"),)
CHANNELS = (
    channel("chip/temp1", "Core 0", Quantity.TEMPERATURE, PartKind.PROCESSOR, core=0, limits=LIMIT),
    channel("chip/temp2", "Core 1", Quantity.TEMPERATURE, PartKind.PROCESSOR, core=1, limits=LIMIT),
    channel("chip/temp3", "Broken", Quantity.TEMPERATURE, PartKind.PROCESSOR, distrust="stuck at 127"),
    channel("board/temp1", "Coolant out", Quantity.TEMPERATURE, PartKind.BOARD),
    channel("board/temp2", "System", Quantity.TEMPERATURE, PartKind.BOARD),
    channel("board/temp3", "Room probe", Quantity.TEMPERATURE, PartKind.BOARD),
    channel("cap/power", "Package", Quantity.POWER, PartKind.PROCESSOR),
    channel("board/fan1", "CPU fan", Quantity.FAN, PartKind.COOLING),
)
ROW = [60.0, 64.0, 127.0, 41.0, 31.0, 23.0, 90.0, 1400.0]


def test_a_span_is_cut_from_the_channels_that_count() -> None:
    at = np.arange(1000.0, 1100.0)
    values = np.tile(np.array(ROW, dtype=np.float32), (100, 1))
    found = cut(CHANNELS, at, values, 1020.0, 1080.0, "matrix")
    assert found is not None
    assert found.times[0] == 0.0 and found.length_s == 60.0
    assert float(found.hot[5]) == 64.0  # the hottest that is trusted
    assert [name for name, _ in found.stages] == ["coolant", "case air"]
    assert found.room.source is RoomFrom.SENSOR and float(found.room.values[0]) == 23.0
    assert found.limit_c == 95.0
    assert found.ignored == ("Broken",)
    assert found.fans[0][0] == "CPU fan"


def test_without_a_sensor_the_room_is_what_was_typed_in_or_the_coldest_reading_at_the_start() -> None:
    at = np.arange(1000.0, 1100.0)
    kept = [0, 4, 6]
    values = np.tile(np.array(ROW, dtype=np.float32)[kept], (100, 1))
    values[:3, 1] = 24.0
    channels = tuple(CHANNELS[i] for i in kept)
    typed = cut(channels, at, values, 1020.0, 1080.0, "matrix", room_c=21.5)
    cold = cut(channels, at, values, 1020.0, 1080.0, "matrix")
    assert typed is not None and typed.room.source is RoomFrom.TYPED and float(typed.room.values[0]) == 21.5
    assert cold is not None and cold.room.source is RoomFrom.COLD_START and float(cold.room.values[0]) == 23.0


def test_a_part_without_a_temperature_gives_no_span() -> None:
    at = np.arange(100.0)
    values = np.ones((100, 1), dtype=np.float32)
    assert cut((CHANNELS[6],), at, values, 10.0, 90.0, "matrix") is None
