"""Sensors that give themselves away under load, alarms that chips give, and a drive that stalls."""

import sqlite3
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.conftest import Heard
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Baseline, Channel, Quantity, Tick
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet
from thresher.protocol.events import FindingEvent
from thresher.sensors.alarms import AlarmReader, find_alarms
from thresher.sensors.running_sanity import RunningSanity
from thresher.sensors.sanity import take_baseline
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
MakeSheet = Callable[[float], RunSheet]
WriteTree = Callable[[dict[str, str | bytes]], Path]


def hot(name: str, kind: PartKind = PartKind.PROCESSOR, core: int | None = None) -> Channel:
    return Channel(f"chip/x/{name}", name, Quantity.TEMPERATURE, kind, "/sys/x", (), core)


def doubts(channels: tuple[Channel, ...], rows: Sequence[tuple[float, ...]]) -> dict[str, str]:
    sanity = RunningSanity(channels)
    found = [doubt for at, row in enumerate(rows) for doubt in sanity.look(Tick(float(at), 0.0, row, {}))]
    assert len({doubt.channel for doubt in found}) == len(found), "each is told once"
    return {doubt.channel.rpartition("/")[2]: doubt.code for doubt in found}


def test_a_die_may_rise_at_once_and_a_heatsink_may_not() -> None:
    rows = [(30.0, 30.0), (65.0, 65.0)] * 20
    assert doubts((hot("Core 0"), hot("Board", PartKind.BOARD)), rows) == {"Board": "X-837"}


def test_a_core_that_does_not_follow_the_load_is_doubted() -> None:
    cores = tuple(hot(f"Core {n}", core=n) for n in range(3))
    rising = [(30.0 + t / 3, 41.0, 31.0 + t / 3) for t in range(60)]
    assert doubts(cores, rising) == {"Core 1": "X-838"}
    quiet = [(30.0, 41.0, 31.0)] * 60
    assert doubts(cores, quiet) == {}


def test_a_twin_that_wanders_is_doubted_and_a_constant_offset_is_not() -> None:
    channels = (hot("Tctl"), hot("Tdie"), hot("Package id 0"))
    rows = [(67.0 + t, 40.0 + t, 41.0 + t - (30.0 if t > 25 else 0.0)) for t in range(40)]
    assert doubts(channels, rows) == {"Package id 0": "X-832"}
    assert doubts(channels, rows[:20]) == {}
    sockets = (hot("Package id 0"), hot("Package id 1"))
    apart = [(40.0 + t, 40.0 + t % 2) for t in range(60)]
    assert doubts(sockets, apart) == {}, "two processors need not agree"
    values = np.tile([40.0, 75.0], (40, 1)) + np.random.default_rng(2).normal(0, 0.3, (40, 2))
    assert take_baseline(sockets, values, {}, 0.0, 40.0).doubts == ()


def test_the_control_temperature_is_measured_against_the_die() -> None:
    noise = np.random.default_rng(1).normal(0, 0.3, 40)
    channels = (hot("Tctl"), hot("Tdie"))
    found: Baseline = take_baseline(channels, np.column_stack((62 + noise, 35 + noise)), {}, 0.0, 40.0)
    (doubt,) = found.doubts
    assert (doubt.code, doubt.channel) == ("X-833", "chip/x/Tctl")
    assert "27 K above Tdie" in doubt.detail
    assert "fans turn earlier" in doubt.detail


