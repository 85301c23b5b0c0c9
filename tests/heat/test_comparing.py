"""Fair comparison: conditions, real changes and none, remedies, gates that wait for a real condition."""

from dataclasses import replace

import numpy as np
import pytest

from tests.heat.spans import SECONDS, span, warm_up
from thresher.heat.analysis import SpanHeat, analyse
from thresher.heat.change import Group, Measure, changed, difference_lane
from thresher.heat.comparable import Condition, Fairness, RunFacts, conditions, refusals
from thresher.heat.gates import has_settled, time_to_reach, time_to_settle
from thresher.heat.load_span import LoadSpan, RoomFrom
from thresher.heat.remedies import steps

GOOD, DUSTY = ((3.0, 15.0), (80.0, 30.0)), ((3.0, 15.0), (120.0, 42.0))


def heat_of(made: LoadSpan) -> SpanHeat:
    found = analyse(made)
    assert found is not None
    return found


def facts(made: LoadSpan, sheet: str = "Heat hunt", machine: str = "Pattern table") -> RunFacts:
    return RunFacts(sheet, machine, True, heat_of(made))


PLAIN = facts(span(warm_up(SECONDS, 22.0, GOOD)))


def condition(second: RunFacts, name: str, first: RunFacts = PLAIN) -> Condition:
    return next(each for each in conditions(first, second) if each.name == name)


def test_the_same_run_again_is_fair_in_every_respect() -> None:
    again = facts(span(warm_up(SECONDS, 22.0, GOOD, seed=1)))
    assert {each.fairness for each in conditions(PLAIN, again)} == {Fairness.SAME}
    assert refusals(conditions(PLAIN, again)) == ()


@pytest.mark.parametrize(
    ("changes", "name", "fairness"),
    [
        ({"power": 85.0}, "power", Fairness.CORRECTED),
        ({"power": 40.0}, "power", Fairness.REFUSED),
        ({"power": None}, "power", Fairness.NOTED),
        ({"load": "branchy"}, "load", Fairness.REFUSED),
        ({"start_c": 45.0}, "start temperature", Fairness.CORRECTED),
        ({"room_c": 25.0}, "room", Fairness.CORRECTED),
        ({"room_from": RoomFrom.COLD_START}, "room", Fairness.NOTED),
        ({"room_from": RoomFrom.UNKNOWN}, "room", Fairness.REFUSED),
        ({"fan": 1100.0}, "fans", Fairness.NOTED),
        ({"fan": None}, "fans", Fairness.NOTED),
        ({"ignored": ("Core 3",)}, "sensors", Fairness.NOTED),
    ],
)
def test_each_condition_says_what_follows_where_it_is_not_the_same(
    changes: dict[str, object], name: str, fairness: Fairness
) -> None:
    found = condition(facts(span(warm_up(SECONDS, 22.0, GOOD), **changes)), name)  # type: ignore[arg-type]
    assert found.fairness is fairness
    assert found.consequence.endswith(".")


def test_other_sheet_and_other_machine_are_noted() -> None:
    hot = span(warm_up(SECONDS, 22.0, GOOD))
    assert condition(facts(hot, sheet="Short round"), "sheet and load").fairness is Fairness.NOTED
    assert condition(facts(hot, machine="Counter 2"), "machine").fairness is Fairness.NOTED


def test_a_simulated_machine_is_never_compared_with_a_real_one() -> None:
    real = replace(PLAIN, simulated=False)
    assert condition(real, "machine").fairness is Fairness.REFUSED


def test_the_thermometer_of_another_machine_is_another_thermometer() -> None:
    def group(machine: str, seed: int) -> Group:
        made = span(warm_up(SECONDS, 22.0, GOOD, seed=seed), room_from=RoomFrom.SENSOR)
        return Group("", (heat_of(made),), machine)

    same, other = (changed(group("A", 0), group(name, 1)) for name in ("A", "B"))
    assert other.kelvin.error > same.kelvin.error


def test_a_run_without_a_plateau_is_refused_with_its_reason() -> None:
    found = condition(facts(span(warm_up(SECONDS[:70], 22.0, GOOD))), "past the plateau")
    assert found.fairness is Fairness.REFUSED
    assert "Run it longer" in found.consequence


def test_at_the_limit_resistance_is_compared_or_nothing() -> None:
    hot = np.minimum(warm_up(SECONDS, 22.0, ((3.0, 30.0), (80.0, 60.0))), 99.5)
    clock = np.where(hot >= 99.0, 3.9, 4.5)
    at_limit = span(hot, clock=clock)
    assert condition(facts(at_limit), "clock").fairness is Fairness.CORRECTED
    assert condition(facts(replace(at_limit, power=None)), "clock").fairness is Fairness.REFUSED


def test_twelve_kelvin_less_are_a_real_change_at_equal_power() -> None:
    before, after = heat_of(span(warm_up(SECONDS, 22.0, DUSTY))), heat_of(span(warm_up(SECONDS, 22.0, GOOD, seed=1)))
    found = changed(Group("as it came", (before,)), Group("cleaned", (after,)))
    assert found.real and found.measure is Measure.RESISTANCE
    assert found.kelvin.low <= -12.0 <= found.kelvin.high
    assert found.power_w == pytest.approx(100.0)
    assert found.sentence.endswith("a real change") and "K cooler (" in found.sentence


