"""The Intake: what is typed is kept, symptoms change what is likely and what is proposed, parts can be asked."""

from collections.abc import Callable
from dataclasses import replace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from tests.conftest import Heard
from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.benchmodels.scenario import Scenario
from thresher.engine.engine import Engine
from thresher.engine.protocol import JobEvent, Snapshot
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.ui.window import MainWindow

MakeEngine = Callable[..., tuple[Engine, Heard]]


def job_of(engine: EngineProcess) -> dict[str, str]:
    return engine.client.call("snapshot", Snapshot).job


def chip(window: MainWindow, text: str) -> QPushButton:
    found = window.intake.findChild(QPushButton, f"symptom_{text.replace(' ', '_')}")
    assert found is not None
    return found


def test_what_is_typed_is_kept_without_being_asked(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    assert window.intake.job.machine.text() == "Lighthouse radio, playout desk PC"
    window.intake.job.number.clear()
    qtbot.keyClicks(window.intake.job.number, "0519")
    qtbot.keyClicks(window.intake.job.words, "stops in the news, since the summer")
    qtbot.waitUntil(lambda: job_of(engine).get("number") == "0519", timeout=5_000)
    qtbot.waitUntil(lambda: job_of(engine).get("words", "").endswith("summer"), timeout=5_000)
    with JobFile(engine.job) as stored:
        assert stored.job()["words"] == "stops in the news, since the summer"


def test_closing_keeps_what_was_typed_a_moment_ago(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    qtbot.keyClicks(window.intake.job.words, "the last word")
    window.intake.flush()
    qtbot.waitUntil(lambda: job_of(engine).get("words") == "the last word", timeout=5_000)


def test_symptoms_change_what_is_proposed_and_show_in_the_band(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    assert chip(window, "worse when warm").isChecked()
    for text in ("resets under load", "worse when warm", "slow under load"):
        qtbot.mouseClick(chip(window, text), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.symptoms == ("slow under load",), timeout=5_000)
    assert job_of(engine)["symptoms"] == "slow under load"
    qtbot.waitUntil(lambda: window.state.intake.offers[0].name == "heat-hunt", timeout=5_000)
    first = window.state.intake.offers[0]
    assert first.fits
    assert first.reasons[0].startswith("slow under load: ")


def test_a_proposed_sheet_goes_to_the_bench_and_starts_nothing(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    button = window.intake.findChild(QPushButton, "offer_heat-hunt")
    assert button is not None
    button.click()
    state = window.state
    qtbot.waitUntil(lambda: state.sheet is not None and state.sheet.title == "Heat hunt, 22 min", timeout=5_000)
    qtbot.waitUntil(lambda: window.stations.currentIndex() == 1, timeout=5_000)
    assert state.run.state == "idle"


def test_parts_open_by_keyboard_and_every_fact_tells_its_source(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    parts = window.intake.parts
    parts.repaint()
    closed = len(parts.spots)
    parts.setFocus()
    qtbot.keyClick(parts, Qt.Key.Key_Down)
    qtbot.keyClick(parts, Qt.Key.Key_Return)
    parts.repaint()
    assert len(parts.spots) >= closed + 10
    assert any("read from /proc/cpuinfo" in spot.text for spot in parts.spots)
    qtbot.keyClick(parts, Qt.Key.Key_Space)
    parts.repaint()
    assert len(parts.spots) == closed


def test_the_engine_refuses_fields_and_symptoms_that_it_does_not_know(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    engine, heard = make_engine(lighthouse)
    with pytest.raises(InputError) as caught:
        engine.set_job({"colour": "red", "symptoms": "hums shanties"})
    assert {fault.place for fault in caught.value.faults} == {"colour", "symptoms"}
    with pytest.raises(InputError, match="no sheet 'nowhere'"):
        engine.choose_sheet("nowhere")
    engine.set_job({"symptoms": "freezes\nstop screen"})
    (event,) = [event for event in heard.events if isinstance(event, JobEvent)]
    assert event.symptoms == ("freezes", "stop screen")


def test_doubts_about_the_machine_are_on_the_tape_before_any_load(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    slow = tuple(replace(module, configured_mts=4800) for module in lighthouse.modules)
    engine, _ = make_engine(replace(lighthouse, modules=slow))
    told = [entry for entry in engine.snapshot().tape if entry.code == "M-120"]
    assert len(told) == 2
    assert "memory A2: 4800 of 5600 MT/s" in told[0].detail
    one_channel = (lighthouse.modules[0], replace(lighthouse.modules[1], slot="A1"))
    engine, _ = make_engine(replace(lighthouse, modules=one_channel), "two.thresher")
    assert any(entry.code == "M-130" for entry in engine.snapshot().tape)
