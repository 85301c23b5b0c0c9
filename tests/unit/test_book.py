"""The book of trials of a job: kept, undone, tied to runs, and reasoned from."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.app import stored_verdict
from thresher.diagnosis.evidence import evidence_of
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.engine.services.trials import AS_IT_CAME, first_book
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.model.findings import FindingKind
from thresher.model.parts import PartInstance, PartKind
from thresher.model.sheet import RunSheet
from thresher.model.trials import Configuration, Ended, Outcome
from thresher.model.verdict import Verdict
from thresher.protocol.events import BookEvent
from thresher.shop.store import Shelf, ShopPart, change_shelf, shelf_path
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

MakeSheet = Callable[[float], RunSheet]
SHELF = (
    ShopPart(tag="shop DIMM", kind=PartKind.MEMORY, name="16 GiB, known good"),
    ShopPart(tag="shop CPU", kind=PartKind.PROCESSOR, name="known good"),
)


@pytest.fixture
def engine(lighthouse: Scenario, tmp_path: Path) -> Engine:
    shop = tmp_path / "shop"
    shelf_path(shop).parent.mkdir(parents=True, exist_ok=True)
    change_shelf(shop, Shelf(), Shelf(parts=SHELF))
    return open_engine(SimulatedMachine(lighthouse, 0.0), tmp_path / "job.thresher", shop=shop)


def test_a_book_begins_with_the_machine_as_it_came_in(engine: Engine) -> None:
    book = engine.trials.book
    (first,) = book.trials
    assert (first.number, first.title) == (0, AS_IT_CAME)
    kinds = {part.kind for tag in first.configuration.tags if (part := book.part(tag)) is not None}
    assert {PartKind.PROCESSOR, PartKind.MEMORY, PartKind.BOARD, PartKind.POWER, PartKind.COOLING} <= kinds
    assert [part.tag for part in book.parts if part.known_good] == ["shop DIMM", "shop CPU"]
    assert evidence_of((), (), 8, (), engine.trials.book).book.trials == ()  # nothing was tried, so it says nothing yet
    engine.close()


def test_parts_that_a_machine_cannot_tell_are_in_the_book_all_the_same() -> None:
    only = (PartInstance("P-1", PartKind.PROCESSOR, "a processor", "", "socket", "processor"),)
    book = first_book(only, ())
    assert {part.tag for part in book.parts} == {"P-1", "board", "memory", "power", "cooling"}


def test_a_swap_and_its_runs_decide_and_are_kept_with_the_job(
    engine: Engine, sheet: MakeSheet, lighthouse: Scenario, tmp_path: Path
) -> None:
    heard = Heard()
    engine.subscribe(heard)
    engine.run_to_end(sheet(400))
    assert engine.trials.book.trials[0].runs == (1,)
    own = next(part.tag for part in engine.trials.book.parts if part.kind is PartKind.PROCESSOR and not part.known_good)
    before = engine.verdict
    assert before is not None
    # this machine has two faults: a weak core, and a cooler full of dust
    assert set(before.acts[0].kinds) == {PartKind.PROCESSOR, PartKind.COOLING}
    configuration = engine.trials.configuration
    swapped = replace(
        configuration, tags=tuple("shop CPU" if tag == own else tag for tag in configuration.tags), places=()
    )
    trial = engine.trials.begin_trial("Shop CPU in this socket", swapped)
    engine.trials.add_outcome(trial.number, Outcome(Ended.CLEAN, "matrix", 60.0, trust=1.0))
    assert any(isinstance(event, BookEvent) for event in heard.events)
    engine.watch(2)
    after = engine.verdict
    assert after is not None
    chances: dict[str, float] = {}
    for suspect in after.suspects:
        chances[suspect.tag] = chances.get(suspect.tag, 0.0) + suspect.probability
    cooler = next(part.tag for part in engine.trials.book.parts if part.kind is PartKind.COOLING)
    assert chances[own] > 0.9
    assert max(chances, key=lambda tag: chances[tag] if tag not in ("", own) else 0.0) == cooler
    assert set(after.acts[0].tags) == {own, PartKind.COOLING.value}
    reasons = next(each.reasons for each in after.suspects if each.tag == own)
    assert any(f"({trial.title})" in reason.text or trial.title in reason.text for reason in reasons)
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        book = stored.book()
        assert book is not None
        assert [each.title for each in book.trials] == [AS_IT_CAME, "Shop CPU in this socket"]
        assert "book of trials" not in stored.job()
        verdict = stored_verdict.job_verdict(stored)
    assert own in {each.tag for each in verdict.suspects[:2]}
    again = open_engine(SimulatedMachine(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    assert again.trials.book.trials == book.trials
    again.close()


def test_runs_can_be_put_down_to_another_trial_later(engine: Engine, sheet: MakeSheet) -> None:
    engine.run_to_end(sheet(5))
    engine.trials.begin_trial("Reseated", replace(engine.trials.configuration, treated=("board",)))
    engine.trials.assign(1, 1)
    assert [trial.runs for trial in engine.trials.book.trials] == [(), (1,)]
    engine.run_to_end(sheet(5))
    assert [trial.runs for trial in engine.trials.book.trials] == [(), (1, 2)]
    engine.close()


def test_every_change_can_be_undone_and_no_run_is_lost(engine: Engine, sheet: MakeSheet) -> None:
    books = engine.trials
    books.begin_trial("One", books.configuration)
    books.add_outcome(1, Outcome(Ended.FAILED, "memory", 1.0, FindingKind.MEMORY_WRONG))
    engine.run_to_end(sheet(5))
    assert books.book.trials[1].runs == (1,)
    books.undo()
    assert books.book.trials[1].outcomes == ()
    assert books.book.trials[1].runs == (1,)
    books.undo()
    assert [(trial.title, trial.runs) for trial in books.book.trials] == [(AS_IT_CAME, (1,))]
    with pytest.raises(InputError, match="nothing was changed"):
        books.undo()
    engine.close()


def test_faulty_trials_and_outcomes_are_refused_with_every_fault(engine: Engine) -> None:
    books = engine.trials
    with pytest.raises(InputError) as caught:
        books.begin_trial(" ", Configuration(("nobody", "nobody"), (("A1", "shop DIMM"),)))
    message = str(caught.value)
    assert "'nobody' is not a part of the book" in message
    assert "installed twice" in message
    assert "'shop DIMM' is in 'A1' but not installed" in message
    assert "say what was changed" in message
    with pytest.raises(InputError) as caught:
        books.add_outcome(0, Outcome(Ended.CLEAN, "memory", -1.0, trust=2.0))
    assert "minutes" in str(caught.value)
    assert "trust" in str(caught.value)
    with pytest.raises(InputError, match="there is no trial 7"):
        books.assign(1, 7)
    assert len(books.book.trials) == 1
    engine.close()


def test_what_the_machine_shows_against_the_book_is_asked(engine: Engine) -> None:
    books, instances = engine.trials, engine.intake.instances
    assert books.questions(instances) == ()
    modules = [each for each in instances if each.kind is PartKind.MEMORY and each.part]
    gone = modules[0]
    rest = tuple(tag for tag in books.configuration.tags if tag != gone.tag)
    places = tuple(pair for pair in books.configuration.places if pair[1] != gone.tag)
    books.begin_trial("One module out", replace(books.configuration, tags=rest, places=places))
    (question,) = books.questions(instances)
    assert question == f"{gone.tag} is removed by the book, but the machine still reports it"
    without = tuple(replace(each, part="", place="") if each.tag == gone.tag else each for each in instances)
    assert books.questions(without) == ()
    other = modules[1]
    moved = tuple(replace(each, place="elsewhere") if each.tag == other.tag else each for each in without)
    assert any("the machine reports it in elsewhere" in each for each in books.questions(moved))
    lost = tuple(replace(each, part="") if each.tag == other.tag else each for each in without)
    assert any("the machine does not report it" in each for each in books.questions(lost))
    engine.close()


def test_a_job_opened_again_asks_where_the_machine_differs_from_the_book(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    gone = next(each for each in engine.intake.instances if each.kind is PartKind.MEMORY and each.part)
    configuration = engine.trials.configuration
    rest = tuple(tag for tag in configuration.tags if tag != gone.tag)
    places = tuple(pair for pair in configuration.places if pair[1] != gone.tag)
    engine.trials.begin_trial("One module out", replace(configuration, tags=rest, places=places))
    engine.close()
    again = open_engine(SimulatedMachine(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    asked = [e for e in again.snapshot().tape if e.title == "The book of trials and the machine differ"]
    assert [each.detail for each in asked] == [
        f"{gone.tag} is removed by the book, but the machine still reports it; "
        "correct the book of trials, or the machine's parts"
    ]
    assert len(again.snapshot().questions) == 1
    trial = again.trials.follow_machine()
    assert trial.title == "As the machine shows it"
    assert set(trial.configuration.tags) == set(configuration.tags)
    assert trial.configuration.place_of(gone.tag) == gone.place
    assert again.snapshot().questions == ()
    with pytest.raises(InputError, match="does not differ"):
        again.trials.follow_machine()
    again.close()


def test_a_bought_part_is_taken_in_and_stays(engine: Engine) -> None:
    books = engine.trials
    part = books.add_part(" N-1 ", PartKind.MEMORY, "from  the wholesaler")
    assert (part.tag, part.known_good, part.name) == ("N-1", True, "from the wholesaler")
    for tag in ("N-1", "  "):
        with pytest.raises(InputError, match="part"):
            books.add_part(tag, PartKind.MEMORY, "")
    own = next(each.tag for each in books.book.parts if each.kind is PartKind.MEMORY and not each.known_good)
    configuration = replace(
        books.configuration, tags=tuple("N-1" if tag == own else tag for tag in books.configuration.tags), places=()
    )
    books.begin_trial("Replaced", configuration, kept=True)
    assert books.book.base == configuration
    books.begin_trial("With the shop's", replace(configuration, tags=(*configuration.tags[1:], "shop DIMM")))
    assert books.book.base == configuration
    books.undo()
    books.undo()
    assert books.book.base == books.book.trials[0].configuration
    books.undo()
    assert books.book.part("N-1") is None
    engine.close()


def test_what_no_machine_can_tell_is_asked_and_is_no_word_of_the_machine(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    own = next(part.tag for part in engine.trials.book.parts if part.kind is PartKind.POWER)
    engine.trials.add_part("N-1", PartKind.POWER, "")
    engine.trials.begin_trial("Other supply", engine.trials.configuration.swapped(own, "N-1"))
    engine.close()
    again = open_engine(SimulatedMachine(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    asked = again.snapshot().questions
    assert any("N-1 is installed by the book; a machine cannot identify its power" in each for each in asked)
    assert again.trials.questions(again.intake.instances) == ()
    with pytest.raises(InputError, match="does not differ"):
        again.trials.follow_machine()
    again.trials.keep_as_recorded()
    assert again.snapshot().questions == ()
    again.close()


def test_the_book_may_be_right_where_the_machine_reports_otherwise(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    gone = next(each for each in engine.intake.instances if each.kind is PartKind.MEMORY and each.part)
    rest = tuple(tag for tag in engine.trials.configuration.tags if tag != gone.tag)
    places = tuple(pair for pair in engine.trials.configuration.places if pair[1] != gone.tag)
    engine.trials.begin_trial("One module out", replace(engine.trials.configuration, tags=rest, places=places))
    engine.close()
    again = open_engine(SimulatedMachine(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    heard = Heard()
    again.subscribe(heard)
    again.trials.keep_as_recorded()
    assert again.snapshot().questions == ()
    assert gone.tag not in again.trials.configuration.tags
    assert [event.questions for event in heard.events if isinstance(event, BookEvent)] == [()]
    again.close()


def verdict_now(engine: Engine) -> Verdict:
    engine.watch(2)
    verdict = engine.verdict
    assert verdict is not None
    return verdict


def test_the_shop_s_own_prices_are_used_and_a_faulty_list_is_reported(
    engine: Engine, sheet: MakeSheet, tmp_path: Path
) -> None:
    engine.run_to_end(sheet(400))
    first = verdict_now(engine)
    assert first.own_prices is False
    path = engine.intake.keep_prices()
    assert path == tmp_path / "shop" / "prices.toml"
    path.write_text(path.read_text().replace("processor = 260.0", "processor = 900.0"))
    engine.verdicts.reload_prices()
    second = verdict_now(engine)
    assert second.own_prices is True
    dear = next(act for act in second.acts if PartKind.PROCESSOR in act.kinds)
    assert dear.price >= first.acts[0].price + 640.0
    path.write_text("per_hour = 3")
    engine.verdicts.reload_prices()
    assert verdict_now(engine).own_prices is False
    assert any(entry.title == "The shop's prices cannot be used" for entry in engine.snapshot().tape)
    engine.close()


def test_a_machine_that_starts_again_begins_another_trial(engine: Engine, sheet: MakeSheet) -> None:
    engine.trials.add_outcome(0, Outcome(Ended.NO_START, "", 0.0))
    engine.run_to_end(sheet(30))
    engine.run_to_end(sheet(30))
    assert [(each.title, each.runs) for each in engine.trials.book.trials] == [
        (AS_IT_CAME, ()),
        ("It starts again", (1, 2)),
    ]
    assert engine.verdict is not None
    assert all(each.stints for each in engine.verdict.next_trials)
    engine.close()
