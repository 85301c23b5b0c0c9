"""The Compare station: runs picked by keyboard, conditions, refusals, a room typed in, the proof run, the report."""

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QInputDialog, QPushButton
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.heat.conftest import sail_loft  # noqa: F401 (a fixture)
from tests.ui.conftest import OpenWindow
from thresher.compare.apart import Request, compare_apart
from thresher.compare.comparison import Comparison
from thresher.compare.stored_spans import RunChoice, list_runs
from thresher.journal.jobfile import JobFile
from thresher.model.sheet import GateKind
from thresher.ui import theme
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.change_panel import ChangePanel
from thresher.ui.stations.compare.curves_view import CurvesView
from thresher.ui.stations.compare.figures import figures_of
from thresher.ui.stations.compare.marks import letter_of, pen_of
from thresher.ui.stations.compare.remedies_view import RemediesView
from thresher.ui.stations.compare.station import first_picks, newly_ended
from thresher.ui.window import MainWindow

_COMPARE = 4


@pytest.fixture
def job(tmp_path: Path, sail_loft: Path) -> Path:  # noqa: F811
    """A copy of the sail loft's job that may be written to."""
    return Path(shutil.copy(sail_loft, tmp_path / "0428-sail-loft.thresher"))


@pytest.fixture
def window(tmp_path: Path, job: Path, open_window: OpenWindow, qtbot: QtBot) -> Iterator[MainWindow]:
    """A window on the sail loft, at its Compare station, with the comparison done."""
    engine = EngineProcess(tmp_path, "--simulate", "sail-loft", "--speed", "20", job=job)
    opened = open_window(engine)
    opened.show_station(_COMPARE)
    qtbot.waitUntil(lambda: opened.compare.comparison is not None, timeout=60_000)
    yield opened
    engine.close()


def test_the_newest_runs_with_the_same_load_are_compared_at_once(window: MainWindow) -> None:
    station = window.compare
    found = station.comparison
    assert found is not None
    assert [run.choice.name for run in found.runs] == ["As it came in", "Dust cleaned out", "Fresh paste"]
    assert "real change" in station.curves.accessibleDescription()
    assert "power: same" in station.conditions.accessibleDescription()
    assert "Fresh paste: 6" in station.remedies.accessibleDescription()


def test_runs_are_picked_by_keyboard_alone_and_a_short_one_is_refused(window: MainWindow, qtbot: QtBot) -> None:
    station, before = window.compare, window.compare.comparison
    station.list.setFocus()
    for _ in range(3):
        qtbot.keyClick(station.list, Qt.Key.Key_Down)
    qtbot.keyClick(station.list, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: station.comparison is not None and station.comparison is not before, timeout=60_000)
    found = station.comparison
    assert found is not None and found.difference is not None
    assert found.difference.refused
    assert "past the plateau: refused" in station.conditions.accessibleDescription()
    text = station.list.runs.data(station.list.runs.index(3))
    assert str(text).startswith("Side panel off, selected as D")
    qtbot.keyClick(station.list, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: station.comparison is not None and len(station.comparison.runs) == 3, timeout=60_000)


def test_a_run_is_marked_as_known_good(window: MainWindow, qtbot: QtBot) -> None:
    station, before = window.compare, window.compare.comparison
    station.list.setCurrentIndex(station.list.runs.index(2))
    station.good.click()
    qtbot.waitUntil(lambda: station.comparison is not None and station.comparison is not before, timeout=60_000)
    assert station.comparison is not None
    assert station.comparison.runs[0].verdict.expected_from == "a known-good run"
    assert station.list.runs.third_line(station.list.runs.choices[2]).startswith("known good · ")


