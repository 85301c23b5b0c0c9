"""A read scan on the Bench: the picked drive is read, drawn, and a dying one only after a question."""

from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMessageBox
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.model.parts import PartKind
from thresher.model.sheet import Block
from thresher.protocol.status import ScanStatus
from thresher.simulator.scenario import shipped_scenarios
from thresher.ui.stations.bench.drum_view import scan_words, stroke_heights
from thresher.ui.stations.bench.map_picks import Picks, Target
from thresher.ui.window import MainWindow

SICK = """[[drives]]
name = "sda"
model = "Tidewater T4 4TB"
serial = "TW4-118822"
firmware = "0003"
size_bytes = 20003935050
rotation = 7200
pending = [81920]

"""
LEFT = Qt.MouseButton.LeftButton


def ended(window: MainWindow, drive: str) -> ScanStatus | None:
    """The last status of the scan of ``drive`` once it has ended, else None."""
    scan = window.state.scan
    return scan if scan is not None and scan.drive == drive and not scan.running else None


def region_read(scan: ScanStatus | None) -> bool:
    """Whether a scan has ended that read a part of the drive only."""
    return scan is not None and 0 < sum(each is not None for each in scan.slowest_ms) < 0.6 * len(scan.slowest_ms)


def test_a_picked_drive_is_read_and_drawn(qtbot: QtBot, tmp_path: Path, open_window: OpenWindow) -> None:
    text = shipped_scenarios()["lighthouse-playout"].read_text()
    at = text.index("[[graphics]]")
    (tmp_path / "sick.toml").write_text(text[:at] + SICK + text[at:])
    engine = EngineProcess(tmp_path, "--simulate", str(tmp_path / "sick.toml"), "--speed", "90")
    try:
        window = open_window(engine)
        bench = window.bench
        assert not bench.drum.isVisible()
        bench.map.set_picks(Picks((Target("drive nvme0n1", PartKind.DRIVE),)))
        quick, whole = bench.picker.scans
        assert quick.isVisible()
        assert bench.picker.fields["load"].currentText() == "read sample"
        before = len(bench.editor.draft.blocks)
        qtbot.mouseClick(bench.picker.button, LEFT)
        (put,) = bench.editor.draft.chosen(bench.editor.chosen)
        assert isinstance(put.item, Block)
        assert put.item.title == "read sample, nvme0n1"
        drives = bench.details.slots["drives"].field
        offered = {"all drives", "nvme0n1", "sda"}
        qtbot.waitUntil(lambda: {drives.itemText(n) for n in range(drives.count())} == offered, timeout=10_000)
        bench.editor.undo()
        assert len(bench.editor.draft.blocks) == before
        qtbot.mouseClick(quick, LEFT)
        qtbot.waitUntil(lambda: ended(window, "nvme0n1") is not None, timeout=20_000)
        qtbot.waitUntil(bench.drum.isVisible, timeout=5_000)
        healthy = ended(window, "nvme0n1")
        assert healthy is not None
        assert healthy.bad == ()
        bench.drum.drum.grab()
        assert any("slowest read" in spot.text for spot in bench.drum.drum.spots)
        qtbot.mouseClick(bench.drum.buttons["close_scan"], LEFT)
        assert not bench.drum.isVisible()

        # a dying drive is read only after a question
        bench.map.set_picks(Picks((Target("drive sda", PartKind.DRIVE),)))
        qtbot.mouseClick(whole, LEFT)
        qtbot.waitUntil(lambda: window.findChild(QMessageBox, "message_box") is not None, timeout=5_000)
        box = window.findChild(QMessageBox, "message_box")
        assert box is not None
        assert "sda is dying (copy the data off now)" in box.text()
        yes = next(button for button in box.buttons() if button.text() == "Scan all the same")
        qtbot.mouseClick(yes, LEFT)
        qtbot.waitUntil(lambda: ended(window, "sda") is not None, timeout=30_000)
        dying = ended(window, "sda")
        assert dying is not None
        assert dying.bad == (81920,)
        qtbot.waitUntil(lambda: any(entry.code == "D-310" for entry in window.state.tape), timeout=5_000)
    finally:
        engine.close()


def test_a_row_that_is_clicked_twice_is_read_again_by_itself(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow
) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "200")
    try:
        window = open_window(engine)
        window.bench.map.set_picks(Picks((Target("drive nvme0n1", PartKind.DRIVE),)))
        _quick, whole = window.bench.picker.scans
        qtbot.mouseClick(whole, LEFT)
        qtbot.waitUntil(lambda: ended(window, "nvme0n1") is not None, timeout=60_000)
        drum = window.bench.drum.drum
        drum.grab()
        assert drum.paper is not None
        qtbot.mouseDClick(drum, LEFT, pos=drum.paper.area.center().toPoint())
        qtbot.waitUntil(lambda: region_read(ended(window, "nvme0n1")), timeout=30_000)
        assert any(" to " in each.detail and "GB" in each.detail for each in window.state.tape)
    finally:
        engine.close()


def test_strokes_are_logarithmic_and_words_say_how_it_stands() -> None:
    heights = stroke_heights(np.array([0.5, 10.0, 150.0, 2000.0, 30_000.0]))
    assert (np.diff(heights[:4]) > 0).all()
    assert heights[3] == heights[4] == 1.0
    running = ScanStatus("sda", True, 0.42, 754.0, 180.0, (), (), (5,), "reads")
    assert scan_words(running) == "42 % at 180 MB/s, 12 min 34 s left, 1 place cannot be read"
    ended = ScanStatus("sda", False, 1.0, None, 180.0, (), (), (), "read through: every place could be read")
    assert scan_words(ended) == "read through: every place could be read"
