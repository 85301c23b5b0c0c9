"""What kind of end it was, from what a machine leaves behind: each kind, what decides, what is asked."""

from collections.abc import Callable
from dataclasses import replace

import pytest

from thresher.endings.judge import Judgement, judge, load_weights, parse_weights, seen_by_person
from thresher.endings.traces import LeftBehind, Traces, what_was_seen
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.endings import EndingKind, LastMoments, Moment, SeenAtEnd
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.port import LogLine

HOT = Channel(
    "k10temp/temp1",
    "Processor",
    Quantity.TEMPERATURE,
    PartKind.PROCESSOR,
    "/sys/x",
    (Limit(95.0, LimitSide.BELOW, "the chip"),),
)
MAINS = Channel("mains/AC", "Mains AC", Quantity.FLAG, PartKind.POWER, "/sys/ac")
CHARGE = Channel("bat/charge", "Battery", Quantity.CHARGE, PartKind.BATTERY, "/sys/bat")
LAST_AT, LAST_WALL = 5000.0, 1_700_005_000.0


def rows(*values: tuple[float | None, ...]) -> tuple[Moment, ...]:
    """Rows a tenth of a second apart, the newest at the end."""
    first = LAST_AT - 0.1 * (len(values) - 1)
    return tuple(Moment(first + 0.1 * n, LAST_WALL, 1, each) for n, each in enumerate(values))


LEFT = LeftBehind(
    "boot-1", LAST_AT, LAST_WALL, LAST_WALL - 5000.0, 4711, 0, LastMoments((HOT,), rows((61.0,))), {"S1": 40}, True
)


def log(*lines: tuple[float, str, str]) -> tuple[LogLine, ...]:
    """A stored log: seconds after the last row, who, what."""
    return tuple(LogLine(LAST_WALL + after, LAST_AT + after, who, text) for after, who, text in lines)


WORKING = log((-3.0, "cron", "session opened"), (-0.5, "kernel", "perf: interrupt took too long"))


def after(off_s: float, **changes: object) -> Traces:
    """What the machine says after it was off for so long."""
    return replace(Traces("boot-2", LAST_WALL + off_s, WORKING, power_cycles={"S1": 40}), **changes)  # type: ignore[arg-type]


def judged(traces: Traces, left: LeftBehind = LEFT, seen: SeenAtEnd | None = None) -> Judgement:
    """Judge, with what somebody saw."""
    told = [seen_by_person(seen)] if seen is not None else []
    return judge([*what_was_seen(left, traces), *told], load_weights())


def panic(at: float) -> str:
    """The kernel's last words, as kernel/panic.c writes them into the store."""
    return (
        f"Panic#2 Part1\n<0>[ {at:.6f}] Kernel panic - not syncing: Fatal exception in interrupt\n<0>[ {at:.6f}] ---\n"
    )


ORDERLY = log(
    (1.0, "systemd-logind", "Power key pressed short."),
    (1.1, "systemd-logind", "System is powering down."),
    (3.0, "systemd", "Reached target poweroff.target - System Power Off."),
    (3.1, "systemd-journald", "Journal stopped"),
)
HEAT = log(
    (0.2, "kernel", "thermal thermal_zone0: acpitz: critical temperature reached"),
    (0.3, "kernel", "reboot: HARDWARE PROTECTION shutdown (Temperature too high)"),
    (3.1, "systemd-journald", "Journal stopped"),
)
KILLED = (LogLine(LAST_WALL + 1, LAST_AT + 1, "kernel", "Out of memory: Killed process 4711 (python3) total-vm:9kB"),)

CASES: dict[str, tuple[Callable[[], Judgement], EndingKind]] = {
    "back at once, drives kept their power": (lambda: judged(after(14.0, keeps_last_words=True)), EndingKind.RESET),
    "the watchdog reset it": (lambda: judged(after(40.0, watchdogs={"watchdog0": 0x20})), EndingKind.FREEZE),
    "much later, drives kept their power, a still picture": (
        lambda: judged(after(900.0), seen=SeenAtEnd.STOOD_STILL),
        EndingKind.FREEZE,
    ),
    "drives lost their power, the lights stayed on": (
        lambda: judged(after(900.0, power_cycles={"S1": 41}), seen=SeenAtEnd.WAS_OFF),
        EndingKind.POWER_OFF,
    ),
    "drives lost their power, the lights went out": (
        lambda: judged(after(900.0, power_cycles={"S1": 41}), seen=SeenAtEnd.ALL_OFF),
        EndingKind.POWER_CUT,
    ),
    "the kernel said heat": (
        lambda: judged(after(700.0, log=(*WORKING, *HEAT), power_cycles={"S1": 41})),
        EndingKind.HEAT,
    ),
    "last words of that time": (lambda: judged(after(20.0, last_words=(panic(5000.2),))), EndingKind.PANIC),
    "somebody pressed the power key": (
        lambda: judged(after(600.0, log=(*WORKING, *ORDERLY)), replace(LEFT, asked_by=15)),
        EndingKind.SHUT_DOWN,
    ),
    "memory ran out": (lambda: judged(replace(after(0), boot_id="boot-1", log=KILLED)), EndingKind.OUT_OF_MEMORY),
    "nothing but the program is gone": (lambda: judged(replace(after(0), boot_id="boot-1")), EndingKind.KILLED),
}


