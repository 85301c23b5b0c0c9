"""The Parts station: suspects, the decision, and the book of trials filled by mouse and keyboard."""

from dataclasses import replace
from datetime import date, datetime
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QComboBox, QPushButton
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.diagnosis.candidates import candidates
from thresher.model.decisions import ActualCause, ClosedJob, Culprit, Decisions, LockedVerdict, PriorChange
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import PartKind, PartStatus
from thresher.model.trials import Book, BookPart, Candidate, Configuration, Ended, NextTrial, Outcome, Trial
from thresher.model.verdict import Act, Advice, Course, Reason, Suspect, Verdict
from thresher.protocol.commands import AddPart, CloseJob
from thresher.protocol.events import BookEvent, DecisionsEvent, VerdictEvent
from thresher.report.tags import tags_of
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.parts.decision_panel import course_words
from thresher.ui.stations.parts.station import PartsStation, change_words
from thresher.ui.stations.parts.tags_sheet import write_tags
from thresher.ui.stations.parts.trials_panel import Column, columns_of, configuration_of_row, row_of

P = PartKind
PARTS = (
    BookPart("B-1", P.BOARD),
    BookPart("P-1", P.PROCESSOR),
    BookPart("M-1", P.MEMORY),
    BookPart("M-2", P.MEMORY),
    BookPart("SHOP-M", P.MEMORY, known_good=True),
    BookPart("SHOP-P", P.PROCESSOR, known_good=True),
)
FIT = Configuration(("B-1", "P-1", "M-1", "M-2"), (("A2", "M-1"), ("B2", "M-2")))
BOOK = Book(PARTS, (Trial(0, "As it came in", FIT),))


@pytest.fixture
def station(qtbot: QtBot) -> PartsStation:
    """A station with a book and no engine."""
    state = BenchState()
    state.book = BOOK
    made = PartsStation(state, Look())
    qtbot.addWidget(made)
    made.resize(1180, 690)
    made.show()
    state.refresh_now()
    return made


def number_of(kind: PartKind, place: str = "") -> int:
    return next(n for n, each in enumerate(columns_of(BOOK)) if each.kind is kind and each.place == place)


def test_the_book_s_places_are_columns_and_a_fit_is_a_row() -> None:
    columns = columns_of(BOOK)
    assert [column.title for column in columns] == ["board", "processor", "A2", "B2"]
    assert row_of(BOOK, FIT, columns) == ["B-1", "P-1", "M-1", "M-2"]
    swapped = configuration_of_row(BOOK, ["B-1", "SHOP-P", "", "M-1"], columns, FIT)
    assert set(swapped.tags) == {"B-1", "SHOP-P", "M-1"}
    assert swapped.places == (("B2", "M-1"),)
    assert row_of(BOOK, swapped, columns) == ["B-1", "SHOP-P", "", "M-1"]


def test_keys_go_from_place_to_place_and_through_what_could_be_there(qtbot: QtBot, station: PartsStation) -> None:
    panel = station.trials
    panel.setFocus()
    assert not station.begin.isEnabled()
    qtbot.keyClick(panel, Qt.Key.Key_Right)
    qtbot.keyClick(panel, Qt.Key.Key_Down)
    configuration = panel.planned()
    assert configuration is not None
    assert "SHOP-P" in configuration.tags
    assert "P-1" not in configuration.tags
    assert station.begin.isEnabled()
    qtbot.keyClick(panel, Qt.Key.Key_Delete)
    emptied = panel.planned()
    assert emptied is not None
    assert set(emptied.tags) == {"B-1", "M-1", "M-2"}
    qtbot.keyClick(panel, Qt.Key.Key_Left)
    qtbot.keyClick(panel, Qt.Key.Key_Up)
    assert "B-1" not in (panel.planned() or FIT).tags


