"""The Evidence station on a real engine, without a display."""

from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.decoding.recognise import load_tables
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.evidence.entries import JobGroups
from thresher.ui.stations.evidence.station import EvidenceStation

STOP = "0x124 (0x0, 0xffffa2831f2f1028, 0xbe000000, 0x00800400)"
EXAMPLE = Path(__file__).parents[2] / "docs" / "examples" / "counter-kernel.log"


@pytest.fixture
def station(qtbot: QtBot) -> EvidenceStation:
    """A station without an engine."""
    made = EvidenceStation(BenchState(), Look(), load_tables())
    qtbot.addWidget(made)
    made.resize(1180, 690)
    made.show()
    return made


def titles(station: EvidenceStation) -> list[str]:
    return [entry.thing.title for entry in station.list.entries.entries()]


def type_in(qtbot: QtBot, station: EvidenceStation, text: str) -> None:
    station.pane.field.setPlainText(text)
    qtbot.keyClick(station.pane.field, Qt.Key.Key_Return)


def test_return_decodes_what_was_typed(qtbot: QtBot, station: EvidenceStation) -> None:
    type_in(qtbot, station, "p-310")
    assert titles(station) == ["Corrected machine check"]
    assert station.pane.sheet.thing is not None
    assert station.pane.sheet.thing.code == "P-310"
    assert not station.pane.add.isEnabled()
    type_in(qtbot, station, STOP)
    assert titles(station) == ["0x124 WHEA_UNCORRECTABLE_ERROR"]
    assert station.pane.add.isEnabled()


def test_what_nobody_knows_is_reported_and_can_be_kept_as_a_note(qtbot: QtBot, station: EvidenceStation) -> None:
    type_in(qtbot, station, "two long beeps, then one")
    assert "none of them means a fault that is known here" in station.pane.notice.text()
    with qtbot.waitSignal(station.note_wanted) as kept:
        station.pane.note.click()
    assert kept.args == ["two long beeps, then one"]
    station.pane.field.clear()
    station.pane.note.click()
    assert "Write the note above first" in station.pane.notice.text()
    station.pane.go.click()
    assert "Nothing to decode" in station.pane.notice.text()


def test_fields_of_a_register_name_themselves_under_the_pointer_and_by_keys(
    qtbot: QtBot, station: EvidenceStation
) -> None:
    type_in(qtbot, station, "0x9c00004000000135")
    sheet = station.pane.sheet
    qtbot.waitUntil(lambda: sheet.height() > 200)
    found = {
        field.name
        for y in range(0, sheet.height(), 3)
        for x in range(0, sheet.width(), 4)
        if (field := sheet.field_at(QPointF(x, y))) is not None
    }
    assert {"valid", "uncorrected", "corrected count", "error code"} <= found
    qtbot.keyClick(sheet, Qt.Key.Key_Right)
    named = sheet.named_field()
    assert named is not None
    assert named.name == "valid"
    qtbot.keyClick(sheet, Qt.Key.Key_Left)
    last = sheet.named_field()
    assert last is not None
    assert last.name == "error code"


def test_raw_text_is_one_click_away_and_all_can_be_copied(qtbot: QtBot, station: EvidenceStation) -> None:
    type_in(qtbot, station, "usb 1-4: device descriptor read/64, error -71")
    before = station.pane.sheet.sizeHint().height()
    station.pane.raw.click()
    assert station.pane.sheet.sizeHint().height() > before
    station.pane.copy.click()
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    assert "S-611  A USB device does not answer" in clipboard.text()
    assert "device descriptor read/64" in clipboard.text()


