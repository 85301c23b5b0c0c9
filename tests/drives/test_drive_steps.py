"""Blocks of drives on a run sheet, on simulated machines: read, tested, written and compared beside other loads."""

from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from tests.drives import test_drive_service as service
from tests.drives.test_drive_service import MakeEngine
from thresher.compose.announce import warnings
from thresher.compose.details import fields_of, shown_text
from thresher.compose.ready_made import Pick, Wish, block_of
from thresher.compose.sheet_faults import sheet_faults
from thresher.compose.sheet_file import load_sheet, parse_sheet, shipped_sheets
from thresher.compose.sheet_text import sheet_text
from thresher.loads.drive_loads import DriveUse
from thresher.model.errors import InputError
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending
from thresher.model.sheet import Block, RunSheet
from thresher.simulator.scenario import Scenario

SMALL = 12_000_000_000


def with_drive(scenario: Scenario, **changed: object) -> Scenario:
    """The machine with a SATA drive beside its own one."""
    both = service.with_drive(scenario, **changed)
    return replace(both, drives=(*scenario.drives, *both.drives))


def block(use: DriveUse, seconds: float, start: float = 0.0, drives: tuple[str, ...] = ("sda",)) -> Block:
    return Block(PartKind.DRIVE, use.value, start, seconds, drives=drives)


def sheet(*blocks: Block) -> RunSheet:
    return RunSheet("Drives", blocks)


def test_a_drive_is_tested_then_read_and_what_follows_moves_up(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, size_bytes=SMALL))
    status = engine.run_to_end(sheet(block(DriveUse.SHORT_TEST, 300), block(DriveUse.READ_ALL, 900, 300)))
    assert status.ending is Ending.FINISHED
    tape = "\n".join(heard.tape())
    assert "Short self-test of sda begins: 2 min by the drive's estimate" in tape
    assert "Short self-test of sda ended: passed" in tape
    assert "Read scan of sda ended: read through: every place could be read" in tape
    assert engine.findings == ()
    assert status.run_at < 400  # two minutes of test, half a minute of flash, and no waiting for planned ends
    minutes = Counter[str]()
    for each in engine.conductor.exposures():
        minutes[each.load] += each.minutes  # type: ignore[assignment]
    assert 1.9 < minutes["short self-test"] < 2.3
    assert minutes["read all"] > 0


def test_a_read_goes_on_until_it_is_through(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, size_bytes=SMALL, rotation=7200))
    status = engine.run_to_end(sheet(block(DriveUse.READ_ALL, 5)))
    assert status.ending is Ending.FINISHED
    assert status.run_at > 60
    assert any("read through" in line for line in heard.tape())


def test_bad_sectors_failed_tests_and_wrong_data_become_findings(make_engine: MakeEngine, ferry: Scenario) -> None:
    bad = with_drive(ferry, size_bytes=SMALL, decays=400.0, flips=0.01, lies=0.01, stalls=0.02)
    engine, _ = make_engine(bad, coarse=True)
    engine.run_to_end(sheet(block(DriveUse.VERIFIED, 240), block(DriveUse.LONG_TEST, 6000, 240)))
    codes = {each.code for each in engine.findings}
    assert {"D-346", "D-347", "D-332"} <= codes
    wrong = [each for each in engine.findings if each.code == "D-347"]
    assert len(wrong) == 5  # and no more of one code
    assert {each.kind for each in wrong} == {FindingKind.DRIVE_DATA}
    assert {each.place for each in wrong} == {"sda"}
    assert {each.load for each in wrong} == {"write and compare"}


def test_a_drive_that_goes_away_ends_its_work_and_the_run_goes_on(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, size_bytes=400_000_000_000, gone_after_s=20.0))
    late = replace(block(DriveUse.READ_SAMPLE, 60, 300), drives=("nvme0n1",))
    status = engine.run_to_end(sheet(block(DriveUse.READ_ALL, 300), late))
    assert status.ending is Ending.FINISHED
    (gone,) = (each for each in engine.findings if each.code == "D-331")
    assert gone.kind is FindingKind.DRIVE_SILENT
    assert any("stopped at" in line and "the drive dropped out" in line for line in heard.tape())
    assert any("Read scan of nvme0n1 ended: " in line and " places of " in line for line in heard.tape())


def test_a_dying_drive_is_spared_and_others_are_read(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, size_bytes=SMALL, pending=(4096,), media_errors=4))
    engine.watch(2)
    everything = sheet(block(DriveUse.READ_SAMPLE, 30, drives=()), block(DriveUse.VERIFIED, 30, 600, drives=()))
    assert "sda is dying and is left out of write and compare" in warnings(everything, engine.sheets.bench())
    engine.run_to_end(everything)
    tape = "\n".join(heard.tape())
    assert "Write and compare of sda left out: the drive is dying (copy the data off now)" in tape
    assert "Verified load of nvme0n1 ended" in tape
    assert "Verified load of sda" not in tape
    assert "Read scan of sda ended" in tape  # a sample is no strain