def test_a_chip_is_dragged_from_the_tray_into_its_place(qtbot: QtBot, station: PartsStation) -> None:
    panel = station.trials
    tray = next(area for area, part in panel._tray() if part.tag == "SHOP-P")
    columns = columns_of(BOOK)
    wide = panel._column_width(len(columns))
    row = QPoint(int(40 + wide * (number_of(P.PROCESSOR) + 0.5)), 26 + 44 + 20)
    qtbot.mousePress(panel, Qt.MouseButton.LeftButton, pos=tray.center().toPoint())
    qtbot.mouseMove(panel, row)
    qtbot.mouseRelease(panel, Qt.MouseButton.LeftButton, pos=row)
    configuration = panel.planned()
    assert configuration is not None
    assert "SHOP-P" in configuration.tags
    # a module does not configuration into the socket, and stays where it was
    memory = next(area for area, part in panel._tray() if part.tag == "SHOP-M")
    qtbot.mousePress(panel, Qt.MouseButton.LeftButton, pos=memory.center().toPoint())
    qtbot.mouseRelease(panel, Qt.MouseButton.LeftButton, pos=row)
    assert panel.planned() == configuration
    # back onto the tray: the place is empty
    qtbot.mousePress(panel, Qt.MouseButton.LeftButton, pos=row)
    qtbot.mouseRelease(panel, Qt.MouseButton.LeftButton, pos=tray.center().toPoint())
    assert "SHOP-P" not in (panel.planned() or FIT).tags


def test_settings_and_cleaning_are_trials_too(station: PartsStation) -> None:
    station.stock.click()
    configuration = station.trials.planned()
    assert configuration is not None
    assert configuration.stock == (P.PROCESSOR, P.MEMORY, P.GRAPHICS)
    station.cleaned.click()
    station.seated.click()
    configuration = station.trials.planned()
    assert configuration is not None
    assert configuration.treated == ("cooling", "graphics", "memory", "board", "drive", "power", "display")
    one_at_a_time = []
    for _ in range(4):
        station.stock.click()
        one_at_a_time.append((station.trials.planned() or FIT).stock)
    assert one_at_a_time == [(P.PROCESSOR,), (P.MEMORY,), (P.GRAPHICS,), ()]
    station.cleaned.click()
    station.seated.click()
    assert not station.begin.isEnabled()


def test_one_click_sets_the_proposed_trial_up_and_another_begins_it(qtbot: QtBot, station: PartsStation) -> None:
    alone = Configuration(("B-1", "P-1", "M-1"), (("A2", "M-1"),))
    proposed = NextTrial(Candidate("M-1 alone", alone, 4.0), (("memory", 5.0),), 0.5, 0.6, "M-2 (60 %)", "M-1 (70 %)")
    station.set_up(proposed)
    assert station.trials.planned() == alone
    with qtbot.waitSignal(station.trial_wanted) as wanted:
        station.begin.click()
    assert wanted.args == ["M-1 alone", alone, (("memory", 5.0),), False]
    assert station.trials.planned() == FIT


def test_how_a_trial_ended_elsewhere_is_asked_with_whose_word_it_is(qtbot: QtBot, station: PartsStation) -> None:
    dialog = station.ask_outcome()
    assert dialog is not None
    dialog.ended.setCurrentIndex(dialog.ended.findData(Ended.FAILED))
    dialog.trust.setCurrentIndex(2)
    dialog.minutes.setValue(3)
    with qtbot.waitSignal(station.outcome_wanted) as wanted:
        dialog.accept()
    assert wanted.args is not None
    number, outcome = wanted.args
    assert (number, outcome.ended, outcome.minutes, outcome.trust) == (0, Ended.FAILED, 3.0, 0.5)
    dialog.ended.setCurrentIndex(dialog.ended.findData(Ended.NO_START))
    answer = dialog.answer()
    assert (answer.load, answer.minutes, answer.kind) == ("", 0.0, None)


# ---- what was decided


