"""A machine that comes back: visits, what was done, how temperatures and drives have moved, parts from elsewhere."""

import shutil
from dataclasses import replace
from pathlib import Path

import pytest

from thresher.app.demo_runs import record_earlier_visit
from thresher.inventory.identity import machine_key
from thresher.inventory.machine import read_inventory
from thresher.journal.jobfile import create_job
from thresher.model.checks import CheckOutcome, CheckResult, Figure
from thresher.model.parts import Fact, Inventory, Part, PartKind
from thresher.report.history import history_of
from thresher.shop.check_history import keep_results
from thresher.shop.drive_history import note_counts
from thresher.shop.store import Visit, change_machine, machine_path
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

_DAY = 86_400.0
_FIRST, _SECOND = 1_740_000_000.0, 1_765_000_000.0


@pytest.fixture(scope="module")
def loft() -> Scenario:
    return load_scenario(shipped_scenarios()["sail-loft"])


@pytest.fixture(scope="module")
def two_visits(tmp_path_factory: pytest.TempPathFactory, loft: Scenario) -> Path:
    """A bench with two jobs of one machine, as it was clean and as it was dusty."""
    bench = tmp_path_factory.mktemp("bench")
    (bench / "jobs").mkdir()
    inventory = read_inventory(SimulatedMachine(loft, speed=0.0))
    key = machine_key(inventory)
    assert key is not None
    clean = tuple(each for each in loft.faults if each.kind is not FaultKind.CLOGGED_HEATSINK)
    for number, wall, faults, done in (("0305", _FIRST, clean, "Memory reseated"), ("0377", _SECOND, loft.faults, "")):
        path = bench / "jobs" / f"{number}.thresher"
        create_job(path, {"number": number, "machine": loft.title, "symptoms": "hot or loud"})
        record_earlier_visit(path, replace(loft, faults=faults), wall, 21.0, done or "Looked at")
        visit = Visit(wall=wall, job=path.name, number=number, parts=inventory.parts)
        change_machine(bench / "shop", key, lambda file, new=visit: file.visited(new))  # type: ignore[misc]
    return bench


@pytest.fixture
def bench(two_visits: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(two_visits, tmp_path / "bench"))


def machine_of(loft: Scenario) -> tuple[Inventory, str]:
    inventory = read_inventory(SimulatedMachine(loft, speed=0.0))
    key = machine_key(inventory)
    assert key is not None
    return inventory, key


def test_visits_come_newest_first_with_what_was_done_and_proved(bench: Path) -> None:
    found = history_of(bench / "jobs" / "0377.thresher", bench / "shop")
    assert [(each.number, each.came_with, each.done) for each in found.visits] == [
        ("0377", "hot or loud", "Looked at"),
        ("0305", "hot or loud", "Memory reseated"),
    ]
    assert found.visits[1].proved.startswith("22 min of full load after the repair (matrix)")
    assert found.troubles == ()


def test_temperatures_at_the_same_load_are_a_trend(bench: Path) -> None:
    (trend,) = history_of(bench / "jobs" / "0377.thresher", bench / "shop").trends
    assert (trend.title, trend.unit) == ("Hottest CPU under matrix", "°C")
    (first, clean), (second, dusty) = trend.points
    assert (first, second) == (_FIRST, _SECOND)
    assert 70 < clean < 85 and 90 < dusty < 96  # dust alone lifts it to its limit of 95 °C


def test_drives_and_batteries_have_trends_of_their_own(bench: Path, loft: Scenario) -> None:
    inventory, key = machine_of(loft)
    drive = inventory.parts_of(PartKind.DRIVE)[0]
    for wall, count in ((_FIRST, 0), (_SECOND, 4)):
        note_counts(bench / "shop", drive.name, drive.fact("serial"), wall, {"bad sectors": count, "starts": 9})
        figure = Figure("capacity left", 90.0 - 10 * count, "%")
        result = CheckResult("battery", PartKind.BATTERY, CheckOutcome.PASS, "fine", (figure,), wall=wall)
        keep_results(bench / "shop", key, f"job at {wall:.0f}", (result,))
    titles = {each.title: each.points for each in history_of(bench / "jobs" / "0377.thresher", bench / "shop").trends}
    assert titles[f"{drive.name}: bad sectors"] == ((_FIRST, 0.0), (_SECOND, 4.0))
    assert f"{drive.name}: starts" not in titles
    assert titles["battery: capacity left"] == ((_FIRST, 90.0), (_SECOND, 50.0))


def test_a_part_that_was_in_another_machine_is_recognised_by_its_serial(bench: Path, loft: Scenario) -> None:
    inventory, _ = machine_of(loft)
    drive = inventory.parts_of(PartKind.DRIVE)[0]
    other = Part("drive sda", PartKind.DRIVE, drive.name, "sda", (Fact("serial", drive.fact("serial"), "here"),))
    visit = Visit(wall=_FIRST - _DAY, job="0100.thresher", number="0100", parts=(other,))
    change_machine(bench / "shop", "ff" * 8, lambda file: replace(file.visited(visit), name="School server"))
    (moved,) = history_of(bench / "jobs" / "0377.thresher", bench / "shop").moved
    assert moved == f"drive {drive.name}, serial {drive.fact('serial')}, was in School server (job 0100)"


def test_what_is_gone_or_damaged_is_listed_with_its_reason(bench: Path, loft: Scenario) -> None:
    (bench / "jobs" / "0305.thresher").unlink()
    found = history_of(bench / "jobs" / "0377.thresher", bench / "shop")
    assert found.visits[1].trouble == "its job file is not on this bench"
    (bench / "jobs" / "0305.thresher").write_bytes(b"broken")
    assert "not a Thresher job file" in history_of(bench / "jobs" / "0377.thresher", bench / "shop").visits[1].trouble
    machine_path(bench / "shop", machine_of(loft)[1]).write_text("{", encoding="utf-8")
    found = history_of(bench / "jobs" / "0377.thresher", bench / "shop")
    assert found.visits == () and "cannot be used" in found.troubles[0]


def test_a_job_without_a_machine_says_so(bench: Path) -> None:
    create_job(bench / "jobs" / "0500.thresher", {"number": "0500"})
    assert history_of(bench / "jobs" / "0500.thresher", bench / "shop").troubles == ("The job holds no machine yet.",)