@pytest.mark.parametrize("case", CASES)
def test_each_kind_of_end_is_named_by_what_it_leaves(case: str) -> None:
    made, kind = CASES[case]
    judgement = made()
    assert judgement.kind is kind, [(each.kind, round(each.probability, 3)) for each in judgement.chances]
    assert judgement.chances[0].probability > 0.85
    assert abs(sum(each.probability for each in judgement.chances) - 1.0) < 1e-9
    assert judgement.traces


def test_without_anything_to_go_by_it_is_asked_and_the_answer_decides() -> None:
    bare = Traces("boot-2", None)
    unsure = judged(bare)
    assert unsure.asks
    assert unsure.chances[0].probability < 0.9
    told = judged(bare, seen=SeenAtEnd.STARTED_AGAIN)
    assert told.kind is EndingKind.RESET
    assert not told.asks


def test_last_words_of_another_day_do_not_count() -> None:
    old = judged(after(14.0, last_words=(panic(120.0),)))
    assert old.kind is EndingKind.RESET


def test_a_temperature_at_its_critical_limit_speaks_for_heat() -> None:
    hot = replace(LEFT, moments=LastMoments((HOT,), rows((88.0,), (94.5,))))
    chances = {each.kind: each.probability for each in judged(after(700.0, log=()), hot).chances}
    cool = {each.kind: each.probability for each in judged(after(700.0, log=())).chances}
    assert chances[EndingKind.HEAT] > 20 * cool[EndingKind.HEAT]


def test_a_charged_battery_rules_a_power_cut_out_and_an_empty_one_explains_it() -> None:
    full = replace(LEFT, moments=LastMoments((MAINS, CHARGE), rows((1.0, 80.0), (0.0, 80.0))))
    empty = replace(LEFT, moments=LastMoments((MAINS, CHARGE), rows((1.0, 4.0), (0.0, 4.0))))
    off = after(900.0, power_cycles={"S1": 41})
    chance = [
        next(each.probability for each in judged(off, left).chances if each.kind is EndingKind.POWER_CUT)
        for left in (full, empty)
    ]
    assert chance[0] < 0.35 < 0.9 < chance[1]


def test_an_uncorrected_machine_check_at_the_next_start_speaks_for_the_hardware() -> None:
    # bit 61 (UC) and bit 63 (VAL) of the status are set (Intel SDM vol. 3B, 16.3.2.2)
    line = "mce: [Hardware Error]: CPU 2: Machine Check: 0 Bank 5: be00000000800400"
    traces = after(30.0, started_with=("Linux version 6.1.0", line))
    judgement = judged(traces)
    assert any(each.name == "fatal machine check" for each in judgement.traces)
    assert judgement.kind is EndingKind.RESET
    corrected = line.replace("be00000000800400", "9c00000000800400")  # without bit 61
    calm = judged(replace(traces, started_with=("Linux version 6.1.0", corrected)))
    assert not any(each.name == "fatal machine check" for each in calm.traces)


def test_a_clock_that_was_set_back_says_nothing() -> None:
    assert not any(each.name.startswith("back ") for each in judged(after(-4000.0)).traces)


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ('format = "thresher-endings/1"\n[prior]\nreset = 1.0\n[[observations]]\nname = "a"\nwords = "b"\n'
         "likelihood = { freeze = 0.5 }", "lacks 'else'"),
        ('format = "thresher-endings/1"\n[prior]\nreset = 1.0\n[[observations]]\nname = "a"\nwords = "b"\n'
         "likelihood = { explosion = 0.5, else = 0.1 }", "no such kind"),
        ('format = "thresher-endings/1"\n[prior]\nreset = 1.0\n[[observations]]\nname = "a"\nwords = "b"\n'
         "likelihood = { else = 1.5 }", "expected 0 to 1"),
    ],
)  # fmt: skip
def test_wrong_weights_are_refused_with_their_place(text: str, place: str) -> None:
    with pytest.raises(InputError, match=place):
        parse_weights(text, "weights")


def test_only_the_session_that_the_program_ran_in_speaks_of_its_end() -> None:
    lines = log((0.4, "systemd-logind", "Session 3 logged out. Waiting for processes to exit."))
    same = Traces("boot-1", None, lines)
    mine, other = (replace(LEFT, session=name) for name in ("3", "31"))
    assert any(each.name == "session ended" for each in judged(same, mine).traces)
    assert not any(each.name == "session ended" for each in judged(same, other).traces)
    assert not any(each.name == "session ended" for each in judged(same).traces)