def suspect(kind: PartKind | None, tag: str, mode: str, probability: float) -> Suspect:
    return Suspect(
        mode,
        "what it does",
        kind,
        tag or (kind.value if kind else ""),
        "",
        probability,
        (Reason("how common it is", -3.0), Reason("3 × wrong memory word", 21.0)),
        "",
        tag,
    )


SUSPECTS = (
    suspect(P.MEMORY, "M-1", "memory.cells", 0.9),
    suspect(P.MEMORY, "M-1", "memory.contact", 0.05),
    suspect(P.MEMORY, "SHOP-M", "memory.cells", 0.01),
    suspect(P.MEMORY, "", "memory.settings", 0.02),
    suspect(None, "", "nothing", 0.02),
)
ACT = Act("replace M-1", "replace", ("M-1",), (P.MEMORY,), 70.0, 10.0, 0.9, 12.0, 92.0, 0.95)
VERDICT = Verdict(
    SUSPECTS,
    {"memory": PartStatus.REPLACE, "M-1": PartStatus.REPLACE, "M-2": PartStatus.CLEARED},
    "Replace the memory M-1",
    0.9,
    None,
    acts=(ACT,),
    advice=Advice(Course.ACT, "Replace M-1: needed with 95 %", ACT),
)
FROZEN = LockedVerdict(1_790_000_000.0, "Replace the memory M-1", "replace M-1", (), SUSPECTS, 2, "before the order")


def shown(station: PartsStation, event: object) -> None:
    station._state.take_event(event)  # type: ignore[arg-type]
    station._state.refresh_now()


def test_a_frozen_verdict_and_what_became_of_it_stand_in_the_last_line(qtbot: QtBot, station: PartsStation) -> None:
    bar = station.record
    assert bar.words.text() == "No verdict locked yet."
    assert not bar.buttons["lock"].isEnabled()
    shown(station, VerdictEvent(VERDICT))
    with qtbot.waitSignal(bar.lock_wanted):
        bar.buttons["lock"].click()
    shown(station, DecisionsEvent(Decisions((FROZEN,))))
    assert bar.words.text().startswith(f"Locked {datetime.fromtimestamp(FROZEN.wall):%d %b %Y}")
    assert bar.words.text().endswith("replace M-1")
    assert "+21  3 × wrong memory word" in bar.words.toolTip()
    assert "before the order" in bar.words.toolTip()
    shown(station, DecisionsEvent(Decisions((FROZEN,), ActualCause(0.0, (Culprit(P.MEMORY, "M-1"),)))))
    assert bar.words.text() == "Actual cause: the memory M-1, predicted at 95 %."
    shown(station, DecisionsEvent(Decisions((), ActualCause(0.0, ()))))
    assert "no verdict had been locked" in bar.words.text()


def test_what_it_turned_out_to_be_is_ticked_as_far_as_it_is_known(qtbot: QtBot, station: PartsStation) -> None:
    shown(station, VerdictEvent(VERDICT))
    dialog = station.ask_actual_cause()
    names = [item.text(0) for n in range(dialog.parts.topLevelItemCount()) if (item := dialog.parts.topLevelItem(n))]
    assert names == ["memory M-1", "settings of the memory"]
    head = dialog.parts.topLevelItem(0)
    assert head is not None
    assert not dialog._keep.isEnabled()
    head.setCheckState(0, Qt.CheckState.Checked)
    assert dialog.culprits() == (Culprit(P.MEMORY, "M-1"),)
    way = head.child(1)
    assert way is not None
    way.setCheckState(0, Qt.CheckState.Checked)
    assert dialog.culprits() == (Culprit(P.MEMORY, "M-1", "memory.contact"),)
    dialog.note.setText("seated anew")
    with qtbot.waitSignal(station.actual_cause_wanted) as wanted:
        dialog.accept()
    assert wanted.args == [CloseJob((Culprit(P.MEMORY, "M-1", "memory.contact"),), "seated anew")]
    other = station.ask_actual_cause()
    other.nothing.setChecked(True)
    assert other._keep.isEnabled()
    assert not other.parts.isEnabled()
    assert other.answer().culprits == ()


