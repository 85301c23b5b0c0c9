"""Rounds on simulated machines: what they leave out, how they are written, and that they repeat."""

from collections.abc import Callable
from dataclasses import replace

import pytest

from tests.checks.bench import EMPTY
from tests.conftest import Heard
from thresher.checks.registry import CHECKS
from thresher.compose.announce import announcement
from thresher.compose.draft import draft_of
from thresher.compose.rounds import UNTIL_STOPPED, named_checks, plan_round, round_sheet
from thresher.compose.sheet_file import parse_sheet
from thresher.compose.sheet_text import sheet_text
from thresher.engine.engine import Engine
from thresher.inventory.machine import read_inventory
from thresher.model.checks import Round
from thresher.model.errors import InputError
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending
from thresher.protocol.events import TickEvent
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]


def test_rounds_leave_out_what_a_machine_lacks_and_say_why(ferry: Scenario, make_engine: MakeEngine) -> None:
    engine, heard = make_engine(ferry)
    inventory = engine.inventory
    short, thorough = (plan_round(kind, inventory) for kind in Round)
    names = [check.name for check in short.checks]
    assert "cores" in names
    assert not {"battery wear", "memory, long pass", "USB ports"} & set(names)
    why = {check.name: reason for check, reason in short.left_out}
    assert why["battery wear"] == "this machine has no battery"
    assert "thorough round" in why["memory, long pass"]
    assert why["USB ports"] == "it needs a person"
    assert "memory, long pass" in [check.name for check in thorough.checks]
    assert 300 < short.seconds < 1500
    only = plan_round(Round.SHORT, inventory, (PartKind.COOLING,))
    assert {check.row for check in only.checks} == {PartKind.COOLING, PartKind.PROCESSOR}
    engine.sheets.put_round(Round.SHORT, (), (), 1)
    assert [block.load for block in engine.conductor.sheet.blocks] == names  # type: ignore[union-attr]
    # 8 GiB; 318 times over every cell at 4 GiB a second, two waits of 30 s, and 10 s to begin
    assert any("long pass left out: it takes 0:11:46" in line for line in heard.tape())


def test_a_round_is_written_and_read_like_any_sheet(ferry: Scenario) -> None:
    del ferry
    sheet = round_sheet("Evening round", tuple(CHECKS.values()), EMPTY)
    assert parse_sheet(sheet_text(sheet), "again") == sheet


@pytest.mark.parametrize(
    ("block", "words"),
    [
        ('row = "battery"\ncheck = "battery waer"', "there is no check 'battery waer'"),
        ('row = "memory"\ncheck = "battery wear"', "is a check of the battery"),
        ('row = "battery"\ncheck = "battery wear"\nthreads = 4', "a check has row, check, start, length only"),
        ('row = "battery"', "expected load and length, or the name of a check"),
        ('row = "battery"\nload = "battery wear"\nlength = 5', "there is no load 'battery wear'"),
    ],
)
def test_what_is_wrong_with_a_check_on_a_sheet_is_said(block: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        parse_sheet(f'format = "thresher-sheet/1"\ntitle = "x"\n[[blocks]]\n{block}\n', "x")


def test_a_round_goes_on_until_somebody_stops_it(make_engine: MakeEngine, notebook: Scenario) -> None:
    engine, heard = make_engine(notebook)
    sheet = round_sheet("again", named_checks(("memory fitted", "fans turn")), engine.inventory, UNTIL_STOPPED)
    assert sheet.repeat

    def stop_in_the_third(event: object) -> None:
        third = isinstance(event, TickEvent) and (event.run.run, event.run.ending) == (3, None)
        if third and event.run.plan[0].check == "pass":  # type: ignore[attr-defined]
            engine.submit(engine.stop)

    engine.subscribe(stop_in_the_third)
    status = engine.run_to_end(sheet)
    assert (status.run, status.ending) == (3, Ending.STOPPED)
    passed = [each.run for each in engine.snapshot().checks if each.check == "memory fitted"]
    assert passed == [1, 2, 3]
    begins = [entry.title for entry in engine.snapshot().tape if entry.title.endswith("begins")]
    assert begins == ["Run 1 begins", "Run 2 begins", "Run 3 begins"]
    ends = [entry.title for entry in engine.snapshot().tape if "finished" in entry.title]
    assert len(ends) == 2
    del heard


def test_a_sheet_that_repeats_is_written_and_read_as_such(notebook: Scenario) -> None:
    inventory = read_inventory(SimulatedMachine(notebook, 0.0))
    sheet = round_sheet("again", named_checks(("memory fitted",)), inventory, UNTIL_STOPPED)
    assert parse_sheet(sheet_text(sheet), "x") == sheet
    assert "again and again until you stop it" in announcement(sheet, (0,))
    once = replace(sheet, repeat=False)
    assert "repeat" not in sheet_text(once)
    assert draft_of(sheet).sheet() == sheet
    with pytest.raises(InputError, match="repeat"):
        parse_sheet(sheet_text(once).replace('title = "again"', 'title = "again"\nrepeat = "often"'), "x")
