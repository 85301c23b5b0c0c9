"""What readings amount to: each sign once, after it has lasted, and again only after it was gone."""

from dataclasses import replace

from thresher.engine.watch.readings import Watchers
from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick
from thresher.model.findings import Finding, TapeEntry
from thresher.model.parts import PartKind

PROCESSOR, COOLING, POWER = PartKind.PROCESSOR, PartKind.COOLING, PartKind.POWER
CORE = Channel(
    "coretemp/0/temp2", "Core 0", Quantity.TEMPERATURE, PROCESSOR, "/t2", (Limit(100, LimitSide.BELOW, "chip"),), 0
)
PACKAGE = Channel(
    "coretemp/0/temp1", "Package", Quantity.TEMPERATURE, PROCESSOR, "/t1", (Limit(100, LimitSide.BELOW, "chip"),)
)
CLOCK = Channel("cpufreq/0", "Core 0 clock", Quantity.CLOCK, PROCESSOR, "/c", (Limit(4.2, LimitSide.ABOVE, "base"),), 0)
RAIL = Channel(
    "b/in1",
    "+12V",
    Quantity.VOLTAGE,
    POWER,
    "/v",
    (Limit(11.4, LimitSide.ABOVE, "ATX"), Limit(12.6, LimitSide.BELOW, "ATX")),
)
FAN = Channel("b/fan1", "CPU fan", Quantity.FAN, COOLING, "/f")
CHANNELS = (PACKAGE, CORE, CLOCK, RAIL, FAN)
FINE: tuple[float | None, ...] = (60.0, 60.0, 4.5, 12.0, 1200.0)
BUSY = frozenset({0})


class Bench:
    """Feeds a watcher one tick a second."""

    def __init__(self) -> None:
        self.watchers = Watchers(CHANNELS)
        self.at = 0.0
        self.entries: list[TapeEntry] = []

    def run(self, seconds: int, busy: frozenset[int] = BUSY, **changed: float | None) -> list[Finding]:
        names = dict(zip(("package", "core", "clock", "rail", "fan"), FINE, strict=True)) | changed
        values = tuple(names.values())
        found: list[Finding] = []
        for _ in range(seconds):
            self.at += 1.0
            missing = {index: "the device is gone" for index, value in enumerate(values) if value is None}
            findings, entries = self.watchers.look(Tick(self.at, 0.0, values, missing), busy)
            found += findings
            self.entries += entries
        return found


def test_fine_readings_say_nothing() -> None:
    bench = Bench()
    assert bench.run(100) == []
    assert bench.entries == []


def test_the_limit_reached_is_one_finding_for_the_chip_and_names_the_core() -> None:
    bench = Bench()
    (finding,) = bench.run(60, package=99.5, core=99.5)
    assert (finding.code, finding.place, finding.temperature_c) == ("C-201", "Core 0", 99.5)
    assert "limit chip" in finding.detail


def test_hovering_at_the_limit_is_not_reaching_it_again_but_coming_back_is() -> None:
    bench = Bench()
    assert len(bench.run(5, core=99.5, package=99.5)) == 1
    for _ in range(10):
        assert bench.run(5, core=97.0, package=97.0) == []
        assert bench.run(5, core=99.5, package=99.5) == []
    bench.run(30, core=80.0, package=80.0)
    assert len(bench.run(5, core=99.5, package=99.5)) == 1


def test_a_clock_below_its_base_at_the_limit_is_put_down_to_heat() -> None:
    bench = Bench()
    findings = bench.run(30, clock=3.9, core=98.0, package=98.0)
    (finding,) = [each for each in findings if each.code != "C-201"]
    assert finding.code == "C-220"
    assert finding.detail == "core 0 at 3.90 of 4.20 GHz, 2 K of headroom"
    assert finding.part is COOLING


def test_a_clock_below_its_base_with_headroom_is_not_put_down_to_heat() -> None:
    (finding,) = Bench().run(30, clock=3.0)
    assert (finding.code, finding.part) == ("P-120", PROCESSOR)
    (blind,) = Bench().run(30, clock=3.0, core=None, package=None)
    assert "no temperature to compare" in blind.detail


def test_an_idle_core_may_be_slow_and_a_dip_is_not_a_fall() -> None:
    bench = Bench()
    assert bench.run(60, busy=frozenset(), clock=0.8) == []
    for _ in range(5):
        assert bench.run(3, clock=3.9) == []
        assert bench.run(3) == []


def test_a_rail_out_of_tolerance_on_either_side() -> None:
    (low,) = Bench().run(10, rail=11.2)
    (high,) = Bench().run(10, rail=12.8)
    assert (low.code, high.code) == ("S-410", "S-410")
    assert "11.20 V, must stay above 11.40 V" in low.detail
    assert "must stay below 12.60 V" in high.detail
    assert Bench().run(2, rail=11.2) == []


def test_the_processor_s_fan_that_never_turned_is_a_fault_once_the_processor_is_at_its_limit() -> None:
    bench = Bench()
    assert bench.run(20, fan=0.0) == []
    codes = [each.code for each in bench.run(20, fan=0.0, package=99.5, core=99.5)]
    assert sorted(codes) == ["C-201", "C-230"]
    turns = Bench()
    assert [each.code for each in turns.run(20, package=99.5, core=99.5)] == ["C-201"]