def test_closed_jobs_can_be_left_out_one_by_one(qtbot: QtBot, station: PartsStation) -> None:
    jobs = (
        ClosedJob("a", "0399", 1_772_000_000.0, (Culprit(P.POWER, "S-1"),), 0.91),
        ClosedJob("b", "", 1_772_900_000.0, (), None, counted=False),
    )
    changes = (PriorChange("power.cuts", "supply lets go", P.POWER, 0.036, 0.05, 0.6),)
    shown(station, DecisionsEvent(Decisions(), jobs, changes))
    dialog = station.show_closed()
    rows = [
        [item.text(column) for column in range(1, 5)]
        for n in range(dialog.list.topLevelItemCount())
        if (item := dialog.list.topLevelItem(n))
    ]
    assert rows == [
        ["b", date.fromtimestamp(jobs[1].wall).isoformat(), "nothing faulty", "–"],
        ["0399, a", date.fromtimestamp(jobs[0].wall).isoformat(), "the power S-1", "91 %"],
    ]
    assert "power: supply lets go: 3.6 % of all jobs" in dialog.changes.text()
    assert not dialog.reopen.isEnabled()
    item = dialog.list.topLevelItem(1)
    assert item is not None
    with qtbot.waitSignal(station.job_counts) as counting:
        item.setCheckState(0, Qt.CheckState.Unchecked)
    assert counting.args == ["a", False]
    shown(station, DecisionsEvent(Decisions((), ActualCause(0.0, ())), (), ()))
    assert "No closed job counts" in dialog.changes.text()
    with qtbot.waitSignal(station.reopen_wanted):
        dialog.reopen.click()


def test_runs_are_put_down_to_trials(qtbot: QtBot, station: PartsStation) -> None:
    assert not station.record.buttons["assign_runs"].isEnabled()
    shown(station, BookEvent(Book(PARTS, (Trial(0, "As it came in", FIT, (1, 2)), Trial(1, "M-1 alone", FIT, (3,))))))
    assert station.record.buttons["assign_runs"].isEnabled()
    dialog = station.show_runs()
    boxes = [dialog.findChild(QComboBox, f"run_{run}") for run in (1, 2, 3)]
    assert [box.currentIndex() for box in boxes if box is not None] == [0, 0, 1]
    second = boxes[1]
    assert second is not None
    with qtbot.waitSignal(station.runs_assigned) as wanted:
        second.activated.emit(1)
    assert wanted.args == [2, 1]


def test_a_new_part_is_taken_in_under_a_tag_of_its_own(qtbot: QtBot, station: PartsStation) -> None:
    dialog = station.ask_new_part()
    assert dialog.tag.text() == "N-1"
    dialog.tag.setText("M-1")
    assert not dialog._take.isEnabled()
    dialog.tag.setText(" N-7 ")
    dialog.kind.setCurrentIndex(dialog.kind.findData(P.BOARD))
    dialog.name.setText("QB-50 Fender, from stock")
    with qtbot.waitSignal(station.part_wanted) as wanted:
        dialog.accept()
    assert wanted.args == [AddPart("N-7", P.BOARD, "QB-50 Fender, from stock")]


def test_a_trial_may_be_for_good_also_when_nothing_else_changes(qtbot: QtBot, station: PartsStation) -> None:
    assert not station.begin.isEnabled()
    station.for_good.click()
    assert station.begin.isEnabled()
    with qtbot.waitSignal(station.trial_wanted) as wanted:
        station.begin.click()
    assert wanted.args == ["The same again", FIT, (), True]
    assert not station.for_good.isChecked()


