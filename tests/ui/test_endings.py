"""A machine that dies, in the window: the last seconds, the question, the countdown, and the part that is named."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.app.stored_job import stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.journal.jobfile import JobFile
from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.endings import EndingKind, LastMoments, Moment, SeenAtEnd, WorkerAt
from thresher.model.parts import PartKind
from thresher.ui import theme
from thresher.ui.app import can_only_be_looked_at, show_job
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.ending_view import strips_of
from thresher.ui.window import MainWindow

OpenWindow = Callable[[EngineProcess], MainWindow]

FREEZES = """
format = "thresher-scenario/1"
title = "Museum, ticket PC"
machine = "Ticket 1"
seed = 13
[processor]
name = "Tern 4-380"
cores = 4
threads_per_core = 1
base_mhz = 3600
all_core_mhz = 4000
boost_mhz = 4400
limit_c = 95.0
power_limit_w = 75.0
[board]
maker = "Quayside Boards"
name = "QB-30 Bollard"
firmware_maker = "Quayside Boards"
firmware_version = "C2"
firmware_date = "11/02/2023"
slots = ["A1"]
[[memory]]
slot = "A1"
maker = "Mussel Bank"
part_number = "MB-8D4-3200"
size_gib = 8
rated_mts = 3200
configured_mts = 3200
[[drives]]
name = "nvme0n1"
model = "Slipway N1 256GB"
serial = "SL1K-002219"
firmware = "1A4"
size_bytes = 256060514304
[[faults]]
kind = "{kind}"
strength = {strength}
core = 1
"""

SHEET = """
format = "thresher-sheet/1"
title = "Until it ends"
[after_crash]
then = "{then}"
most = 12
between_s = 60.0
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = "20:00"
"""


@pytest.fixture
def dying(tmp_path: Path) -> Iterator[Callable[..., EngineProcess]]:
    """Engines on a machine that ends under load."""
    started: list[EngineProcess] = []

    def start(kind: str = "freezes", strength: float = 200.0, then: str = "stop and wait") -> EngineProcess:
        scenario, sheet = tmp_path / "ticket.toml", tmp_path / "sheet.toml"
        scenario.write_text(FREEZES.format(kind=kind, strength=strength))
        sheet.write_text(SHEET.format(then=then))
        arguments = ("--simulate", str(scenario), "--speed", "40", "--sheet", str(sheet))
        started.append(EngineProcess(tmp_path, *arguments))
        return started[-1]

    yield start
    for each in started:
        each.close()


def test_after_an_end_the_bench_shows_its_last_seconds_and_asks(
    qtbot: QtBot, dying: Callable[..., EngineProcess], open_window: OpenWindow
) -> None:
    window = open_window(dying("freezes", 60.0))
    state, view = window.state, window.bench.ending
    assert not view.isVisible()
    window.start()
    qtbot.waitUntil(lambda: view.isVisible() and view.paper.moments is not None, timeout=60_000)
    assert not window.bench.lanes.isVisible()
    assert view.answers.isVisible()
    window.grab()
    told = {spot.text.partition(":")[0] for spot in view.paper.spots}
    assert {"Core temp", "Core clock", "Beats"} <= told
    qtbot.mouseClick(view.buttons[SeenAtEnd.STOOD_STILL], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: state.endings[-1].seen is SeenAtEnd.STOOD_STILL, timeout=20_000)
    assert state.endings[-1].kind is EndingKind.FREEZE
    qtbot.waitUntil(lambda: not view.answers.isVisible(), timeout=20_000)
    assert any(each.code == "E-903" for each in state.findings)
    qtbot.mouseClick(view.lanes_button, Qt.MouseButton.LeftButton)
    assert window.bench.lanes.isVisible()
    assert not view.isVisible()


def test_the_countdown_covers_the_window_and_any_key_stops_it(
    qtbot: QtBot, dying: Callable[..., EngineProcess], open_window: OpenWindow
) -> None:
    window = open_window(dying("panics", 200.0, "go on"))
    window.start()
    qtbot.waitUntil(window.going_on.isVisible, timeout=60_000)
    words = {name: label.text() for name, label in window.going_on.labels.items()}
    assert "kernel panic" in words["happened"]
    assert "what is left of Until it ends" in words["next"]
    assert words["ends"] == "That was sudden end 1; after 12 it stops by itself."
    qtbot.keyClick(window.going_on, Qt.Key.Key_Shift)  # by itself it is no key
    assert window.going_on.isVisible()
    qtbot.keyClick(window.going_on, Qt.Key.Key_A)
    qtbot.waitUntil(lambda: not window.going_on.isVisible(), timeout=20_000)
    assert window.state.going_on.given_up == "stopped by hand"
    assert not window.state.active


def test_return_goes_on_at_once(qtbot: QtBot, dying: Callable[..., EngineProcess], open_window: OpenWindow) -> None:
    window = open_window(dying("panics", 200.0, "go on"))
    window.start()
    qtbot.waitUntil(window.going_on.isVisible, timeout=60_000)
    qtbot.keyClick(window.going_on, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.state.run.run == 2, timeout=30_000)
    assert not window.going_on.isVisible()
    window.stop()


def test_the_search_shows_every_group_and_what_it_came_to(
    qtbot: QtBot, dying: Callable[..., EngineProcess], open_window: OpenWindow
) -> None:
    window = open_window(dying("crashing core", 900.0, "find the part"))
    state, view = window.state, window.bench.ending
    window.going_on.follow = lambda: None  # type: ignore[method-assign]
    window.start()
    qtbot.waitUntil(lambda: bool(state.going_on.named), timeout=240_000)
    assert state.going_on.named == "matrix on core 1"
    qtbot.waitUntil(view.isVisible, timeout=20_000)
    window.grab()
    told = [spot.text for spot in view.paper.spots]
    assert any(text.startswith("matrix on core 1: ended after") for text in told)
    assert any("clean for" in text for text in told)
    assert view.paper.spot_at(QPointF(-5, -5)) is None


def test_a_stored_job_shows_the_same_without_an_engine(
    qtbot: QtBot,
    qapp: QApplication,
    tmp_path: Path,
    dying: Callable[..., EngineProcess],
    keep: Callable[[MainWindow], None],
) -> None:
    engine = dying("panics")
    from thresher.protocol.commands import GetSnapshot, StartRun

    engine.client.call(StartRun())
    qtbot.waitUntil(lambda: bool(engine.client.call(GetSnapshot()).endings), timeout=60_000)
    engine.close()
    with JobFile(engine.job, read_only=True) as stored:
        assert stored_snapshot(stored, job_verdict(stored)).endings[0].kind is EndingKind.PANIC
    window = MainWindow(BenchState(), Look(theme.LIGHT), None)
    keep(window)
    window.show()
    show_job(window, engine.job)
    window.state.refresh_now()
    qtbot.waitUntil(window.bench.ending.isVisible, timeout=10_000)
    assert window.bench.ending.paper.moments is not None
    assert not can_only_be_looked_at(engine.job)
    assert not can_only_be_looked_at(tmp_path / "no such job")


def test_the_lanes_of_the_last_seconds_are_those_of_the_cores_that_worked(qapp: QApplication) -> None:
    def clock(core: int) -> Channel:
        limits = (Limit(3.6, LimitSide.ABOVE, "base"),)
        return Channel(f"counters/cpu{core}", f"Core {core}", Quantity.CLOCK, PartKind.PROCESSOR, "/x", limits, core)

    channels = (clock(0), clock(1))
    moments = LastMoments(
        channels,
        tuple(Moment(float(at), 0.0, 1, (0.8, 4.4), (WorkerAt(0, 1, 10 * at),)) for at in range(200)),
    )
    scheme = theme.LIGHT
    (clocks, beats) = strips_of(moments, scheme.part, (1,))
    assert [value for line in clocks.lines for _, value in line][-1] == 4.4
    assert clocks.lines[0][0][0] == 60.0  # no further back than a minute
    assert beats.title == "Beats"
    assert {round(value, 6) for _, value in beats.lines[0]} == {10.0}
    assert strips_of(LastMoments(channels, ()), scheme.part) == []
