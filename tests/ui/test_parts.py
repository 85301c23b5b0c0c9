"""The Parts station: suspects, the decision, and the book of trials filled by mouse and keyboard."""

import pytest
from PyQt6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.model.parts import PartKind
from thresher.model.trials import Book, BookPart, Candidate, Ended, Fit, NextTrial, Trial
from thresher.ui.look import Look
from thresher.ui.parts.trials_panel import Column, columns_of, fit_of_row, row_of
from thresher.ui.state import BenchState
from thresher.ui.stations.parts import PartsStation, change_words

P = PartKind
PARTS = (
    BookPart("B-1", P.BOARD), BookPart("P-1", P.PROCESSOR), BookPart("M-1", P.MEMORY), BookPart("M-2", P.MEMORY),
    BookPart("SHOP-M", P.MEMORY, ours=True), BookPart("SHOP-P", P.PROCESSOR, ours=True),
)  # fmt: skip
FIT = Fit(("B-1", "P-1", "M-1", "M-2"), (("A2", "M-1"), ("B2", "M-2")))
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
    swapped = fit_of_row(BOOK, ["B-1", "SHOP-P", "", "M-1"], columns, FIT)
    assert set(swapped.tags) == {"B-1", "SHOP-P", "M-1"}
    assert swapped.places == (("B2", "M-1"),)
    assert row_of(BOOK, swapped, columns) == ["B-1", "SHOP-P", "", "M-1"]


def test_keys_go_from_place_to_place_and_through_what_could_be_there(qtbot: QtBot, station: PartsStation) -> None:
    panel = station.trials
    panel.setFocus()
    assert not station.begin.isEnabled()
    qtbot.keyClick(panel, Qt.Key.Key_Right)
    qtbot.keyClick(panel, Qt.Key.Key_Down)
    fit = panel.planned()
    assert fit is not None
    assert "SHOP-P" in fit.tags
    assert "P-1" not in fit.tags
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
    fit = panel.planned()
    assert fit is not None
    assert "SHOP-P" in fit.tags
    # a module does not fit into the socket, and stays where it was
    memory = next(area for area, part in panel._tray() if part.tag == "SHOP-M")
    qtbot.mousePress(panel, Qt.MouseButton.LeftButton, pos=memory.center().toPoint())
    qtbot.mouseRelease(panel, Qt.MouseButton.LeftButton, pos=row)
    assert panel.planned() == fit
    # back onto the tray: the place is empty
    qtbot.mousePress(panel, Qt.MouseButton.LeftButton, pos=row)
    qtbot.mouseRelease(panel, Qt.MouseButton.LeftButton, pos=tray.center().toPoint())
    assert "SHOP-P" not in (panel.planned() or FIT).tags


def test_settings_and_cleaning_are_trials_too(station: PartsStation) -> None:
    station.stock.click()
    fit = station.trials.planned()
    assert fit is not None
    assert fit.stock == (P.PROCESSOR, P.MEMORY)
    station.cleaned.click()
    station.seated.click()
    fit = station.trials.planned()
    assert fit is not None
    assert fit.treated == ("cooling", "board")
    station.stock.click()
    station.cleaned.click()
    station.seated.click()
    assert not station.begin.isEnabled()


def test_one_click_sets_the_proposed_trial_up_and_another_begins_it(qtbot: QtBot, station: PartsStation) -> None:
    alone = Fit(("B-1", "P-1", "M-1"), (("A2", "M-1"),))
    proposed = NextTrial(Candidate("M-1 alone", alone, 4.0), "memory", 5.0, 0.5, 0.6, "M-2 (60 %)", "M-1 (70 %)")
    station.set_up(proposed)
    assert station.trials.planned() == alone
    with qtbot.waitSignal(station.trial_wanted) as wanted:
        station.begin.click()
    assert wanted.args == ["M-1 alone", alone, "memory"]
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
    assert (number, outcome["ended"], outcome["minutes"], outcome["trust"]) == (0, Ended.FAILED, 3.0, 0.5)
    dialog.ended.setCurrentIndex(dialog.ended.findData(Ended.NO_START))
    answer = dialog.answer()
    assert (answer["load"], answer["minutes"], answer["kind"]) == ("", 0.0, None)


@pytest.mark.parametrize(
    ("after", "words"),
    [
        (Fit(("B-1", "SHOP-P", "M-1", "M-2")), "SHOP-P in place of P-1"),
        (Fit(("B-1", "P-1", "M-1")), "M-2 taken out"),
        (Fit(FIT.tags, FIT.places, (P.MEMORY,)), "Settings back to stock"),
        (Fit(FIT.tags, FIT.places, (), ("cooling",)), "Cleaned or seated anew"),
        (Fit(FIT.tags, (("B2", "M-1"), ("A2", "M-2"))), "Parts moved"),
        (FIT, "The same again"),
    ],
)
def test_the_usual_words_for_a_change(after: Fit, words: str) -> None:
    assert change_words(FIT, after) == words


def test_columns_without_a_place_are_named_by_their_kind() -> None:
    assert Column(P.MEMORY, "", 1).title == "memory 2"
    assert Column(P.GRAPHICS, "card0", 0).title == "graphics"


def test_a_swap_on_a_real_engine_changes_the_verdict_and_can_be_undone(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
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
    assert state.book.trials[1].fit.treated == ("cooling",)
    station.outcome_wanted.emit(
        1, {"ended": "clean", "load": "matrix", "minutes": 60.0, "kind": None, "trust": 0.9, "note": ""}
    )
    qtbot.waitUntil(lambda: bool(state.book.trials[1].outcomes), timeout=10_000)
    assert station.trials.ending_of(state.book.trials[1])[1] == "clean"
    station.undo.click()
    qtbot.waitUntil(lambda: not state.book.trials[1].outcomes, timeout=10_000)
    station.undo.click()
    qtbot.waitUntil(lambda: len(state.book.trials) == 1, timeout=10_000)