def test_a_dropped_log_is_decoded_beside_the_window_and_filtered(qtbot: QtBot, station: EvidenceStation) -> None:
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(EXAMPLE))])
    event = QDropEvent(
        QPointF(5, 5), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    station.dropEvent(event)
    assert "Decoding counter-kernel.log" in station.pane.notice.text()
    qtbot.waitUntil(lambda: "54 signs of trouble in 4 signatures" in station.pane.notice.text(), timeout=30_000)
    assert titles(station)[0] == "Machine check, channel 1, chip select 1"
    assert station.pane.entry is not None
    assert [strip.name for strip in station.pane.entry.thing.strips][:1] == ["STATUS"]
    station.filter.setText("memory channel")
    assert titles(station) == ["Machine check, channel 1, chip select 1"]
    station.filter.setText("nothing like it")
    assert titles(station) == []
    station.filter.clear()
    station.timeline.picked.emit(3)
    assert station.pane.entry is not None
    assert station.pane.entry.thing.code == "S-510"


def test_dropped_text_is_decoded_at_once(qtbot: QtBot, station: EvidenceStation) -> None:
    station.pane.drop([], STOP)
    assert titles(station) == ["0x124 WHEA_UNCORRECTABLE_ERROR"]


def test_a_file_that_cannot_be_read_is_reported(qtbot: QtBot, station: EvidenceStation, tmp_path: Path) -> None:
    (tmp_path / "old.dmp").write_bytes(b"PAGEDUMP" + b"\0" * 9000)
    station.pane.decode_file(tmp_path / "old.dmp")
    station.pane.decode_file(EXAMPLE)
    assert "being decoded already" in station.pane.notice.text()
    qtbot.waitUntil(lambda: "32-bit" in station.pane.notice.text(), timeout=30_000)


def test_a_window_that_closes_gives_up_what_is_being_decoded(qtbot: QtBot, station: EvidenceStation) -> None:
    station.pane.decode_file(EXAMPLE)
    station.pane.leave()
    assert titles(station) == []


def test_asking_for_evidence_gives_origin_time_fit_and_use(qtbot: QtBot, station: EvidenceStation) -> None:
    station.pane.decode_file(EXAMPLE)
    qtbot.waitUntil(lambda: station.list.entries.rowCount() > 3, timeout=30_000)
    entry = station.list.chosen()
    assert entry is not None
    dialog = station.ask_add(entry)
    assert (dialog.origin.text(), dialog.known.isChecked()) == ("counter-kernel.log", True)
    assert dialog.hours.value() == pytest.approx(8.6, abs=0.2)
    dialog.configuration.setText("with the old module")
    with qtbot.waitSignal(station.evidence_wanted) as wanted:
        dialog.accept()
    assert wanted.args is not None
    (command,) = wanted.args
    findings = command.findings
    assert (findings[0].code, findings[0].count) == ("M-310", 5)
    assert command.configuration == "with the old module"
    assert command.minutes == pytest.approx(dialog.hours.value() * 60)
    dialog.known.setChecked(False)
    assert dialog.answer(findings).when is None


def test_groups_follow_findings_and_begin_again_when_some_are_taken_back(qtbot: QtBot) -> None:
    state = BenchState()
    groups = JobGroups(state, load_tables())
    found = [
        Finding(
            "P-310", FindingKind.CORRECTED_CHECK, Severity.WARNING, PartKind.PROCESSOR, float(at), "t", "d", "core 1"
        )
        for at in range(4)
    ]
    assert not groups.update()
    state.findings = found[:3]
    assert groups.update()
    assert groups.groups()[0].count == 3
    assert not groups.update()
    state.findings.append(found[3])
    assert groups.update()
    assert groups.groups()[0].count == 4
    state.findings = found[:2]
    assert groups.update()
    assert groups.groups()[0].count == 2


def test_the_station_follows_a_run_and_evidence_is_added_and_taken_back(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    window.decode()
    station = window.evidence
    assert window.stations.currentWidget() is station
    window.start()
    qtbot.waitUntil(lambda: any("core 5" in title for title in titles_of_job(station)), timeout=60_000)
    window.stop()
    station.show_page(0)
    assert any(entry.thing.strips for entry in station.list.entries.entries())
    type_in(qtbot, station, STOP)
    station.pane.add.click()
    dialog = window.findChild(type(station.ask_add(station.list.entries.entries()[0])), "add_evidence")
    assert dialog is not None
    dialog.accept()
    qtbot.waitUntil(lambda: any(each.origin for each in window.state.findings), timeout=10_000)
    qtbot.waitUntil(station.undo.isVisible, timeout=10_000)
    added = next(each for each in window.state.findings if each.origin)
    assert (added.code, added.origin) == ("P-320", "what was pasted")
    station.undo.click()
    qtbot.waitUntil(lambda: not any(each.origin for each in window.state.findings), timeout=10_000)


def titles_of_job(station: EvidenceStation) -> list[str]:
    station.show_page(0)
    return titles(station)