def test_a_warmer_room_is_no_change() -> None:
    before = heat_of(span(warm_up(SECONDS, 22.0, GOOD)))
    after = heat_of(span(warm_up(SECONDS, 27.0, GOOD, seed=1), room_c=27.0, start_c=27.0))
    found = changed(Group("morning", (before,)), Group("noon", (after,)))
    assert not found.real
    assert abs(found.kelvin.value) < 1.0


def test_more_power_is_no_change_either() -> None:
    before = heat_of(span(warm_up(SECONDS, 22.0, GOOD)))
    hotter = tuple((tau, 1.2 * amount) for tau, amount in GOOD)
    after = heat_of(span(warm_up(SECONDS, 22.0, hotter, seed=1), power=120.0))
    assert not changed(Group("before", (before,)), Group("after", (after,))).real


def test_without_power_the_rise_over_the_room_is_compared() -> None:
    before = heat_of(span(warm_up(SECONDS, 22.0, DUSTY), power=None))
    after = heat_of(span(warm_up(SECONDS, 22.0, GOOD), power=None))
    found = changed(Group("before", (before,)), Group("after", (after,)))
    assert found.measure is Measure.ABOVE_ROOM and found.real


def test_repeated_runs_make_the_range_narrower() -> None:
    def group(parts: tuple[tuple[float, float], ...], seeds: range) -> Group:
        return Group("", tuple(heat_of(span(warm_up(SECONDS, 22.0, parts, seed=seed))) for seed in seeds))

    one = changed(group(DUSTY, range(1)), group(GOOD, range(1)))
    three = changed(group(DUSTY, range(3)), group(GOOD, range(3)))
    assert three.kelvin.error < 0.7 * one.kelvin.error


def test_no_difference_says_what_would_show_one() -> None:
    runs = [heat_of(span(warm_up(SECONDS, 22.0, GOOD, seed=seed))) for seed in range(2)]
    found = changed(Group("a", (runs[0],)), Group("b", (runs[1],)))
    assert not found.real
    assert "would show 1 K" in found.sentence and "no difference" in found.sentence
    assert found.more_runs is not None and found.more_runs >= 1


def test_the_lane_of_the_difference_ends_where_the_plateaus_do() -> None:
    before, after = heat_of(span(warm_up(SECONDS, 22.0, DUSTY))), heat_of(span(warm_up(SECONDS, 22.0, GOOD, seed=1)))
    lane = difference_lane(before, after, 100.0)
    assert float(lane.values[-20:].mean()) == pytest.approx(-12.0, abs=0.5)
    assert (lane.low <= lane.values).all() and (lane.values <= lane.high).all()
    inside = (lane.low[-100:] <= -12.0) & (lane.high[-100:] >= -12.0)
    assert inside.mean() > 0.75


def test_steps_from_first_to_last_each_have_what_they_gained() -> None:
    dusty, good = heat_of(span(warm_up(SECONDS, 22.0, DUSTY))), heat_of(span(warm_up(SECONDS, 22.0, GOOD)))
    groups = [Group("as it came", (dusty,)), Group("cleaned", (good,))]
    first, second = steps(groups, [""], 22.0)
    assert first.change is None and first.plateau_c == pytest.approx(79.0, abs=0.6)
    assert second.change is not None and second.change.real
    assert second.plateau_c == pytest.approx(67.0, abs=0.6)
    _, unfair = steps(groups, ["other load"], 22.0)
    assert unfair.change is None and unfair.refused == "other load"


def falling(seconds: range) -> list[tuple[float, float]]:
    """30 °C at the end, 40 K above it at the beginning, 100 s."""
    return [(float(at), 30.0 + 40.0 * float(np.exp(-at / 100.0))) for at in seconds]


def test_a_gate_says_when_the_temperature_will_be_down() -> None:
    # 40 °C are reached at 100 ln 4 = 138.6 s, that is 18.6 s after the last reading
    left = time_to_reach(falling(range(60, 121)), 40.0)
    assert left == pytest.approx(18.6, rel=0.15)
    assert time_to_reach(falling(range(60, 121)), 80.0) == 0.0
    assert time_to_reach(falling(range(60, 121)), 25.0) is None  # it never gets there


def test_a_temperature_has_settled_when_its_rate_is_small_against_its_noise() -> None:
    rng = np.random.default_rng(3)
    still = [(float(at), 55.0 + 0.7 * float(rng.standard_normal())) for at in range(60)]
    assert has_settled(still, 2.0)
    assert not has_settled([(at, value + 0.15 * at) for at, value in still], 2.0)  # 3 K in 20 s
    assert not has_settled(still[:5], 2.0)


def test_a_gate_says_when_the_temperature_will_have_settled() -> None:
    # the rate is 0.4 K/s at 0 s and falls with 100 s; 0.1 K/s, that is 2 K in 20 s, at 100 ln 4 = 138.6 s
    left = time_to_settle(falling(range(61)), 2.0)
    assert left == pytest.approx(138.6 - 60.0, rel=0.1)
