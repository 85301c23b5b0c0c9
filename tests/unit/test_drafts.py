"""Drafts as the engine sees them: checked against the machine, kept with the job, and the shop's own sheets."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.compose.draft import Draft, put
from thresher.compose.sheet_file import load_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.machine.tree import TreeSystem
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet, SheetLimits, WorkingSet
from thresher.shop.own_sheets import read_uses
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
MATRIX = Block(PartKind.PROCESSOR, "matrix", 0.0, 300.0)
MEMORY = Block(PartKind.MEMORY, "memory", 0.0, 300.0, 0, WorkingSet.MAIN_MEMORY, amount=40 << 30, patterns=("fixed",))


def draft(*blocks: Block, title: str = "Own sheet") -> RunSheet:
    return put(Draft(title), blocks)[0].sheet()


def test_all_faults_of_a_draft_come_with_their_block(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    engine, _ = make_engine(lighthouse)  # eight cores, sixteen threads, 16 GiB
    wrong = draft(replace(MATRIX, cores=(1, 12)), MEMORY, replace(MATRIX, start_s=100, cores=(1,), length_s=400 * 3600))
    check = engine.sheets.keep_draft(wrong)
    found = {(fault.block, fault.field): fault.message for fault in check.faults}
    assert found[(0, "cores")] == "this machine has no core 12; it has 0-7"
    assert found[(1, "amount")].startswith("this machine has ")
    assert found[(1, "amount")].endswith("of memory, not 40 GiB")
    assert "up to 14 days" in found[(2, "length")]
    with pytest.raises(InputError) as refused:
        engine.sheets.put(wrong)
    assert "matrix, shared cache at 0:00:00, cores: this machine has no core 12" in str(refused.value)
    assert engine.conductor.sheet is None


def test_a_draft_is_announced_and_carried_out(make_engine: MakeEngine, lighthouse: Scenario) -> None:
    engine, heard = make_engine(lighthouse)
    both = draft(replace(MATRIX, length_s=30), replace(MEMORY, amount=None, share=0.5, length_s=30))
    check = engine.sheets.keep_draft(both)
    assert check.faults == ()
    assert check.length_s == 30
    assert check.announcement == (
        "Start loads 16 threads and the memory for 0:00:30. Only the chip's own limits hold the heat. An unstable"
        " machine may reset or switch off; Esc stops at once."
    )
    engine.sheets.put(both)
    engine.start()
    engine.watch(40)
    assert engine.status().ending == "finished"
    assert any(line.startswith("memory, fixed on") for line in heard.tape())


@pytest.mark.parametrize(
    ("sheet", "words"),
    [
        (draft(), "The sheet has no block yet"),
        (draft(replace(MATRIX, threads=1)), "Start loads 1 thread for 0:05:00."),
        (draft(replace(MATRIX, cores=(1, 2, 3))), "Start loads 6 threads for 0:05:00."),
        (draft(replace(MATRIX, cores=(1, 2, 3), one_per_core=True)), "Start loads 3 threads for 0:05:00."),
        (draft(replace(MATRIX, hold_c=75.0)), "The load is held at 75 °C."),
        (draft(replace(MATRIX, load="precision")), "An unstable machine may hang"),
        (replace(draft(MATRIX), limits=SheetLimits(95.0, 1)), "It stops at 95 °C or at the first fault."),
    ],
)
def test_the_sentence_says_what_counts(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: RunSheet, words: str
) -> None:
    engine, _ = make_engine(lighthouse)
    assert words in engine.sheets.keep_draft(sheet).announcement


def test_a_machine_that_runs_no_loads_says_why(
    make_engine: MakeEngine, tmp_path: Path, write_tree: Callable[[dict[str, str]], Path]
) -> None:
    from thresher.engine.assembly import open_engine

    root = write_tree({"/proc/cpuinfo": "processor\t: 0\nvendor_id\t: none\n"})
    engine = open_engine(TreeSystem(root), tmp_path / "tree.thresher")
    try:
        faults = engine.sheets.keep_draft(draft(MATRIX)).faults
    finally:
        engine.close()
    assert any("matrix cannot run on this machine: this machine is a directory of files" in f.message for f in faults)


def test_the_draft_is_offered_again_after_the_engine_has_gone(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    engine, _ = make_engine(lighthouse)
    wrong = draft(replace(MATRIX, cores=(12,)), title="Half done")
    engine.sheets.keep_draft(wrong)
    engine.close()
    with JobFile(tmp_path / "job.thresher", read_only=True) as stored:
        assert stored.draft() == wrong
        assert "draft sheet" not in stored.job()
    again, _ = make_engine(lighthouse)
    assert again.snapshot().draft == wrong


def test_the_shops_sheets_are_saved_renamed_used_and_deleted(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    engine, _ = make_engine(lighthouse, shop=shop)
    sheets = engine.sheets
    saved = sheets.save(draft(MATRIX, title="Ferry office, after new fan"), "", "")
    assert (saved.name, saved.own) == ("shop/ferry-office-after-new-fan", True)
    path = shop / "sheets" / "ferry-office-after-new-fan.toml"
    assert load_sheet(path) == saved.sheet

    longer = sheets.save(draft(replace(MATRIX, length_s=600), title="Ferry office"), saved.name, saved.digest)
    assert load_sheet(path).length_s == 600
    renamed = sheets.rename(longer.name, "  Ferry office,\nquick ")
    assert renamed.sheet.title == "Ferry office, quick"
    offer = next(each for each in engine.snapshot().intake.offers if each.own)
    assert (offer.title, offer.last_used) == ("Ferry office, quick", None)

    sheets.put(replace(renamed.sheet, blocks=(replace(MATRIX, length_s=5),)), renamed.name)
    engine.start()
    engine.watch(10)
    used = next(each for each in engine.snapshot().intake.offers if each.own).last_used
    assert used is not None
    assert read_uses(shop) == {renamed.name: used}

    text = path.read_text()
    gone = Path(sheets.delete(renamed.name))
    assert gone.read_text() == text
    assert not path.exists()
    assert not any(each.own for each in engine.snapshot().intake.offers)


def test_a_sheet_changed_on_disk_is_not_written_over(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path
) -> None:
    shop = tmp_path / "shop"
    engine, _ = make_engine(lighthouse, shop=shop)
    saved = engine.sheets.save(draft(MATRIX, title="Heat"), "", "")
    theirs = sheet_text(draft(replace(MATRIX, length_s=60), title="Theirs"))
    (shop / "sheets" / "heat.toml").write_text(theirs)
    with pytest.raises(InputError, match="changed by another program since it was opened"):
        engine.sheets.save(draft(MATRIX, title="Ours"), saved.name, saved.digest)
    assert (shop / "sheets" / "heat.toml").read_text() == theirs


@pytest.mark.parametrize("name", ["shop/../prices", "shop/", "reset-hunt", "shop/.hidden", "shop/none"])
def test_only_the_shops_own_sheets_are_deleted(
    make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path, name: str
) -> None:
    shop = tmp_path / "shop"
    shop.mkdir()
    (shop / "prices.toml").write_text("kept")
    engine, _ = make_engine(lighthouse, shop=shop)
    with pytest.raises(InputError):
        engine.sheets.delete(name)
    assert (shop / "prices.toml").read_text() == "kept"


def test_without_a_shop_folder_nothing_is_saved_and_the_reason_is_given(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    engine, _ = make_engine(lighthouse)
    with pytest.raises(EnvironmentFault, match="this bench has no shop folder"):
        engine.sheets.save(draft(MATRIX), "", "")