def test_quick_changes_of_mind_are_compared_once_more_only(
    window: MainWindow, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    station, asked = window.compare, []

    def counted(request: Request) -> Comparison:
        asked.append(len(request.refs))
        return compare_apart(request)

    monkeypatch.setattr("thresher.ui.stations.compare.station.compare_apart", counted)
    first = station.list.runs.choices[0]
    for _ in range(6):
        station.list.toggle(first)
    station.list.toggle(first)
    qtbot.waitUntil(lambda: station.comparison is not None and len(station.comparison.runs) == 2, timeout=60_000)
    assert asked == [2, 2]  # the first wish, and the last one


def test_the_room_is_asked_without_holding_anything_up(window: MainWindow, qtbot: QtBot) -> None:
    station = window.compare
    station.list.setCurrentIndex(station.list.runs.index(1))
    station.room.click()
    dialog = station.findChild(QInputDialog, "compare_room_dialog")
    assert dialog is not None and dialog.doubleValue() == 22.4
    dialog.setDoubleValue(24.5)
    with qtbot.waitSignal(station.room_wanted, timeout=5_000) as wanted:
        dialog.accept()
    assert wanted.args == [2, 24.5]


def test_a_room_typed_in_goes_into_the_job_and_into_the_comparison(window: MainWindow, job: Path, qtbot: QtBot) -> None:
    station, before = window.compare, window.compare.comparison
    station.set_room(station.list.runs.choices[2], 25.0)
    qtbot.waitUntil(lambda: station.comparison is not None and station.comparison is not before, timeout=60_000)
    assert station.comparison is not None
    assert station.comparison.runs[2].room_c == 25.0

    def kept() -> bool:
        with JobFile(job, read_only=True) as stored:
            return stored.room_c(stored.runs()[2]) == 25.0

    qtbot.waitUntil(kept, timeout=10_000)


def test_the_proof_run_comes_on_the_bench_and_the_sentence_into_the_report(
    window: MainWindow, job: Path, qtbot: QtBot
) -> None:
    window.compare.change.findChild(QPushButton, "compare_proof").click()
    qtbot.waitUntil(lambda: window.stations.currentIndex() == 1, timeout=10_000)
    qtbot.waitUntil(
        lambda: window.state.sheet is not None and window.state.sheet.title.startswith("Proof: "), timeout=10_000
    )
    assert window.state.sheet is not None
    assert [gate.kind for gate in window.state.sheet.gates] == [GateKind.COOL_DOWN]
    window.compare.change.findChild(QPushButton, "compare_note").click()
    qtbot.waitUntil(
        lambda: any("real change" in each.title + each.detail for each in window.state.tape), timeout=10_000
    )


def test_runs_of_another_job_are_listed_with_its_name(
    window: MainWindow, job: Path, tmp_path: Path, qtbot: QtBot
) -> None:
    other = Path(shutil.copy(job, tmp_path / "other.thresher"))
    window.compare.add_job(other)
    model = window.compare.list.runs
    qtbot.waitUntil(lambda: len(model.choices) == 8, timeout=10_000)
    assert model.second_line(model.choices[7]).startswith("Sail loft, pattern PC · ")
    assert not model.second_line(model.choices[0]).startswith("Sail loft")


def test_a_job_without_a_run_says_what_to_do(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    opened = open_window(engine)
    opened.show_station(_COMPARE)
    qtbot.waitUntil(lambda: "No run of this job" in opened.compare.curves.waiting, timeout=20_000)
    engine.close()


def compared(job: Path, count: int) -> Comparison:
    return compare_apart(Request(tuple(each.ref for each in list_runs(job)[:count])))


@pytest.mark.parametrize("count", [1, 2, 4])
@pytest.mark.parametrize("scheme", [theme.LIGHT, theme.DARK])
def test_every_view_draws_one_run_two_and_a_refusal_in_any_size(
    qtbot: QtBot,
    job: Path,
    count: int,
    scheme: theme.Scheme,
) -> None:
    found = compared(job, count)
    state, look = BenchState(), Look(scheme)
    for make in (CurvesView, RemediesView, ChangePanel):
        view = make(state, look)
        qtbot.addWidget(view)
        view.show_comparison(found)
        for size in (QSize(640, 480), QSize(252, 300), QSize(90, 60)):
            view.resize(size)
            picture = QPixmap(size)
            view.render(picture)
            colours = {
                picture.toImage().pixel(x, y) for x in range(0, size.width(), 3) for y in range(0, size.height(), 3)
            }
            assert len(colours) > 1


def test_figures_show_before_and_after(job: Path) -> None:
    rows = {each.name: each for each in figures_of(compared(job, 2))}
    assert rows["Resistance"].words.count("→") == 1 and rows["Resistance"].words.endswith("K/W")
    assert rows["Throttled by heat"].words.endswith("→ 0 s")
    assert "% of the work lost" in rows["Throttled by heat"].small
    assert rows["Plateau"].small == "as measured, room 22.0 → 22.4 °C"
    single = {each.name: each for each in figures_of(compared(job, 1))}
    assert "→" not in single["Resistance"].words


def test_runs_are_told_apart_without_colour() -> None:
    pens = {(pen_of(place, theme.LIGHT).style(), pen_of(place, theme.LIGHT).widthF()) for place in range(8)}
    assert len(pens) >= 6
    assert [letter_of(place) for place in range(3)] == ["A", "B", "C"]


def test_a_run_that_has_just_ended_joins_what_is_compared(job: Path) -> None:
    choices = list_runs(job)
    first, second, third, short = (each.ref for each in choices)
    assert newly_ended(choices, {first}, [first]) == [second, third]
    assert newly_ended(choices, {first, second, third}, [first, second]) == []  # two minutes beside twenty-two
    assert newly_ended(choices, {first, second, short}, [short]) == [third]


def test_what_is_picked_at_first_has_one_load_and_no_short_run(job: Path) -> None:
    choices: tuple[RunChoice, ...] = list_runs(job)
    assert [ref.run for ref in first_picks(choices)] == [1, 2, 3]
    assert first_picks(()) == []