def test_stopping_ends_everything_at_once(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(with_drive(ferry, size_bytes=400_000_000_000, rotation=7200))
    engine.sheets.put(sheet(block(DriveUse.READ_ALL, 900), block(DriveUse.LONG_TEST, 900, drives=("nvme0n1",))))
    engine.start()
    engine.watch(30)
    assert len(engine.status().loads) == 2
    assert engine.stop() == "2 of 2 workers have ended, after 0.00 s"
    tape = "\n".join(heard.tape())
    assert "Long self-test of nvme0n1 ended: aborted at" in tape
    assert "Read scan of sda ended: stopped at" in tape
    engine.watch(2)
    with pytest.raises(InputError, match="no drive 'sdz'"):
        engine.scans.start("sdz", quick=True, go_on=False, anyway=False)
    assert engine.scans.start("sda", quick=False, go_on=False, anyway=False).running  # given back


def test_drives_that_are_not_there_are_refused_by_name(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(ferry)
    with pytest.raises(InputError, match="this machine has no drive sdx; it has nvme0n1"):
        engine.sheets.put(sheet(block(DriveUse.READ_ALL, 60, drives=("sdx",))))


@pytest.mark.parametrize("name", ["drive-quick-look", "drive-thorough", "drive-and-heat"])
def test_shipped_sheets_of_drives_are_carried_out(make_engine: MakeEngine, ferry: Scenario, name: str) -> None:
    engine, heard = make_engine(ferry if name != "drive-thorough" else with_drive(ferry, size_bytes=SMALL), coarse=True)
    status = engine.run_to_end(load_sheet(shipped_sheets()[name]))
    assert status.ending is Ending.FINISHED
    assert engine.findings == ()
    assert any(line.endswith("passed") or "all of it as it was written" in line for line in heard.tape())


def test_a_block_of_drives_is_read_as_it_was_written(tmp_path: Path) -> None:
    del tmp_path
    first = Block(PartKind.DRIVE, "write and compare", 0.0, 600.0, amount=2 << 30, drives=("sda",), folder="/data/x")
    second = Block(PartKind.DRIVE, "read all", 0.0, 600.0, drives=("nvme0n1",))
    again = parse_sheet(sheet_text(sheet(first, second)), "again")
    assert [(each.load, each.drives, each.folder, each.amount) for each in again.blocks] == [
        ("write and compare", ("sda",), "/data/x", 2 << 30),
        ("read all", ("nvme0n1",), "", None),
    ]
    assert again.blocks[0].title == "write and compare, sda"


@pytest.mark.parametrize(
    ("changed", "message"),
    [
        ({"drives": ("sda; rm",)}, "expected such as sda or nvme0n1"),
        ({"folder": "data"}, "expected a path from the root"),
        ({"row": PartKind.MEMORY, "load": "memory"}, "only a block of the drive names drives"),
    ],
)
def test_what_is_wrong_with_a_block_of_drives_is_said(changed: dict[str, object], message: str) -> None:
    wrong = replace(Block(PartKind.DRIVE, "read all", 0.0, 60.0, drives=("sda",)), **changed)  # type: ignore[arg-type]
    text = sheet_text(sheet(wrong))
    if wrong.row is PartKind.MEMORY:
        text = text.replace("[[blocks]]", '[[blocks]]\ndrives = ["sda"]')
    with pytest.raises(InputError, match=message):
        parse_sheet(text, "wrong")


def test_two_blocks_of_different_drives_may_run_side_by_side() -> None:
    same = sheet(block(DriveUse.READ_ALL, 60), block(DriveUse.READ_SAMPLE, 60, 10))
    assert "name different drives for both" in sheet_faults(same)[0].message
    assert sheet_faults(sheet(block(DriveUse.READ_ALL, 60), block(DriveUse.READ_SAMPLE, 60, 10, ("sdb",)))) == ()


def test_the_fields_of_a_drive_block_can_be_typed() -> None:
    made = block_of(PartKind.DRIVE, Wish(load="write and compare"), pick=Pick((), (), ("sda", "sdb")))
    assert made is not None
    fields = {each.name: each for each in fields_of((made,))}
    assert shown_text(fields["drives"], (made,)) == "sda, sdb"
    assert shown_text(fields["scratch"], (made,)) == "4 GiB"
    changed = fields["folder"].write(fields["drives"].write(made, "all drives"), "/srv")
    assert isinstance(changed, Block)
    assert (changed.drives, changed.folder) == ((), "/srv")
    assert "hold" not in fields
    assert "shape" not in fields
