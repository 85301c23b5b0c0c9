"""Checks that read what the kernel reports, on trees of files written by hand from the kernel's own documents."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.checks.bench import HandBench, outcomes
from thresher.checks.battery import adapter, rate, wear
from thresher.checks.board import clock, rails
from thresher.checks.check import Check, Coverage, LoadSeen, Reading
from thresher.checks.cooling import fans, heat
from thresher.checks.graphics import outputs
from thresher.checks.memory import cells, fitted
from thresher.checks.ports import links, usb
from thresher.checks.processor import boost, clocks, cores, pairs, primes, rounding
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.memory_patterns import steps_of
from thresher.model.parts import Fact, Inventory, LogicalCpu, Part, PartKind
from thresher.model.questions import Answer

WriteTree = Callable[[dict[str, str | bytes]], Path]
BAT = "/sys/class/power_supply/BAT0"
MAINS: dict[str, str | bytes] = {
    "/sys/class/power_supply/AC/type": "Mains\n",
    "/sys/class/power_supply/AC/online": "1\n",
}


def battery(**fields: str) -> dict[str, str | bytes]:
    files = {"type": "Battery", "present": "1", "status": "Full", "capacity": "100"} | fields
    return {f"{BAT}/{name}": f"{text}\n" for name, text in files.items()}


@pytest.mark.parametrize(
    ("files", "ended", "words"),
    [
        (
            {"energy_full": "47520000", "energy_full_design": "54000000", "cycle_count": "212"},
            "pass",
            "47.5 of 54.0 Wh",
        ),
        ({"energy_full": "37260000", "energy_full_design": "54000000"}, "fail", "37.3 of 54.0 Wh: worn out"),
        # 3.2 Ah of 4.8 Ah at 11.4 V: two thirds
        (
            {"charge_full": "3200000", "charge_full_design": "4800000", "voltage_min_design": "11400000"},
            "fail",
            "36.5 of 54.7 Wh",
        ),
        ({"energy_full": "54000000", "energy_full_design": "54000000", "temp": "631"}, "fail", "at 63 °C"),
        ({"cycle_count": "3"}, "inconclusive", "does not report what it was made for"),
        # the kernel's own test battery: 100 microwatt hours
        ({"energy_full_design": "100", "energy_full": "100"}, "inconclusive", "design capacity of 0.000 Wh"),
    ],
)
def test_battery_wear(write_tree: WriteTree, files: dict[str, str], ended: str, words: str) -> None:
    (result,) = HandBench(TreeSystem(write_tree(battery(**files)))).run(wear.CHECK)
    assert (result.outcome, result.place) == (ended, "BAT0")
    assert words in result.why
    assert result.code == ("" if ended != "fail" else "A-120" if "63" in words else "A-110")


def test_the_battery_of_a_mouse_is_none_of_the_machine(write_tree: WriteTree) -> None:
    root = write_tree(battery(scope="Device", energy_full="1", energy_full_design="9"))
    assert outcomes(HandBench(TreeSystem(root)).run(wear.CHECK)) == ["inconclusive"]


@pytest.mark.parametrize(
    ("status", "moves_uwh", "power_uw", "ended"),
    [
        ("Discharging", -400_000, 12_000_000, "pass"),  # 12 W for 120 s is 0.4 Wh
        ("Charging", 400_000, 12_000_000, "pass"),
        ("Discharging", -900_000, 12_000_000, "fail"),
        ("Discharging", 400_000, 12_000_000, "fail"),
        ("Charging", 0, 12_000_000, "fail"),
        ("Discharging", -60_000, 1_800_000, "inconclusive"),  # too little to say anything
    ],
)
def test_battery_rate(write_tree: WriteTree, status: str, moves_uwh: int, power_uw: int, ended: str) -> None:
    def now(share: float) -> str:
        return str(int(25_000_000 + moves_uwh * share))

    root = write_tree(battery(status=status, energy_now=now(0), energy_full="50000000", power_now=str(power_uw)))
    bench = HandBench(TreeSystem(root))

    def move(at: float) -> None:
        gone = min(1.0, (at + 5.0 - 100.0) / 120.0)
        (root / BAT[1:] / "energy_now").write_text(f"{now(gone)}\n")

    bench.before_pause = move
    (result,) = bench.run(rate.CHECK)
    assert result.outcome == ended, result.why
    if status == "Discharging" and ended == "pass":
        lasts = next(each for each in result.figures if "lasts" in each.name)
        assert lasts.value == pytest.approx(24.6 / 12.0 * 60, abs=1)


@pytest.mark.parametrize(
    ("files", "ended"),
    [
        ({"status": "Not charging", "capacity": "60"}, "fail"),
        ({"status": "Not charging", "capacity": "80", "charge_control_end_threshold": "80"}, "inconclusive"),
        ({"status": "Full", "capacity": "100"}, "inconclusive"),
        ({"status": "Charging", "capacity": "92", "charge_control_end_threshold": "80"}, "fail"),
    ],
)
def test_a_battery_that_rests(write_tree: WriteTree, files: dict[str, str], ended: str) -> None:
    (result,) = HandBench(TreeSystem(write_tree(battery(**files) | MAINS))).run(rate.CHECK)
    assert result.outcome == ended


@pytest.mark.parametrize(
    ("files", "ended"),
    [
        (battery(status="Charging", power_now="9000000") | MAINS, "pass"),
        (battery(status="Discharging", power_now="14000000") | MAINS, "fail"),
        (battery(status="Discharging", power_now="14000000"), "inconclusive"),
        (MAINS, "inconclusive"),
    ],
)
def test_adapter(write_tree: WriteTree, files: dict[str, str | bytes], ended: str) -> None:
    bench = HandBench(TreeSystem(write_tree(files)))
    (result,) = bench.run(adapter.CHECK)
    assert result.outcome == ended
    there = "".join(files)
    assert bool(bench.blocks) == ("AC" in there and "BAT0" in there), "nothing is loaded in vain"


def test_an_adapter_that_is_too_weak_under_load_only(write_tree: WriteTree) -> None:
    """As soon as the load has ended the battery charges again: what counts is what it did meanwhile."""
    root = write_tree(battery(status="Charging", power_now="9000000") | MAINS)
    bench = HandBench(TreeSystem(root))

    def work(working: bool) -> None:
        (root / BAT[1:] / "status").write_text("Discharging\n" if working else "Charging\n")

    bench.in_load = work
    (result,) = bench.run(adapter.CHECK)
    assert result.outcome == "fail"
    assert result.figures[-1].value == 9.0


def test_a_battery_that_answers_no_more_under_load_says_nothing_of_the_adapter(write_tree: WriteTree) -> None:
    root = write_tree(battery(status="Charging") | MAINS)
    bench = HandBench(TreeSystem(root), loads=lambda _block: LoadSeen((), (), 45.0, {}), samples=0)
    (result,) = bench.run(adapter.CHECK)
    assert (result.outcome, result.missing) == ("inconclusive", "the battery could not be read under load")


@pytest.mark.parametrize(
    ("epoch", "vbat", "ended", "words"),
    [
        (1_774_000_000, 3.02, "pass", "keeps time"),
        (1_774_000_000, 2.41, "fail", "2.41 V left"),
        (1_774_000_000 + 3600, None, "pass", "another time zone"),
        (946_684_800, None, "fail", "before its firmware of 2024"),
        (1_774_000_000 - 100_000, None, "fail", "27.8 hours off"),
        (1_774_000_000 - 7200 - 130, None, "fail", "2.0 hours off"),
        (10**15, None, "fail", "shows no date at all"),
        (None, None, "inconclusive", "no clock of the board"),
    ],
)
def test_clock_battery(write_tree: WriteTree, epoch: int | None, vbat: float | None, ended: str, words: str) -> None:
    files: dict[str, str | bytes] = {"/sys/class/dmi/id/bios_date": "03/14/2024\n"}
    if epoch is not None:
        files["/sys/class/rtc/rtc0/since_epoch"] = f"{epoch}\n"
    system = TreeSystem(write_tree(files))
    system.wall = lambda: 1_774_000_010.0  # type: ignore[method-assign]
    channels = (Channel("b/in8", "VBAT", Quantity.VOLTAGE, PartKind.BOARD, "/x"),) if vbat is not None else ()
    bench = HandBench(system, channels=channels, values=lambda _at: (vbat,) if channels else ())
    (result,) = bench.run(clock.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


def test_a_clock_from_before_the_stick_was_made_lost_power(write_tree: WriteTree) -> None:
    now = 1_774_000_000
    files: dict[str, str | bytes] = {"/sys/class/rtc/rtc0/since_epoch": f"{now}\n"}
    for made, ended in ((now - 900, "pass"), (now + 3600, "pass"), (now + 40 * 86400, "fail")):
        system = TreeSystem(write_tree(files | {"/etc/thresher/built": f"{made}\n"}))
        system.wall = lambda: float(now)  # type: ignore[method-assign]
        (result,) = HandBench(system).run(clock.CHECK)
        assert result.outcome == ended, result.why
    assert "lost power" in result.why


def modules(*sizes: str) -> Inventory:
    parts = [
        Part(f"memory {n}", PartKind.MEMORY, "module", f"A{n}", (Fact("size", size, "t"),))
        for n, size in enumerate(sizes)
    ]
    return Inventory("bench", False, tuple(parts), ())


@pytest.mark.parametrize(
    ("sizes", "total_kib", "ended"),
    [
        (("16 GiB", "16 GiB"), 32_500_000, "pass"),
        (("16 GiB", "16 GiB"), 16_200_000, "fail"),
        ((), 16_200_000, "inconclusive"),
    ],
)
def test_memory_fitted(write_tree: WriteTree, sizes: tuple[str, ...], total_kib: int, ended: str) -> None:
    system = TreeSystem(write_tree({"/proc/meminfo": f"MemTotal:       {total_kib} kB\n"}))
    assert outcomes(HandBench(system, modules(*sizes)).run(fitted.CHECK)) == [ended]


def device(width: int, most: int, speed: str = "8.0", kind: str = "0x020000") -> dict[str, str | bytes]:
    here = "/sys/bus/pci/devices/0000:01:00.0"
    return {
        f"{here}/class": kind,
        f"{here}/current_link_width": str(width),
        f"{here}/max_link_width": str(most),
        f"{here}/current_link_speed": f"{speed} GT/s PCIe",
        f"{here}/max_link_speed": "8.0 GT/s PCIe",
    }


@pytest.mark.parametrize(
    ("files", "ended"),
    [
        (device(4, 4), "pass"),
        (device(1, 4), "fail"),
        (device(4, 4, "2.5"), "inconclusive"),
        (device(16, 16, "2.5", "0x030000"), "pass"),  # a card that rests
        ({}, "inconclusive"),
    ],
)
def test_links(write_tree: WriteTree, files: dict[str, str | bytes], ended: str) -> None:
    assert outcomes(HandBench(TreeSystem(write_tree(files))).run(links.CHECK)) == [ended]


GIB = 1 << 30


@pytest.mark.parametrize(
    ("coverage", "checked_s", "ended"),
    [
        (Coverage(14 * GIB, 16 * GIB, 1), 60.0, "pass"),
        (Coverage(14 * GIB, 16 * GIB, 0), 60.0, "inconclusive"),
        (None, 60.0, "inconclusive"),
        (Coverage(14 * GIB, 16 * GIB, 1), 0.0, "inconclusive"),
    ],
)
@pytest.mark.parametrize("check", [cells.SHORT, cells.LONG])
def test_memory_passes_only_when_every_free_cell_was_reached(
    tmp_path: Path, check: Check, coverage: Coverage | None, checked_s: float, ended: str
) -> None:
    bench = HandBench(TreeSystem(tmp_path), loads=lambda _block: LoadSeen((), (), checked_s, {}, coverage=coverage))
    (result,) = bench.run(check)
    assert result.outcome == ended
    assert [bench.until(Coverage(GIB, GIB, passes)) for passes in (0, 1)] == [False, True]
    if ended == "pass":
        assert [figure.text for figure in result.figures[:2]] == ["tested 14 GiB", "in the machine 16 GiB"]
    names = bench.blocks[0].patterns
    assert len(names) == (4 if check is cells.SHORT else 10)
    assert all(steps_of(name) for name in names)


EDID = b"\x00\xff\xff\xff\xff\xff\xff\x00" + bytes(120)


@pytest.mark.parametrize(
    ("files", "ended"),
    [
        (
            {"card0-DP-1/status": "connected\n", "card0-DP-1/edid": EDID, "card0-DP-2/status": "disconnected\n"},
            ["pass"],
        ),
        ({"card0-DP-1/status": "connected\n", "card0-DP-1/edid": b""}, ["fail"]),
        ({"card0-VGA-1/status": "connected\n", "card0-VGA-1/edid": b""}, ["inconclusive"]),
        ({"card0-DP-1/status": "disconnected\n"}, ["inconclusive"]),
        ({}, ["inconclusive"]),
    ],
)
def test_display_outputs(write_tree: WriteTree, files: dict[str, str | bytes], ended: list[str]) -> None:
    root = write_tree({f"/sys/class/drm/{name}": content for name, content in files.items()})
    assert outcomes(HandBench(TreeSystem(root)).run(outputs.CHECK)) == ended


FANS = tuple(
    Channel(f"b/fan{n}", name, Quantity.FAN, PartKind.COOLING, "/x")
    for n, name in enumerate(("CPU fan", "Case fan", "Pump"))
)


@pytest.mark.parametrize(
    ("speeds", "ended"),
    [((900.0, 0.0, 2400.0), "pass"), ((0.0, 700.0, 2400.0), "fail"), ((900.0, 700.0, 0.0), "fail")],
)
def test_fans_turn(tmp_path: Path, speeds: tuple[float, ...], ended: str) -> None:
    bench = HandBench(TreeSystem(tmp_path), channels=FANS, values=lambda _at: speeds)
    assert outcomes(bench.run(fans.CHECK)) == [ended]
    assert bench.at >= 106.0, "it looks for some seconds"


def test_without_fans_nothing_is_claimed(tmp_path: Path) -> None:
    assert outcomes(HandBench(TreeSystem(tmp_path)).run(fans.CHECK)) == ["inconclusive"]


@pytest.mark.parametrize(
    ("core_c", "use", "ended"),
    [(38.0, 2.0, "pass"), (81.0, 2.0, "fail"), (81.0, 90.0, "inconclusive"), (None, 2.0, "inconclusive")],
)
def test_idle_heat(tmp_path: Path, core_c: float | None, use: float, ended: str) -> None:
    channels = (
        Channel("c/t1", "Package", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/x"),
        Channel("c/use", "Use", Quantity.USE, PartKind.PROCESSOR, "/x"),
    )
    bench = HandBench(TreeSystem(tmp_path), channels=channels, values=lambda _at: (core_c, use))
    assert outcomes(bench.run(heat.CHECK)) == [ended]


STICK = {
    "1-2/bDeviceClass": "00\n",
    "1-2/speed": "480\n",
    "1-2/version": " 2.00\n",
    "1-2:1.0/bInterfaceClass": "08\n",
    "usb1/bDeviceClass": "09\n",
}


@pytest.mark.parametrize(
    ("files", "answers", "ended"),
    [
        (STICK, ["next", "done"], ["pass"]),
        (STICK | {"1-2/version": " 3.20\n"}, ["next", "done"], ["inconclusive"]),
        (STICK | {"1-2/version": " 2.10\n"}, ["next", "done"], ["inconclusive"]),  # a fast one in a slow port
        (STICK | {"1-2/version": " 3.20\n", "1-2/speed": "5000\n"}, ["next", "done"], ["pass"]),
        (STICK, ["dead", "next", "done"], ["fail", "pass"]),
        (STICK, ["next", "next", "done"], ["pass", "inconclusive"]),  # not moved
        ({}, ["next", "done"], ["fail"]),
        (STICK, ["done"], ["inconclusive"]),
    ],
)
def test_usb_ports(
    write_tree: WriteTree, files: dict[str, str], answers: list[str | Answer | None], ended: list[str]
) -> None:
    root = write_tree({"/sys/bus/usb/devices/usb1/bDeviceClass": "09\n"})
    bench = HandBench(TreeSystem(root), answers=answers, attended=True)
    # the stick is plugged in after the question
    bench.before_pause = lambda _at: plug(root, files)
    assert outcomes(bench.run(usb.CHECK)) == ended
    assert all(question.choices for question in bench.asked)


def plug(root: Path, files: dict[str, str]) -> None:
    for name, content in files.items():
        path = root / "sys/bus/usb/devices" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)


def test_the_stick_that_the_machine_runs_from_is_no_answer_of_a_port(write_tree: WriteTree) -> None:
    root = write_tree({f"/sys/bus/usb/devices/{name}": content for name, content in STICK.items()})
    bench = HandBench(TreeSystem(root), answers=["go on", "next", "done"], attended=True)
    (result,) = bench.run(usb.CHECK)
    assert "Pull it out" in bench.asked[0].text
    assert (result.outcome, result.place) == ("fail", "port 1")


def test_without_a_person_ports_are_left_and_that_is_said(tmp_path: Path) -> None:
    (result,) = HandBench(TreeSystem(tmp_path)).run(usb.CHECK)
    assert (result.outcome, result.missing) == ("needs a person", "a person")


def test_a_machine_has_what_its_inventory_lists(write_tree: WriteTree) -> None:
    with_battery = read_inventory(TreeSystem(write_tree(battery())))
    assert wear.CHECK.there(with_battery)
    assert not wear.CHECK.there(replace(with_battery, parts=()))


def test_a_load_that_could_not_begin_is_no_pass(tmp_path: Path, write_tree: WriteTree) -> None:
    del tmp_path
    bench = HandBench(TreeSystem(write_tree(battery(status="Charging") | MAINS)))
    bench.loads = lambda _block: LoadSeen((), (), 0.0, {}, "no CPU may be used")
    (result,) = bench.run(adapter.CHECK)
    assert (result.outcome, result.missing) == ("inconclusive", "no CPU may be used")


TWO_CORES = Inventory("bench", False, (), (LogicalCpu(0, 0, 0), LogicalCpu(1, 1, 0)))
CLOCKS = tuple(Channel(f"c/{n}", f"Core {n}", Quantity.CLOCK, PartKind.PROCESSOR, "/x", (), n) for n in (0, 1))
BASE: dict[str, str | bytes] = {
    f"/sys/devices/system/cpu/cpu{n}/cpufreq/{name}": khz
    for n in (0, 1)
    for name, khz in (("base_frequency", "3400000"), ("cpuinfo_max_freq", "4800000"))
}


def under_load(*clocks_ghz: tuple[float | None, float | None], findings: tuple[Finding, ...] = ()) -> LoadSeen:
    return LoadSeen(findings, tuple(Reading(float(n), clocks) for n, clocks in enumerate(clocks_ghz)), 20.0, {})


HOT = Finding("C-210", FindingKind.HEAT_THROTTLE, Severity.WARNING, PartKind.COOLING, 1.0, "Throttled by heat", "")


@pytest.mark.parametrize(
    ("files", "seen", "ended", "words"),
    [
        (BASE, under_load(*[(0.8, 0.8)] * 3, *[(3.6, 3.5)] * 12), "pass", "base clock with all cores"),
        (BASE, under_load(*[(3.6, 2.9)] * 12), "fail", "core 1 stays below its base clock of 3400 MHz; no heat limit"),
        (BASE, under_load(*[(3.6, 2.9)] * 12, findings=(HOT,)), "fail", "see to the cooling"),
        ({}, under_load(*[(3.6, 2.9)] * 12), "inconclusive", "does not report its base clock"),
        (BASE, under_load(*[(None, None)] * 12), "inconclusive", "does not report the clocks"),
    ],
)
def test_clocks(write_tree: WriteTree, files: dict[str, str | bytes], seen: LoadSeen, ended: str, words: str) -> None:
    bench = HandBench(TreeSystem(write_tree(files)), TWO_CORES, CLOCKS, loads=lambda _block: seen)
    (result,) = bench.run(clocks.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


@pytest.mark.parametrize(
    ("highest", "ended"),
    [((4.8, 4.7), "pass"), ((4.8, 3.5), "fail"), ((3.2, 3.2), "fail"), ((None, None), "inconclusive")],
)
def test_boost(write_tree: WriteTree, highest: tuple[float | None, float | None], ended: str) -> None:
    bench = HandBench(TreeSystem(write_tree(BASE)), TWO_CORES, CLOCKS)
    bench.loads = lambda _block: under_load(highest, highest)
    (result,) = bench.run(boost.CHECK)
    assert result.outcome == ended, result.why
    assert [block.cores for block in bench.blocks] == [(0,), (1,)], "each core by itself"


@pytest.mark.parametrize(
    ("beats", "ended", "words"),
    [
        ({0: 400, 1: 390}, "pass", "no core was slow"),
        ({0: 400, 1: 390, 2: 120}, "inconclusive", "core 2 was slow"),
        ({0: 4, 1: 1}, "pass", "too few searches"),
    ],
)
def test_primes(write_tree: WriteTree, beats: dict[int, int], ended: str, words: str) -> None:
    three = replace(TWO_CORES, cpus=(*TWO_CORES.cpus, LogicalCpu(2, 2, 0)))
    bench = HandBench(TreeSystem(write_tree({})), three, loads=lambda _block: LoadSeen((), (), 12.0, beats))
    (result,) = bench.run(primes.CHECK)
    assert (result.outcome, words in result.why) == (ended, True), result.why


WRONG = Finding(
    "P-104", FindingKind.WRONG_RESULT, Severity.FAULT, PartKind.PROCESSOR, 1.0, "Wrong result, core 1", "bit 7"
)


def test_a_wrong_answer_fails_with_what_was_found(tmp_path: Path) -> None:
    for check in (cores.CHECK, primes.CHECK, rounding.CHECK):
        bench = HandBench(TreeSystem(tmp_path), TWO_CORES, loads=lambda _block: LoadSeen((WRONG,), (), 12.0, {}))
        (result,) = bench.run(check)
        assert (result.outcome, result.code) == ("fail", "P-104")
        assert "Wrong result, core 1: bit 7" in result.why


def test_one_thread_has_nobody_to_pass_data_to(tmp_path: Path) -> None:
    alone = replace(TWO_CORES, cpus=TWO_CORES.cpus[:1])
    assert outcomes(HandBench(TreeSystem(tmp_path), alone).run(pairs.CHECK)) == ["inconclusive"]


RAILS = (
    Channel(
        "b/in1",
        "+12V",
        Quantity.VOLTAGE,
        PartKind.POWER,
        "/x",
        (Limit(11.4, LimitSide.ABOVE, "ATX12V"), Limit(12.6, LimitSide.BELOW, "ATX12V")),
    ),
)


@pytest.mark.parametrize(("volts", "ended"), [(11.9, "pass"), (11.31, "fail"), (12.7, "fail")])
def test_rails(tmp_path: Path, volts: float, ended: str) -> None:
    bench = HandBench(TreeSystem(tmp_path), TWO_CORES, RAILS, values=lambda _at: (12.05,))
    bench.loads = lambda _block: LoadSeen((), tuple(Reading(200.0 + n, (volts,)) for n in range(25)), 25.0, {})
    (result,) = bench.run(rails.CHECK)
    assert result.outcome == ended, result.why
    assert [block.load for block in bench.blocks] == ["matrix"]


def test_without_rails_a_meter_is_asked_for(tmp_path: Path) -> None:
    (result,) = HandBench(TreeSystem(tmp_path), TWO_CORES).run(rails.CHECK)
    assert "use a meter" in result.missing
