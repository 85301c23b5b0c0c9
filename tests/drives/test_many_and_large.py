"""A hundred drives, drives beyond 2 TiB, counts that rise on the bench, files that a crash has left."""

import json
import os
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from tests.crash.engine_process import EngineProcess
from tests.drives.test_drive_service import with_drive
from thresher.cli.app import main
from thresher.drives.scan import Scan, ScanForm, ScanPlan
from thresher.engine.engine import Engine
from thresher.inventory.machine import read_inventory
from thresher.machine.scratch_file import scratch_name
from thresher.model.channels import Channel, Quantity
from thresher.model.findings import Finding, FindingKind
from thresher.proving.cases import draw_case
from thresher.proving.fault_catalogue import OF_DRIVES
from thresher.sensors import hwmon
from thresher.shop.scratch_files import note_scratch_file
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import DriveSpec, Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
TIB = 1 << 40


def drive_named(number: int) -> DriveSpec:
    """One of many drives: sda, sdb, … sdz, sdaa, …"""
    letters = chr(97 + number) if number < 26 else chr(96 + number // 26) + chr(97 + number % 26)
    return DriveSpec(
        name=f"sd{letters}",
        model="Tidewater T8 8TB",
        serial=f"TW8-{number:05d}",
        firmware="0004",
        size_bytes=8_001_563_222_016,
        rotation=7200,
        reallocated=60 if number == 77 else 0,
        pending=(5_000_000_000,) if number == 77 else (),
    )


def test_a_hundred_drives_are_read_each_for_itself(make_engine: MakeEngine, ferry: Scenario) -> None:
    many = replace(ferry, drives=tuple(drive_named(number) for number in range(100)))
    engine, _heard = make_engine(many)
    engine.watch(5)
    drives = [part for part in engine.inventory.parts if part.tag.startswith("drive ")]
    assert len(drives) == 100
    health = {part.place: part.fact("health") for part in drives}
    assert health.pop("sdbz") == "copy the data off now"  # number 77: after 26 and two times 26 less one
    assert set(health.values()) == {"fine"}
    assert {finding.place for finding in engine.findings} == {"sdbz"}


def test_a_bad_sector_beyond_two_tebibytes_is_found(ferry: Scenario) -> None:
    far = 3 * TIB // 512 + 11  # its number does not fit into 32 bits
    assert far > 1 << 32
    machine = SimulatedMachine(with_drive(ferry, pending=(far,), rotation=7200), 0.0)
    blocks = machine.open_blocks("/dev/sda")
    begin = 3 * TIB - (4 << 20)
    plan = ScanPlan(blocks.size, begin, begin + (16 << 20), depth=1, sector=blocks.sector, form=ScanForm.RANGE)
    scan = Scan(plan, blocks.read_at, clock=blocks.clock, after_block=blocks.rest)
    assert scan.advance(1e9)
    (bad,) = scan.progress().bad
    assert (bad.offset, bad.length) == (far * 512, 512)


def test_a_count_that_rises_on_the_bench_is_a_finding(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_drive(ferry, decays=40.0, rotation=7200, size_bytes=400_000_000_000))
    engine.watch(2)
    assert engine.findings == ()
    found: tuple[Channel, ...] = engine.channels
    (channel,) = (each for each in found if each.key == "drive/sda/pending")
    assert (channel.name, channel.quantity) == ("drive sda pending sectors", Quantity.COUNT)
    engine.scans.start("sda", quick=False, go_on=False, anyway=True)
    engine.watch(900)
    findings: tuple[Finding, ...] = engine.findings
    grown = [each for each in findings if each.channel == "drive/sda/pending"]
    assert grown
    assert {(each.kind, each.code) for each in grown} == {(FindingKind.DRIVE_FAILED, "D-341")}
    assert "in all" in grown[0].detail


def test_the_temperature_of_a_drive_has_its_name_and_rises_with_work(ferry: Scenario) -> None:
    machine = SimulatedMachine(with_drive(ferry, heats_k=15.0, idle_c=34.0, rotation=7200), 0.0)
    inventory = read_inventory(machine)
    probe = next(each for each in hwmon.find(machine, inventory, []) if each.channels[0].name == "drive sda")
    assert {limit.value for limit in probe.channels[0].limits} == {55.0, 60.0}
    path = probe.channels[0].source
    cold = int(machine.read(path))
    assert 34_000 <= cold <= 36_000  # the case is a little warmer than the room
    blocks = machine.open_blocks("/dev/sda")
    while blocks.clock() < 600:  # three times as long as it takes to warm up to two thirds
        blocks.rest(0, 1 << 30)
    assert 13_000 <= int(machine.read(path)) - cold <= 15_000


def test_what_a_crash_left_is_removed_when_the_bench_opens(tmp_path: Path) -> None:
    shop = tmp_path / "shop"
    shop.mkdir()
    left = tmp_path / scratch_name(os.urandom(8))
    left.write_bytes(bytes(1 << 20))
    note_scratch_file(shop, str(left))
    engine = EngineProcess(tmp_path, "--shop", str(shop))
    try:
        until = time.monotonic() + 30
        while left.exists() and time.monotonic() < until:
            time.sleep(0.05)
        assert not left.exists()
    finally:
        engine.close()


# ---- in the terminal


def test_the_verified_load_in_the_terminal(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    words = ["drive", "load", "nvme0n1", "--simulate", "ferry-office", "--for", "20 s", "--size", "64 MiB", "--json"]
    assert main([*words, "--shop", str(tmp_path / "shop")]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["name"] == "nvme0n1"
    assert told["progress"]["wrong_count"] == 0
    assert told["progress"]["compared"] > 0
    refused = ["drive", "load", "sda", "--simulate", "school-library", "--for", "5 s"]
    assert main([*refused, "--shop", str(tmp_path / "shop")]) == 2
    assert "the drive is dying" in capsys.readouterr().err


# ---- the proving ground


def test_only_faults_of_drives_are_drawn_where_that_is_wanted() -> None:
    cases = [draw_case(3, number, only=OF_DRIVES) for number in range(300)]
    drawn = {trouble.fault.kind for case in cases for trouble in case.troubles}
    assert drawn == set(OF_DRIVES)
    misleading = {fault.kind for case in cases for fault in case.misleads}
    assert misleading == {FaultKind.FILE_SYSTEM}
    for case in cases:
        if any(trouble.fault.kind in (FaultKind.DRIVE_CABLE, FaultKind.DRIVE_PORT) for trouble in case.troubles):
            assert case.machine.drives[0].name == "sda"  # an M.2 drive has no cable