def test_where_machine_and_book_differ_is_asked(qtbot: QtBot, station: PartsStation) -> None:
    bar = station.questions
    assert not bar.isVisible()
    shown(
        station, BookEvent(BOOK, ("M-2 is in B2 by the book, but the machine reports it in A1", "D-1 is missing", "x"))
    )
    assert bar.isVisible()
    assert "M-2 is in B2" in bar.words.text()
    assert "1 more" in bar.words.text()
    with qtbot.waitSignal(bar.machine_is_right):
        bar.findChild(QPushButton, "machine_is_right").click()
    with qtbot.waitSignal(bar.book_is_right):
        bar.findChild(QPushButton, "book_is_right").click()
    shown(station, BookEvent(BOOK))
    assert not bar.isVisible()


def test_the_advice_is_reported_in_few_words() -> None:
    assert course_words(Advice(Course.ACT, "Replace M-1: needed with 95 %")) == "Replace M-1: needed with 95 %"
    assert "run the test below" in course_words(Advice(Course.TRY, "Too early"))


def test_tags_are_written_as_pages_to_print(qtbot: QtBot, tmp_path: Path) -> None:
    tags = tags_of(BOOK, VERDICT.statuses, "Playout desk")
    assert [tag.code for tag in tags] == ["B-1", "P-1", "M-1", "M-2"]
    assert {tag.code: tag.status for tag in tags}["M-2"] is PartStatus.CLEARED
    assert {tag.code: tag.place for tag in tags}["M-1"] == "A2"
    swapped = Book(PARTS, (*BOOK.trials, Trial(1, "ours", Configuration(("B-1", "SHOP-P")))))
    ours = tags_of(swapped, VERDICT.statuses, "Playout desk")[-1]
    assert (ours.code, ours.whose, ours.status) == ("SHOP-P", "ours, known good", PartStatus.UNTESTED)
    assert write_tags(tags, "0417", tmp_path / "tags.pdf") == 1
    assert (tmp_path / "tags.pdf").read_bytes().startswith(b"%PDF-")
    assert write_tags(tags * 4, "0417", tmp_path / "many.pdf") == 2
    with pytest.raises(EnvironmentFault, match="No such file"):
        write_tags(tags, "0417", tmp_path / "no" / "such" / "tags.pdf")


@pytest.mark.parametrize(
    ("after", "words"),
    [
        (Configuration(("B-1", "SHOP-P", "M-1", "M-2")), "SHOP-P in place of P-1"),
        (Configuration(("B-1", "P-1", "M-1")), "M-2 removed"),
        (Configuration(FIT.tags, FIT.places, (P.MEMORY,)), "Settings back to stock"),
        (Configuration(FIT.tags, FIT.places, (), ("cooling",)), "Cleaned or reseated"),
        (Configuration(FIT.tags, (("B2", "M-1"), ("A2", "M-2"))), "Parts moved"),
        (FIT, "The same again"),
    ],
)
def test_the_usual_words_for_a_change(after: Configuration, words: str) -> None:
    assert change_words(FIT, after) == words


def test_columns_without_a_place_are_named_by_their_kind() -> None:
    assert Column(P.MEMORY, "", 1).title == "memory 2"
    assert Column(P.GRAPHICS, "card0", 0).title == "graphics"


