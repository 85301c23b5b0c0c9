"""Idle readings: what cannot be, what does not move, what disagrees with its twin."""

import numpy as np
import numpy.typing as npt
from hypothesis import given
from hypothesis import strategies as st

from thresher.model.channels import Baseline, Channel, Limit, LimitSide, Quantity
from thresher.model.parts import PartKind
from thresher.sensors.sanity import take_baseline

NOISE = np.random.default_rng(7).normal(0.0, 0.6, 40)


def temperature(name: str, kind: PartKind, core: int | None = None, *limits: Limit) -> Channel:
    return Channel(f"chip/{name}", name, Quantity.TEMPERATURE, kind, "/sys/x", limits, core)


PACKAGE = temperature("Package id 0", PartKind.PROCESSOR)
CPU = temperature("CPU", PartKind.BOARD)
BOARD = temperature("Board", PartKind.BOARD)


def baseline(channels: list[Channel], *columns: npt.NDArray[np.float64] | float) -> Baseline:
    values = np.column_stack([np.broadcast_to(np.asarray(column, dtype=float), 40) for column in columns])
    return take_baseline(tuple(channels), values, {0: "reads 255 °C, which cannot be"}, 0.0, 40.0)


def codes(found: Baseline) -> dict[str, str]:
    return {doubt.channel: doubt.code for doubt in found.doubts}


def test_a_quiet_machine_raises_no_doubt() -> None:
    found = baseline([PACKAGE, CPU, BOARD], 34 + NOISE, 37 + NOISE, 29.0)
    assert found.doubts == ()
    assert [each.readings for each in found.readings] == [40, 40, 40]
    assert found.readings[2].mean == 29.0


def test_an_offset_that_never_changes_is_reported_from_twins_that_disagree() -> None:
    steady = baseline([PACKAGE, CPU], 34 + NOISE, 61 + NOISE)
    assert codes(steady) == {"chip/CPU": "X-833"}
    assert "27 K above Package id 0" in steady.doubts[0].detail
    assert steady.doubts[0].twin == "chip/Package id 0"
    wild = baseline([PACKAGE, CPU], 34 + NOISE, 60 + 9 * np.sin(np.arange(40.0)))
    assert codes(wild) == {"chip/CPU": "X-832"}


def test_impossible_temperatures_are_named_with_their_evidence() -> None:
    found = baseline([BOARD, CPU, PACKAGE], 127.0, -3 + NOISE, 34 + NOISE)
    assert codes(found) == {"chip/Board": "X-830", "chip/CPU": "X-830"}
    assert "nothing is connected" in found.doubts[0].detail


def test_a_channel_without_any_reading_states_why() -> None:
    found = baseline([BOARD], np.nan)
    assert codes(found) == {"chip/Board": "X-830"}
    assert found.doubts[0].title == "Temperature that cannot be"
    assert found.doubts[0].detail == "reads 255 °C, which cannot be"
    assert found.readings[0].mean is None


def test_a_core_that_stands_still_while_the_others_move_is_stuck() -> None:
    cores = [temperature(f"Core {n}", PartKind.PROCESSOR, n) for n in range(3)]
    rising = np.linspace(30.0, 38.0, 40)
    assert codes(baseline(cores, rising, 33.0, rising + 1)) == {"chip/Core 1": "X-831"}
    assert codes(baseline(cores, 33.0, 33.0, 34.0)) == {}, "nothing moves on a quiet machine, and that is no fault"
    steady = np.full(40, 33.0)
    assert codes(baseline(cores, rising, 33.0, steady)) == {}, "one busy core makes no other a broken one"


def test_a_limit_passed_at_idle_is_reported_first() -> None:
    hot = temperature("Composite", PartKind.DRIVE, None, Limit(70.0, LimitSide.BELOW, "read from the chip"))
    found = baseline([hot], 74 + NOISE)
    assert codes(found) == {"chip/Composite": "X-850"}
    assert "must stay below 70" in found.doubts[0].detail


@given(st.lists(st.lists(st.floats(-300, 300) | st.just(float("nan")), min_size=3, max_size=3), max_size=30))
def test_no_readings_crash_it(rows: list[list[float]]) -> None:
    values = np.array(rows).reshape(len(rows), 3)
    found = take_baseline((PACKAGE, CPU, BOARD), values, {}, 0.0, 1.0)
    assert len(found.readings) == 3
    assert {doubt.channel for doubt in found.doubts} <= {PACKAGE.key, CPU.key, BOARD.key}
