"""The book of trials of a job: kept, undone, tied to runs, and reasoned from."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher import bootstrap
from thresher.benchmodels.machine import BenchModel
from thresher.benchmodels.scenario import Scenario
from thresher.engine.book_desk import AS_IT_CAME, first_book
from thresher.engine.engine import Engine
from thresher.engine.protocol import BookEvent
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.model.findings import FindingKind
from thresher.model.parts import PartInstance, PartKind
from thresher.model.sheet import RunSheet
from thresher.model.trials import Ended, Fit, Outcome
from thresher.model.verdict import Verdict
from thresher.shop.store import Shelf, ShopPart, shelf_path, write_shelf

MakeSheet = Callable[[float], RunSheet]
SHELF = (
    ShopPart(tag="shop DIMM", kind=PartKind.MEMORY, name="16 GiB, known good"),
    ShopPart(tag="shop CPU", kind=PartKind.PROCESSOR, name="known good"),
)


@pytest.fixture
def engine(lighthouse: Scenario, tmp_path: Path) -> Engine:
    shop = tmp_path / "shop"
    shelf_path(shop).parent.mkdir(parents=True, exist_ok=True)
    write_shelf(shop, Shelf(parts=SHELF))
    return Engine(BenchModel(lighthouse, 0.0), tmp_path / "job.thresher", shop=shop)


def test_a_book_begins_with_the_machine_as_it_came_in(engine: Engine) -> None:
    book = engine.books.book
    (first,) = book.trials
    assert (first.number, first.title) == (0, AS_IT_CAME)
    kinds = {part.kind for tag in first.fit.tags if (part := book.part(tag)) is not None}
    assert {PartKind.PROCESSOR, PartKind.MEMORY, PartKind.BOARD, PartKind.POWER, PartKind.COOLING} <= kinds
    assert [part.tag for part in book.parts if part.ours] == ["shop DIMM", "shop CPU"]
    assert engine.books.kept.trials == ()  # nothing was tried, so it says nothing yet
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
    assert engine.books.book.trials[0].runs == (1,)
    own = next(part.tag for part in engine.books.book.parts if part.kind is PartKind.PROCESSOR and not part.ours)
    before = engine.verdict
    assert before is not None
    # this machine has two faults: a weak core, and a cooler full of dust
    assert set(before.acts[0].kinds) == {PartKind.PROCESSOR, PartKind.COOLING}
    fit = engine.books.fit
    swapped = replace(fit, tags=tuple("shop CPU" if tag == own else tag for tag in fit.tags), places=())
    trial = engine.books.begin_trial("Shop CPU in this socket", swapped)
    engine.books.add_outcome(trial.number, Outcome(Ended.CLEAN, "matrix", 60.0, trust=1.0))
    assert any(isinstance(event, BookEvent) for event in heard.events)
    engine.watch(2)
    after = engine.verdict
    assert after is not None
    chances: dict[str, float] = {}
    for suspect in after.suspects:
        chances[suspect.tag] = chances.get(suspect.tag, 0.0) + suspect.probability
    cooler = next(part.tag for part in engine.books.book.parts if part.kind is PartKind.COOLING)
    assert {tag for tag, chance in chances.items() if chance > 0.9} == {own, cooler}
    assert set(after.acts[0].tags) == {own, PartKind.COOLING.value}
    reasons = next(each.reasons for each in after.suspects if each.tag == own)
    assert any(f"({trial.title})" in reason.text or trial.title in reason.text for reason in reasons)
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        book = stored.book()
        assert book is not None
        assert [each.title for each in book.trials] == [AS_IT_CAME, "Shop CPU in this socket"]
        assert "book of trials" not in stored.job()
        verdict = bootstrap.job_verdict(stored)
    assert own in {each.tag for each in verdict.suspects[:2]}
    again = Engine(BenchModel(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    assert again.books.book.trials == book.trials
    again.close()


def test_runs_can_be_put_down_to_another_trial_later(engine: Engine, sheet: MakeSheet) -> None:
    engine.run_to_end(sheet(5))
    engine.books.begin_trial("Seated anew", replace(engine.books.fit, treated=("board",)))
    engine.books.assign(1, 1)
    assert [trial.runs for trial in engine.books.book.trials] == [(), (1,)]
    engine.run_to_end(sheet(5))
    assert [trial.runs for trial in engine.books.book.trials] == [(), (1, 2)]
    engine.close()


def test_every_change_can_be_undone_and_no_run_is_lost(engine: Engine, sheet: MakeSheet) -> None:
    books = engine.books
    books.begin_trial("One", books.fit)
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
    books = engine.books
    with pytest.raises(InputError) as caught:
        books.begin_trial(" ", Fit(("nobody", "nobody"), (("A1", "shop DIMM"),)))
    message = str(caught.value)
    assert "'nobody' is no part of the book" in message
    assert "fitted twice" in message
    assert "'shop DIMM' is in 'A1' and not fitted" in message
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
    books, instances = engine.books, engine.desk.instances
    assert books.questions(instances) == ()
    modules = [each for each in instances if each.kind is PartKind.MEMORY and each.part]
    gone = modules[0]
    rest = tuple(tag for tag in books.fit.tags if tag != gone.tag)
    places = tuple(pair for pair in books.fit.places if pair[1] != gone.tag)
    books.begin_trial("One module out", replace(books.fit, tags=rest, places=places))
    (question,) = books.questions(instances)
    assert question == f"{gone.tag} is out by the book, and the machine still shows it"
    without = tuple(replace(each, part="", place="") if each.tag == gone.tag else each for each in instances)
    assert books.questions(without) == ()
    other = modules[1]
    moved = tuple(replace(each, place="elsewhere") if each.tag == other.tag else each for each in without)
    assert any("the machine shows it in elsewhere" in each for each in books.questions(moved))
    lost = tuple(replace(each, part="") if each.tag == other.tag else each for each in without)
    assert any("the machine does not show it" in each for each in books.questions(lost))
    engine.close()


def test_a_job_opened_again_asks_where_the_machine_differs_from_the_book(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    gone = next(each for each in engine.desk.instances if each.kind is PartKind.MEMORY and each.part)
    fit = engine.books.fit
    rest = tuple(tag for tag in fit.tags if tag != gone.tag)
    places = tuple(pair for pair in fit.places if pair[1] != gone.tag)
    engine.books.begin_trial("One module out", replace(fit, tags=rest, places=places))
    engine.close()
    again = Engine(BenchModel(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    asked = [e for e in again.snapshot().tape if e.title == "The book of trials and the machine differ"]
    assert [each.detail for each in asked] == [
        f"{gone.tag} is out by the book, and the machine still shows it; say in the book of trials what is fitted"
    ]
    assert len(again.snapshot().questions) == 1
    trial = again.books.take_machines_word()
    assert trial.title == "As the machine shows it"
    assert set(trial.fit.tags) == set(fit.tags)
    assert trial.fit.place_of(gone.tag) == gone.place
    assert again.snapshot().questions == ()
    with pytest.raises(InputError, match="does not contradict"):
        again.books.take_machines_word()
    again.close()


def test_a_bought_part_is_taken_in_and_stays(engine: Engine) -> None:
    books = engine.books
    part = books.add_part(" N-1 ", PartKind.MEMORY, "from  the wholesaler")
    assert (part.tag, part.ours, part.name) == ("N-1", True, "from the wholesaler")
    for tag in ("N-1", "  "):
        with pytest.raises(InputError, match="part"):
            books.add_part(tag, PartKind.MEMORY, "")
    own = next(each.tag for each in books.book.parts if each.kind is PartKind.MEMORY and not each.ours)
    fit = replace(books.fit, tags=tuple("N-1" if tag == own else tag for tag in books.fit.tags), places=())
    books.begin_trial("Replaced", fit, kept=True)
    assert books.book.base == fit
    books.begin_trial("With the shop's", replace(fit, tags=(*fit.tags[1:], "shop DIMM")))
    assert books.book.base == fit
    books.undo()
    books.undo()
    assert books.book.base == books.book.trials[0].fit
    books.undo()
    assert books.book.part("N-1") is None
    engine.close()


def test_what_no_machine_can_tell_is_asked_and_is_no_word_of_the_machine(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    own = next(part.tag for part in engine.books.book.parts if part.kind is PartKind.POWER)
    engine.books.add_part("N-1", PartKind.POWER, "")
    engine.books.begin_trial("Other supply", engine.books.fit.swapped(own, "N-1"))
    engine.close()
    again = Engine(BenchModel(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    asked = again.snapshot().questions
    assert any("N-1 is fitted by the book, and no machine can tell its power" in each for each in asked)
    assert again.books.questions(again.desk.instances) == ()
    with pytest.raises(InputError, match="cannot tell"):
        again.books.take_machines_word()
    again.books.let_stand()
    assert again.snapshot().questions == ()
    again.close()


def test_the_book_may_be_right_where_the_machine_tells_otherwise(
    engine: Engine, lighthouse: Scenario, tmp_path: Path
) -> None:
    gone = next(each for each in engine.desk.instances if each.kind is PartKind.MEMORY and each.part)
    rest = tuple(tag for tag in engine.books.fit.tags if tag != gone.tag)
    places = tuple(pair for pair in engine.books.fit.places if pair[1] != gone.tag)
    engine.books.begin_trial("One module out", replace(engine.books.fit, tags=rest, places=places))
    engine.close()
    again = Engine(BenchModel(lighthouse, 0.0), tmp_path / "job.thresher", shop=tmp_path / "shop")
    heard = Heard()
    again.subscribe(heard)
    again.books.let_stand()
    assert again.snapshot().questions == ()
    assert gone.tag not in again.books.fit.tags
    assert [event.questions for event in heard.events if isinstance(event, BookEvent)] == [()]
    again.close()


def verdict_now(engine: Engine) -> Verdict:
    engine.watch(2)
    verdict = engine.verdict
    assert verdict is not None
    return verdict


def test_the_shop_s_own_prices_are_used_and_a_faulty_list_is_said(
    engine: Engine, sheet: MakeSheet, tmp_path: Path
) -> None:
    engine.run_to_end(sheet(400))
    first = verdict_now(engine)
    assert first.own_prices is False
    path = engine.desk.keep_prices()
    assert path == tmp_path / "shop" / "prices.toml"
    path.write_text(path.read_text().replace("processor = 260.0", "processor = 900.0"))
    engine.read_prices()
    second = verdict_now(engine)
    assert second.own_prices is True
    dear = next(act for act in second.acts if PartKind.PROCESSOR in act.kinds)
    assert dear.price >= first.acts[0].price + 640.0
    path.write_text("an_hour = 3")
    engine.read_prices()
    assert verdict_now(engine).own_prices is False
    assert any(entry.title == "The shop's prices cannot be used" for entry in engine.snapshot().tape)
    engine.close()