def test_a_swap_on_a_real_engine_changes_the_verdict_and_can_be_undone(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow, tmp_path: Path
) -> None:
    window = open_window(engine)
    window.show_station(3)
    state, station = window.state, window.parts
    assert [trial.title for trial in state.book.trials] == ["As it came in"]
    window.start()
    qtbot.waitUntil(lambda: any(each.core == 5 for each in state.findings), timeout=60_000)
    window.stop()
    qtbot.waitUntil(lambda: not state.active, timeout=10_000)
    assert state.book.trials[0].runs == (1,)
    assert station.trials.ending_of(state.book.trials[0])[1].endswith(("finding", "findings"))
    qtbot.waitUntil(lambda: state.verdict is not None and bool(state.verdict.acts), timeout=10_000)
    station.cleaned.click()
    station.begin.click()
    qtbot.waitUntil(lambda: len(state.book.trials) == 2, timeout=10_000)
    assert state.book.trials[1].configuration.treated == ("cooling", "graphics")
    station.outcome_wanted.emit(1, Outcome(Ended.CLEAN, "matrix", 60.0, None, 0.9))
    qtbot.waitUntil(lambda: bool(state.book.trials[1].outcomes), timeout=10_000)
    assert station.trials.ending_of(state.book.trials[1])[1] == "clean"
    assert state.verdict is not None
    station.record.buttons["lock"].click()
    qtbot.waitUntil(lambda: len(state.decided.decisions.locked) == 1, timeout=10_000)
    own = next(part for part in state.book.parts if part.kind is P.PROCESSOR and not part.known_good)
    station.actual_cause_wanted.emit(CloseJob((Culprit(P.PROCESSOR, own.tag),)))
    qtbot.waitUntil(lambda: bool(state.decided.closed), timeout=10_000)
    actual_cause = "Actual cause: the processor"
    qtbot.waitUntil(lambda: station.record.words.text().startswith(actual_cause), timeout=10_000)
    station.job_counts.emit(state.decided.closed[0].job, False)
    qtbot.waitUntil(lambda: not state.decided.closed[0].counted, timeout=10_000)
    station.reopen_wanted.emit()
    qtbot.waitUntil(lambda: not state.decided.closed, timeout=10_000)
    station.runs_assigned.emit(1, 1)
    qtbot.waitUntil(lambda: state.book.trials[1].runs == (1,), timeout=10_000)
    station.undo.click()
    qtbot.waitUntil(lambda: state.book.trials[1].runs == (), timeout=10_000)
    window.files.write_tags(tmp_path / "tags.pdf")
    assert (tmp_path / "tags.pdf").stat().st_size > 1000
    station.trial_wanted.emit("The same again", state.book.trials[1].configuration, (("memory", 15.0),), False)
    qtbot.waitUntil(lambda: state.sheet is not None and "15 min of memory" in state.sheet.title, timeout=10_000)
    station.undo.click()
    qtbot.waitUntil(lambda: len(state.book.trials) == 2, timeout=10_000)
    station.undo.click()
    qtbot.waitUntil(lambda: not state.book.trials[1].outcomes, timeout=10_000)
    station.undo.click()
    qtbot.waitUntil(lambda: len(state.book.trials) == 1, timeout=10_000)


def test_a_module_that_is_to_change_its_slot_is_set_up_as_proposed(qtbot: QtBot, station: PartsStation) -> None:
    offered = {each.title: each for each in candidates(BOOK, FIT)}
    for title in ("M-1 alone, in slot B2", "M-1 and M-2 change slots"):
        proposed = NextTrial(offered[title], (("memory", 15.0),), 0.5, 0.6, "M-2 (60 %)", "M-1 (70 %)")
        station.set_up(proposed)
        assert station.trials.planned() == offered[title].configuration
        with qtbot.waitSignal(station.trial_wanted) as wanted:
            station.begin.click()
        assert wanted.args[1] == offered[title].configuration
    single = replace(FIT, tags=("B-1", "P-1", "M-1"), places=(("A2", "M-1"),))
    moved = next(each for each in candidates(BOOK, single) if each.title == "M-1 in another slot")
    station.set_up(NextTrial(moved, (("memory", 15.0),), 0.5, 0.6, "M-2 (60 %)", "M-1 (70 %)"))
    assert station.trials.planned() == moved.configuration
    titles = [column.title for column in columns_of(BOOK, moved.configuration)]
    assert titles == ["board", "processor", "A2", "B2", "another slot"]
    row = row_of(BOOK, moved.configuration, columns_of(BOOK, moved.configuration))
    assert row == ["B-1", "P-1", "", "", "M-1"]