def test_another_fan_s_free_input_is_none() -> None:
    bench = Bench()
    bench.watchers = Watchers((PACKAGE, CORE, CLOCK, RAIL, replace(FAN, name="Case fan 3")))
    assert [each.code for each in bench.run(30, fan=0.0, package=99.5, core=99.5)] == ["C-201"]


def test_a_fan_that_turned_and_stands_still_is_a_fault_but_one_that_never_turned_is_not() -> None:
    bench = Bench()
    bench.run(5)
    (finding,) = bench.run(20, fan=0.0)
    assert finding.code == "C-230"
    assert Bench().run(60, fan=0.0) == []


def test_a_lost_channel_is_reported_once_with_its_reason_and_so_is_its_return() -> None:
    bench = Bench()
    bench.run(5)
    bench.run(30, core=None)
    (entry,) = bench.entries
    assert (entry.code, entry.title) == ("X-801", "Core 0 lost")
    assert "the device is gone" in entry.detail
    bench.run(2)
    assert bench.entries[-1].title == "Core 0 reads again"


def test_a_channel_that_never_read_is_not_lost() -> None:
    bench = Bench()
    bench.run(30, core=None)
    assert bench.entries == []


def test_silence_of_a_quantity_is_known_after_some_seconds() -> None:
    bench = Bench()
    bench.run(5)
    bench.run(5, core=None)
    tick = Tick(bench.at, 0.0, FINE, {})
    assert [channel.name for channel in bench.watchers.silent(tick, Quantity.TEMPERATURE)] == ["Core 0"]
    assert bench.watchers.silent(tick, Quantity.FAN) == []


POWER_LIMIT = Channel(
    "powercap/0", "Package power", Quantity.POWER, PROCESSOR, "/p", (Limit(65, LimitSide.BELOW, "powercap"),)
)


def clock_findings(watchers: Watchers, watts: float, clock: float = 3.6, seconds: int = 10) -> list[Finding]:
    return [
        finding
        for at in range(seconds)
        for finding in watchers.look(Tick(float(at), 0.0, (60.0, clock, watts), {}), BUSY)[0]
    ]


def test_a_low_clock_states_what_holds_it_down() -> None:
    channels = (CORE, CLOCK, POWER_LIMIT)
    (limited,) = clock_findings(Watchers(channels), 64.5)
    assert limited.code == "P-121"
    assert "Package power 64 of 65 W" in limited.detail
    (capped,) = clock_findings(Watchers(channels, clock_cap_ghz=3.6), 30.0)
    assert capped.code == "P-122"
    assert "allowed up to 3.60 GHz" in capped.detail
    (unknown,) = clock_findings(Watchers(channels, clock_cap_ghz=4.5), 30.0)
    assert unknown.code == "P-120"


def test_when_clocks_are_back_the_tape_reports_how_long_and_how_deep_they_were_down() -> None:
    bench = Bench()
    bench.run(20, clock=3.9, core=98.0, package=98.0)
    bench.run(10, clock=3.1, core=99.2, package=99.2)
    bench.run(12)
    bench.run(5, clock=3.9, core=98.0, package=98.0)
    assert not any("again" in entry.title for entry in bench.entries), "a short rest is no end"
    bench.run(40)
    (shown,) = [entry for entry in bench.entries if entry.title == "Clocks at their base again"]
    assert shown.detail == "below it for 46 s, lowest core 0 at 3.10 of 4.20 GHz"
    assert shown.code == "C-220"
    bench.run(3, clock=3.9)
    bench.run(40)
    assert sum(entry.title == "Clocks at their base again" for entry in bench.entries) == 1, "three seconds are nothing"


def entries_of(channel: Channel, readings: list[float]) -> list[TapeEntry]:
    watchers = Watchers((channel,))
    ticks = [Tick(float(at), 0.0, (reading,), {}) for at, reading in enumerate(readings)]
    return [entry for tick in ticks for entry in watchers.look(tick, BUSY)[1]]


def test_a_limit_of_a_chip_is_watched_once_a_reading_was_inside_it() -> None:
    fan = replace(FAN, limits=(Limit(600, LimitSide.ABOVE, "read from the chip"),))
    (entry,) = entries_of(fan, [900.0] * 5 + [420.0] * 10)
    assert (entry.code, entry.title) == ("X-851", "CPU fan beyond its limit")
    assert "420 rpm, must stay above 600 (read from the chip)" in entry.detail
    assert entries_of(fan, [420.0] * 30) == [], "nonsense limits of free inputs say nothing"
    assert entries_of(fan, [900.0] * 5 + [420.0, 900.0] * 10) == [], "it must last"


def test_a_limit_of_the_technician_is_watched_from_the_first_reading() -> None:
    mine = Limit(2.9, LimitSide.ABOVE, "technician, 2026-11-02", "clock was lost twice")
    battery = Channel("b/in8", "Vbat", Quantity.VOLTAGE, PartKind.BOARD, "/v8", (mine,))
    (entry,) = entries_of(battery, [2.61] * 30)
    assert "2.61 V, must stay above 2.9 (technician, 2026-11-02: clock was lost twice)" in entry.detail
    power = Channel("rapl/0", "Package power", Quantity.POWER, PROCESSOR, "/e", (Limit(65, LimitSide.BELOW, "rapl"),))
    assert entries_of(power, [60.0] * 5 + [66.0] * 30) == [], "a processor works at its power limit"
    (entry,) = entries_of(replace(power, limits=(replace(mine, value=40.0, side=LimitSide.BELOW),)), [60.0] * 9)
    assert "must stay below 40" in entry.detail
