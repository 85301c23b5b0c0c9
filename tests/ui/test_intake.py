"""The Intake: what is typed is kept, symptoms change what is likely and what is proposed, parts can be asked."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from tests.conftest import Heard
from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.app.demo import prepare_demo_bench
from thresher.app.launch import start_engine_process
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.model.parts import PartStatus
from thresher.protocol.commands import GetSnapshot
from thresher.protocol.events import JobEvent
from thresher.simulator.scenario import Scenario, shipped_scenarios
from thresher.ui.app import EngineKeeper
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow

MakeEngine = Callable[..., tuple[Engine, Heard]]


def job_of(engine: EngineProcess) -> dict[str, str]:
    return engine.client.call(GetSnapshot()).job


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
    window.intake.offers.open("heat-hunt")
    button = window.intake.findChild(QPushButton, "offer_heat-hunt")
    assert button is not None
    button.click()
    state = window.state
    qtbot.waitUntil(lambda: state.sheet is not None and state.sheet.title == "Heat hunt, 22 min", timeout=5_000)
    qtbot.waitUntil(lambda: window.stations.currentIndex() == 1, timeout=5_000)
    assert state.run.state == "idle"


def test_parts_open_by_keyboard_and_every_fact_reports_its_source(
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
        engine.jobs.set_fields({"colour": "red", "symptoms": "hums shanties"})
    assert {fault.place for fault in caught.value.faults} == {"colour", "symptoms"}
    with pytest.raises(InputError, match="no sheet 'nowhere'"):
        engine.sheets.choose("nowhere")
    engine.jobs.set_fields({"symptoms": "freezes\nstop screen"})
    (event,) = [event for event in heard.events if isinstance(event, JobEvent)]
    assert event.symptoms == ("freezes", "stop screen")


def test_doubts_about_the_machine_are_on_the_tape_before_any_load(
    make_engine: MakeEngine, lighthouse: Scenario
) -> None:
    slow = tuple(replace(module, configured_mts=4800) for module in lighthouse.modules)
    engine, _ = make_engine(replace(lighthouse, modules=slow))
    shown = [entry for entry in engine.snapshot().tape if entry.code == "M-120"]
    assert len(shown) == 2
    assert "memory A2: 4800 of 5600 MT/s" in shown[0].detail
    one_channel = (lighthouse.modules[0], replace(lighthouse.modules[1], slot="A1"))
    engine, _ = make_engine(replace(lighthouse, modules=one_channel), "two.thresher")
    assert any(entry.code == "M-130" for entry in engine.snapshot().tape)


def field(window: MainWindow, name: str) -> QLineEdit:
    found = window.intake.findChild(QLineEdit, name)
    assert found is not None
    return found


def button(window: MainWindow, name: str) -> QPushButton:
    found = window.intake.findChild(QPushButton, name)
    assert found is not None
    return found


def test_a_symptom_takes_a_time_and_a_note(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    window.show_station(0)
    qtbot.keyClicks(field(window, "when_worse_when_warm"), "since May")
    qtbot.keyClicks(field(window, "note_worse_when_warm"), "only by day")
    wanted = "resets under load\nworse when warm\tsince May\tonly by day"
    qtbot.waitUntil(lambda: job_of(engine)["symptoms"] == wanted, timeout=5_000)
    qtbot.mouseClick(chip(window, "freezes"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "freezes" in window.state.symptoms, timeout=5_000)
    assert "since May\tonly by day" in job_of(engine)["symptoms"], "picking another one loses nothing"


def test_what_should_be_there_shows_as_a_doubt_on_the_part(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    qtbot.keyClicks(field(window, "expected_memory"), "64")
    qtbot.waitUntil(window.intake.expected.trouble.isVisible, timeout=5_000)
    qtbot.keyClicks(field(window, "expected_memory"), " GB")
    qtbot.waitUntil(lambda: not window.intake.expected.trouble.isVisible(), timeout=5_000)
    window.intake.parts.repaint()
    assert any("M-150 Less memory than expected" in spot.text for spot in window.intake.parts.spots)
    assert field(window, "expected_memory").text() == "64 GB", "what is typed stays under the hand that types"


def test_a_limit_is_set_by_keyboard_with_its_reason(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    qtbot.mouseClick(button(window, "page_readings"), Qt.MouseButton.LeftButton)
    panel = window.intake.readings
    panel.list.setFocus()
    qtbot.keyClick(panel.list, Qt.Key.Key_Down)
    key = panel.list.chosen
    assert key == window.state.channels[0].key
    panel.value.setText("ninety")
    qtbot.keyClick(button(window, "limit_set"), Qt.Key.Key_Space)
    assert "Expected a number" in panel.name.text()
    panel.value.setText("90")
    qtbot.keyClick(button(window, "limit_set"), Qt.Key.Key_Space)
    assert "Give a reason" in panel.name.text()
    qtbot.keyClicks(panel.reason, "old paste")
    qtbot.keyClick(button(window, "limit_set"), Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.state.channels[0].limits[0].value == 90.0, timeout=5_000)
    assert window.state.channels[0].limits[0].reason == "old paste"
    panel.list.repaint()
    assert any("because old paste" in spot.text for spot in panel.list.spots)
    qtbot.keyClick(button(window, "limit_clear"), Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: window.state.channels[0].limits[0].reason == "", timeout=5_000)


def test_idle_readings_are_taken_and_a_channel_is_not_believed(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    window.intake.show_page(1)
    qtbot.mouseClick(button(window, "take_idle"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.intake.baseline is not None, timeout=20_000)
    window.state.refresh_now()
    assert "nothing odd" in window.intake.readings.notice.text()
    window.intake.readings.list.pick(window.state.channels[0].key)
    qtbot.mouseClick(button(window, "trust"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(window.state.channels[0].distrust), timeout=5_000)
    window.state.refresh_now()
    assert button(window, "trust").text() == "Trust sensor"
    assert window.intake.readings.list.ordered()[0] == 0, "what is odd stands first"


def test_the_shelf_takes_a_part_proves_it_and_lets_it_go(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    window.intake.show_page(2)
    shelf = window.intake.shelf
    qtbot.mouseClick(button(window, "shelf_keep"), Qt.MouseButton.LeftButton)
    assert "needs a tag" in shelf.notice.text()
    shelf.kind.setCurrentText("power")
    qtbot.keyClicks(shelf.tag, "SHOP-S1")
    qtbot.keyClicks(shelf.name, "Brackwater 650")
    qtbot.mouseClick(button(window, "shelf_keep"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.state.intake.shelf) == 1, timeout=5_000)
    assert window.state.intake.shelf[0].proved == ""
    qtbot.mouseClick(button(window, "shelf_proved"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.intake.shelf[0].proved != "", timeout=5_000)
    qtbot.mouseClick(button(window, "shelf_remove"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.state.intake.shelf == (), timeout=5_000)


def test_a_sheet_is_kept_as_ours_and_offered(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    window.show_station(0)
    window.intake.offers.open("heat-hunt")
    qtbot.mouseClick(button(window, "keep_heat-hunt"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: any(offer.own for offer in window.state.intake.offers), timeout=5_000)
    assert button(window, "edit_shop/heat-hunt").text() == "Change"


def test_parts_copy_as_text_with_their_sources(qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    window.show_station(0)
    parts = window.intake.parts
    window.intake.map.part_picked.emit("memory A2")
    parts.setFocus()
    qtbot.keyClick(parts, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    text = clipboard.text()
    assert text.startswith("Mussel Bank MB-16D5-5600 (memory A2, tag M-1)")
    assert "size: 16 GiB  [/sys/firmware/dmi/tables/DMI]" in text
    window.copy_parts()
    assert "Tern 8-460" in clipboard.text()


def test_the_strip_opens_another_job_and_makes_a_new_one(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.show_station(0)
    strip = window.intake.strip
    qtbot.waitUntil(lambda: len(strip.cards) == 1, timeout=5_000)
    with qtbot.waitSignal(window.job_wanted, timeout=5_000) as made:
        qtbot.keyClick(window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    path, model = made.args
    assert model == "lighthouse-playout"
    with JobFile(Path(path)) as stored:
        assert stored.job()["number"] == "0418"
    window.list_jobs()
    qtbot.waitUntil(lambda: len(strip.cards) == 2, timeout=5_000)
    strip.setFocus()
    qtbot.keyClick(strip, Qt.Key.Key_Right)
    with qtbot.waitSignal(window.job_wanted, timeout=5_000) as opened:
        qtbot.keyClick(strip, Qt.Key.Key_Return)
    assert opened.args == [path, "lighthouse-playout"]
    strip.repaint()
    assert any("0418" in spot.text for spot in strip.spots)


def test_another_job_comes_with_an_engine_of_its_own(
    qtbot: QtBot, tmp_path: Path, keep: Callable[[MainWindow], None]
) -> None:
    job, shop = prepare_demo_bench(tmp_path / "bench", fresh=False)
    socket, log = tmp_path / "engine.sock", tmp_path / "engine.log"
    arguments = ["--simulate", "lighthouse-playout", "--speed", "30", "--job", str(job), "--shop", str(shop)]
    process = start_engine_process(socket, arguments, log)
    state, link = BenchState(), EngineLink(socket)
    window = MainWindow(state, Look(), link)
    keep(window)
    link.opened.connect(state.take_snapshot)
    link.rows_came.connect(state.take_rows)
    link.event_came.connect(state.take_event)
    keeper = EngineKeeper(window, link, process, socket, log, arguments)
    window.show()
    window.show_station(0)
    link.open()
    qtbot.waitUntil(lambda: len(window.intake.strip.cards) == 6, timeout=20_000)
    place = next(n for n, card in enumerate(window.intake.strip.cards) if card.number == "0421")
    window.intake.strip.open(place)
    qtbot.waitUntil(lambda: state.job.get("number") == "0421", timeout=20_000)
    assert state.snapshot is not None
    codes = {doubt.code for doubt in state.snapshot.machine.doubts}
    assert {"M-120", "M-150", "D-110", "D-120", "S-110"} <= codes
    assert state.intake.last_visit.endswith("job 0288")
    window.close()
    qtbot.waitUntil(lambda: not socket.exists(), timeout=10_000)
    keeper.wait(10)


def test_one_drive_that_is_dying_condemns_no_other(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    text = shipped_scenarios()["lighthouse-playout"].read_text()
    at = text.index("[[graphics]]")
    sick = '[[drives]]\nname = "sda"\nmodel = "T4"\nserial = "T-1"\nfirmware = "1"\nsize_bytes = 4000787030016\n'
    (tmp_path / "sick.toml").write_text(text[:at] + sick + "pending = [81920]\n\n" + text[at:])
    engine = EngineProcess(tmp_path, "--simulate", str(tmp_path / "sick.toml"), "--speed", "30")
    try:
        window = open_window(engine)
        state = window.state
        parts = {part.place: part for part in state.snapshot.machine.parts} if state.snapshot else {}
        qtbot.waitUntil(lambda: state.status_of_part(parts["sda"]) is PartStatus.REPLACE, timeout=20_000)
        assert state.status_of_part(parts["nvme0n1"]) is PartStatus.UNTESTED
        assert [doubt.code for doubt in state.doubts_of(parts["sda"])] == ["D-341"]
    finally:
        engine.close()