def test_a_jumping_sensor_loses_its_say_in_the_middle_of_a_run(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    path = "/sys/class/hwmon/hwmon1/temp2_input"
    jumps = Fault(kind=FaultKind.CHANNEL_JUMPS, path=path, strength=40000, after_s=10)
    engine, heard = make_engine(replace(lighthouse, faults=(jumps,)))
    engine.run_to_end(sheet(40))
    cpu = next(each for each in engine.channels if each.name == "CPU")
    assert cpu.distrust.startswith("Reading that jumps")
    assert "X-837" in heard.codes()
    assert any("ignored from now on" in line for line in heard.tape())
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        (run,) = stored.runs()
    assert next(each for each in run.channels if each.name == "CPU").distrust == cpu.distrust


def test_a_sensor_that_the_technician_believes_is_not_doubted_again(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    path = "/sys/class/hwmon/hwmon1/temp2_input"
    jumps = Fault(kind=FaultKind.CHANNEL_JUMPS, path=path, strength=40000, after_s=1)
    engine, heard = make_engine(replace(lighthouse, faults=(jumps,)), shop=tmp_path / "shop")
    engine.machine.set_trust(next(each.key for each in engine.channels if each.name == "CPU"), True, "checked")
    engine.run_to_end(sheet(30))
    assert "X-837" not in heard.codes()


BITS: dict[str, str | bytes] = {
    "/sys/class/hwmon/hwmon0/name": "boardmon\n",
    "/sys/class/hwmon/hwmon0/fan1_alarm": "0\n",
    "/sys/class/hwmon/hwmon0/fan1_label": "CPU fan\n",
    "/sys/class/hwmon/hwmon0/in0_alarm": "1\n",
    "/sys/class/hwmon/hwmon0/temp2_fault": "0\n",
    "/sys/class/hwmon/hwmon0/temp1_crit_alarm": "0\n",
    "/sys/class/hwmon/hwmon0/beep_enable": "1\n",
}


def test_alarms_are_reported_when_they_come_and_go_and_those_from_before_as_such(write_tree: WriteTree) -> None:
    root = write_tree(BITS)
    system = TreeSystem(root)
    bits = find_alarms(system)
    assert [(bit.name, bit.fault) for bit in bits] == [
        ("CPU fan, limit", False),
        ("boardmon in0, limit", False),
        ("boardmon temp1, crit", False),
        ("boardmon temp2", True),
    ]
    reader = AlarmReader(system, bits)
    assert [(change.bit.name, change.first) for change in reader.look(0.0)] == [("boardmon in0, limit", True)]
    (root / "sys/class/hwmon/hwmon0/fan1_alarm").write_text("1\n")
    (root / "sys/class/hwmon/hwmon0/temp2_fault").write_text("1\n")
    assert reader.look(2.0) == [], "they are looked at every five seconds"
    changes = reader.look(6.0)
    assert [(change.bit.name, change.on, change.first) for change in changes] == [
        ("CPU fan, limit", True, False),
        ("boardmon temp2", True, False),
    ]
    assert changes[1].bit.channel.endswith("/temp2")
    (root / "sys/class/hwmon/hwmon0/fan1_alarm").write_text("0\n")
    assert [(change.bit.name, change.on) for change in reader.look(12.0)] == [("CPU fan, limit", False)]
    reader.close()


def test_a_drive_that_stalls_delays_no_tick_and_is_a_finding(
    make_engine: MakeEngine, ferry: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    engine, heard = make_engine(replace(ferry, speed=8.0))
    engine._system.speed = 8.0
    # another program holds the file for five seconds, as a drive would that does not answer
    holder = sqlite3.connect(tmp_path / "job.thresher", isolation_level=None, check_same_thread=False)

    def hold() -> None:
        time.sleep(0.5)
        holder.execute("BEGIN IMMEDIATE")
        time.sleep(4.4)
        holder.execute("ROLLBACK")

    thread = threading.Thread(target=hold)
    thread.start()
    engine.run_to_end(sheet(60))
    thread.join()
    holder.close()
    stalls = [e.finding for e in heard.events if isinstance(e, FindingEvent)]
    assert [finding.kind for finding in stalls] == [FindingKind.DRIVE_STALL]
    assert stalls[0].code == "D-410"
    assert any("responds again" in line for line in heard.tape())
    assert engine.health().late == 0
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        (run,) = stored.runs()
        at = stored.readings(run).at
    assert len(at) >= 60
    assert np.diff(at) == pytest.approx(1.0, abs=0.2), "no row was lost or late"
