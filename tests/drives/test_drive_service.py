"""Drives are asked when a bench opens: doubts, findings once a job, facts with their source, and what has grown."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import msgspec
import pytest

from tests.conftest import Heard
from thresher.engine.engine import Engine
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import FindingKind
from thresher.protocol.events import ScanEvent
from thresher.shop.drive_history import Counted, drive_path, grown, note_counts
from thresher.simulator.scenario import DriveSpec, Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
DAY = 86_400.0


def with_drive(scenario: Scenario, **changed: object) -> Scenario:
    spec = DriveSpec(
        name="sda", model="Tidewater T4 4TB", serial="TW4-1", firmware="0003", size_bytes=4_000_787_030_016
    )
    return replace(scenario, drives=(replace(spec, **changed),))  # type: ignore[arg-type]


def test_a_dying_drive_is_a_finding_once_in_a_job(make_engine: MakeEngine, ferry: Scenario) -> None:
    dying = with_drive(ferry, pending=(81920, 81928), reallocated=12, rotation=7200)
    engine, heard = make_engine(dying)
    engine.watch(3)
    (finding,) = (each for each in engine.findings if each.code == "D-341")
    assert (finding.kind, finding.place) == (FindingKind.DRIVE_FAILED, "sda")
    assert any("The drive counts bad sectors" in line and "sda" in line for line in heard.tape())
    (part,) = (each for each in engine.inventory.parts if each.tag == "drive sda")
    facts = {fact.name: fact.value for fact in part.facts}
    assert facts["health"] == "copy the data off now"
    assert facts["pending sectors listed"] == "2"
    assert {doubt.code for doubt in engine.inventory.doubts if doubt.part == "drive sda"} == {"D-341"}
    verdict = engine.verdict
    assert verdict is not None
    assert verdict.suspects[0].mode == "drive.media"
    engine.close()
    again, _ = make_engine(dying)
    again.watch(3)
    assert len([each for each in again.findings if each.code == "D-341"]) == 1


def test_a_bad_cable_points_at_the_cable(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_drive(ferry, link_crc=400, link_gbps=1.5))
    engine.watch(3)
    assert {each.code for each in engine.findings} == {"D-322"}
    assert engine.verdict is not None
    assert engine.verdict.suspects[0].mode == "drive.link"


def test_a_healthy_drive_accuses_nothing(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_drive(ferry))
    engine.watch(3)
    assert engine.findings == ()
    (part,) = (each for each in engine.inventory.parts if each.tag == "drive sda")
    assert ("health", "fine") in {(fact.name, fact.value) for fact in part.facts}


def test_a_silent_drive_is_reported_and_the_bench_goes_on(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, silent=True))
    engine.watch(3)
    assert any("the drive does not answer: no answer in 15 s" in line for line in heard.tape())


def test_what_has_grown_since_the_last_visit_is_said(tmp_path: Path) -> None:
    first = {"pending sectors": 3, "CRC errors on the link": 40}
    assert note_counts(tmp_path, "T4", "1", 1.7e9, first) == ()
    assert note_counts(tmp_path, "T4", "1", 1.7e9 + 60, first) == ()  # the same day
    later = {"pending sectors": 15, "CRC errors on the link": 40, "reallocated sectors": 2}
    (words,) = note_counts(tmp_path, "T4", "1", 1.7e9 + 30 * DAY, later)
    assert words == "12 more pending sectors since 14 Nov 2023"
    assert note_counts(tmp_path, "T4", "2", 1.7e9 + 60 * DAY, first) == ()  # another drive
    kept = msgspec.json.decode(drive_path(tmp_path, "T4", "1").read_bytes())
    assert [visit["counts"]["pending sectors"] for visit in kept["visits"]] == [3, 15]
    assert grown(Counted(wall=1.7e9, counts={}), later) == ()


def test_a_drive_that_gets_worse_is_doubted_at_its_next_visit(
    make_engine: MakeEngine, ferry: Scenario, tmp_path: Path
) -> None:
    engine, _ = make_engine(with_drive(ferry, link_crc=3), "one.thresher", shop=tmp_path / "shop")
    engine.watch(2)
    assert not engine.inventory.doubts
    engine.close()
    later = replace(with_drive(ferry, link_crc=9), start="2026-09-01T08:00:00+02:00")
    engine, heard = make_engine(later, "two.thresher", shop=tmp_path / "shop")
    engine.watch(2)
    assert any("6 more CRC errors on the link since 18 Mar 2026" in line for line in heard.tape())


def test_a_scan_from_the_bench_finds_the_bad_place_and_says_so(
    make_engine: MakeEngine, ferry: Scenario, tmp_path: Path
) -> None:
    small = with_drive(ferry, pending=(81920, 81921), rotation=7200, size_bytes=8_000_000_000)
    engine, heard = make_engine(small, shop=tmp_path / "shop")
    engine.watch(2)
    with pytest.raises(EnvironmentFault, match="the drive is dying"):
        engine.scans.start("sda", quick=False, go_on=False, anyway=False)
    with pytest.raises(InputError, match="no drive 'sdz'"):
        engine.scans.start("sdz", quick=False, go_on=False, anyway=True)
    assert engine.scans.start("sda", quick=False, go_on=False, anyway=True).running
    engine.watch(60)
    on_its_way = engine.snapshot().scan
    assert on_its_way is not None
    assert on_its_way.running
    assert 0.02 < on_its_way.share < 0.5  # the time of a drive that turns has to pass
    engine.watch(240)
    scan = engine.snapshot().scan
    assert scan is not None
    assert (scan.running, scan.share, scan.bad) == (False, 1.0, (81920,))
    assert scan.words.startswith("read through: 1 place cannot be read")
    assert len(scan.slowest_ms) == len(scan.errors) == len(scan.rates) == 2000
    assert all(rate is not None and 0 < rate < 300 for rate in scan.rates)
    assert not scan.sampled
    assert (scan.errors[10], sum(scan.errors)) == (1, 1)  # 41.9 MB of 8 GB, in strokes of 4 MB
    assert max(value or 0.0 for value in scan.slowest_ms) > 1000
    (finding,) = (each for each in engine.findings if each.code == "D-310")
    assert finding.detail == "sector 81920 to 81921: found by a read scan"
    assert any("Read scan of sda ended" in line for line in heard.tape())
    assert any(isinstance(event, ScanEvent) for event in heard.events)
    with pytest.raises(EnvironmentFault, match="no scan of this drive was stopped"):
        engine.scans.start("sda", quick=False, go_on=True, anyway=True)
    engine.scans.start("sda", quick=True, go_on=False, anyway=True)
    engine.watch(30)
    assert len([each for each in engine.findings if each.code == "D-310"]) == 1  # the same place once


def test_a_sample_reads_the_places_that_the_drive_itself_lists(make_engine: MakeEngine, ferry: Scenario) -> None:
    listed = (1_000_000_007, 7_000_000_001)
    engine, _ = make_engine(with_drive(ferry, pending=listed, rotation=7200))
    engine.watch(2)
    engine.scans.start("sda", quick=True, go_on=False, anyway=True)
    engine.watch(1500)  # a drive takes seconds over each bad sector
    scan = engine.snapshot().scan
    assert scan is not None
    assert scan.sampled
    assert " places of 4001 GB read: 2 places cannot be read" in scan.words
    assert set(scan.bad) == set(listed)


def test_a_region_is_read_by_itself_and_what_is_known_of_the_rest_stays(
    make_engine: MakeEngine, ferry: Scenario, tmp_path: Path
) -> None:
    small = with_drive(ferry, pending=(2_000_000, 12_000_000), rotation=7200, size_bytes=8_000_000_000)
    engine, heard = make_engine(small, shop=tmp_path / "shop")
    engine.watch(2)
    engine.scans.start("sda", quick=False, go_on=False, anyway=True)
    engine.watch(300)
    whole = engine.snapshot().scan
    assert whole is not None
    assert whole.bad == (2_000_000, 12_000_000)
    with pytest.raises(InputError, match="a begin before its end"):
        engine.scans.start("sda", quick=False, go_on=False, anyway=True, region=(5_000_000_000, 4_000_000_000))
    with pytest.raises(InputError, match=r"within 8\.0 GB"):
        engine.scans.start("sda", quick=False, go_on=False, anyway=True, region=(9_000_000_000, 10_000_000_000))
    engine.scans.start("sda", quick=False, go_on=False, anyway=True, region=(6_000_000_000, 7_000_000_000))
    engine.watch(60)
    region = engine.snapshot().scan
    assert region is not None
    assert (region.running, region.bad) == (False, (12_000_000,))
    read = [number for number, slowest in enumerate(region.slowest_ms) if slowest is not None]
    assert 1490 <= read[0] <= 1500
    assert 1745 <= read[-1] <= 1755
    assert any("from 6.0 to 7.0 GB" in line for line in heard.tape())
    assert region.words.startswith("1.0 GB of 8 GB read: 1 place cannot be read")
    (kept,) = (tmp_path / "shop" / "drives").glob("*.scan.json")
    assert msgspec.json.decode(kept.read_bytes())["bad"] == [2_000_000 * 512, 12_000_000 * 512]


def test_a_slow_link_alone_is_a_doubt_by_its_own_name(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(with_drive(ferry, link_gbps=3.0))
    engine.watch(3)
    (doubt,) = (each for each in engine.inventory.doubts if each.part == "drive sda")
    assert (doubt.code, doubt.title) == ("D-321", "The drive's link is slower than both ends can")
    assert doubt.detail == "the link runs at 3 of 6 Gb/s that the drive can do"
    assert engine.findings == ()
