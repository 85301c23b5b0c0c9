"""A stored job on the Bench, and the picture that the report's command draws of it."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtGui import QColor, QImage
from pytestqt.qtbot import QtBot

from tests.conftest import Heard
from thresher.app.bench_picture import draw_bench
from thresher.app.stored_job import stored_history, stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault
from thresher.simulator.scenario import Scenario
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.theme import DARK, LIGHT
from thresher.ui.window import MainWindow

MakeEngine = Callable[..., tuple[Engine, Heard]]


@pytest.fixture
def job(finished_job: Path) -> Path:
    """The job file of a run with findings."""
    return finished_job


OpenStored = Callable[..., MainWindow]


@pytest.fixture
def open_stored(qtbot: QtBot, keep: Callable[[MainWindow], None], job: Path) -> OpenStored:
    def open_it(size: tuple[int, int] = (1280, 800), dark: bool = False) -> MainWindow:
        state = BenchState()
        window = MainWindow(state, Look(DARK if dark else LIGHT), None)
        keep(window)
        window.resize(*size)
        window.show()
        with JobFile(job) as stored:
            state.take_snapshot(stored_snapshot(stored, job_verdict(stored)))
            history = stored_history(stored)
            state.take_history(history.at, history.values)
        state.refresh_now()
        qtbot.wait(50)
        return window

    return open_it


@pytest.mark.parametrize("dark", [False, True])
@pytest.mark.parametrize("size", [(1280, 800), (1024, 700)])
def test_the_bench_shows_flags_lanes_and_marks(open_stored: OpenStored, size: tuple[int, int], dark: bool) -> None:
    window = open_stored(size, dark)
    scheme = DARK if dark else LIGHT
    image = window.grab().toImage()
    band = image.pixelColor(4, 4)
    assert band == QColor(scheme.band)
    # a fault flag stands in the run sheet where the finding is
    sheet = window.bench.run_sheet
    flags = [spot for spot in sheet.spots if "P-104" in spot.text]
    assert flags
    centre = sheet.mapTo(window, flags[0].area.center().toPoint())
    ratio = image.devicePixelRatio()
    assert image.pixelColor(int(centre.x() * ratio), int((centre.y() - 1) * ratio)) == QColor(scheme.fault)
    assert "faults found" in window.bench.head.sentence()
    assert not window.band.act_button.isEnabled()
    assert window.width() <= size[0]


def test_everything_on_the_map_stays_inside_it_at_the_smallest_size(open_stored: OpenStored) -> None:
    window = open_stored((1024, 700))
    machine = window.bench.map
    bottom = max(spot.area.bottom() for spot in machine.spots)
    assert bottom <= machine.height() - 24


def test_lanes_and_run_sheet_share_one_axis(open_stored: OpenStored) -> None:
    window = open_stored()
    axis = window.bench.axis
    lanes, sheet = window.bench.lanes, window.bench.run_sheet
    assert (lanes.mapTo(window, lanes.rect().topLeft()).x(), lanes.width()) == (
        sheet.mapTo(window, sheet.rect().topLeft()).x(),
        sheet.width(),
    )
    ground = QColor(LIGHT.panel)
    image = lanes.grab().toImage()
    now = round(axis.x(window.state.now, lanes.width()))
    column = [image.pixelColor(x, 8) for x in (now - 1, now, now + 1)]
    assert any(colour.lightness() < ground.lightness() - 80 for colour in column), (
        "the now line stands where the axis says"
    )


def test_the_picture_of_a_job_is_drawn_without_a_display(job: Path, tmp_path: Path) -> None:
    out = tmp_path / "bench.png"
    draw_bench(job, out)
    image = QImage(str(out))
    assert (image.width(), image.height()) == (1280, 800)
    assert image.pixelColor(4, 4) == QColor(LIGHT.band)


def test_a_job_without_a_run_cannot_be_pictured(make_engine: MakeEngine, ferry: Scenario, tmp_path: Path) -> None:
    engine, _ = make_engine(ferry)
    engine.watch(2)
    engine.close()
    with pytest.raises(EnvironmentFault, match="holds no run"):
        draw_bench(tmp_path / "job.thresher", tmp_path / "none.png")
