"""Editing a run sheet of 200 blocks: a frame of dragging and of an edit by key, beside what the painting takes.

Run: python bench/editing_frames.py
"""

import os
import statistics
import tempfile
import time
from pathlib import Path

from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtTest import QTest

from thresher.compose.draft import Draft, put
from thresher.engine.assembly import open_engine
from thresher.model.parts import PartKind
from thresher.model.sheet import Block
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios
from thresher.ui.app import make_app, spare_collections, take_down
from thresher.ui.look import Look, draw_text
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow

BLOCKS, FRAMES, FRAME_MS = 200, 240, 1000.0 / 60


def two_hundred_blocks() -> Draft:
    """Return a sheet of 200 blocks on two rows, some of them side by side on cores of their own."""
    blocks = []
    for number in range(BLOCKS):
        row = PartKind.MEMORY if number % 4 == 3 else PartKind.PROCESSOR
        cores = (number % 8,) if row is PartKind.PROCESSOR else ()
        load = "memory" if row is PartKind.MEMORY else "matrix"
        blocks.append(Block(row, load, 60.0 * number, 55.0, cores=cores, patterns=("fixed",) if cores == () else ()))
    return put(Draft("200 blocks"), blocks)[0]


def floor_ms(width: int, height: int) -> float:
    """Return how long it takes to fill 200 boxes with a word in each, and nothing else, in milliseconds."""
    image = QImage(width, height, QImage.Format.Format_ARGB32_Premultiplied)
    times = []
    for _ in range(60):
        begun = time.perf_counter()
        painter = QPainter(image)
        for number in range(BLOCKS):
            area = QRectF(number * width / BLOCKS, 10, width / BLOCKS, 30)
            painter.fillRect(area, QColor("#1F6F78"))
            draw_text(painter, QPointF(area.x(), 25), "matrix", "#FFFFFF", 11)
        painter.end()
        times.append(time.perf_counter() - begun)
    return statistics.median(times) * 1000


def say(what: str, times: list[float], floor: float) -> None:
    """Print median and worst of some frames."""
    median, worst = statistics.median(times) * 1000, max(times) * 1000
    verdict = "reached" if worst <= FRAME_MS else "median reached" if median <= FRAME_MS else "not reached"
    print(
        f"{what:34} median {median:6.2f} ms ({median / floor:4.1f} x the painting), worst {worst:6.2f} ms,"
        f" under {FRAME_MS:.1f} ms: {verdict}"
    )


def main() -> None:
    """Print every figure."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    app = make_app([])
    with tempfile.TemporaryDirectory() as folder:
        scenario = load_scenario(shipped_scenarios()["lighthouse-playout"])
        engine = open_engine(SimulatedMachine(scenario, 0.0), Path(folder) / "job.thresher")
        engine.watch(2)
        state = BenchState()
        window = MainWindow(state, Look(), None)
        window.resize(1280, 800)
        window.show()
        state.take_snapshot(engine.snapshot())
        state.refresh_now()
        editor, sheet = window.bench.editor, window.bench.run_sheet
        editor.do(two_hundred_blocks(), ())
        for _ in range(5):
            app.processEvents()
        floor = floor_ms(sheet.width(), sheet.height())
        print(f"{'filling 200 boxes with a word':34} median {floor:6.2f} ms")

        layout = sheet.layout_of()
        begin = QPoint(round(layout.x(100 * 60 + 25)), round(layout.top + 18))
        sheet.axis.zoom(12.0, 100 * 60.0)  # so that a block can be taken hold of
        begin = QPoint(round(sheet.layout_of().x(100 * 60 + 25)), round(layout.top + 18))
        QTest.mousePress(sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, begin)  # type: ignore[call-overload]
        sheet.axis.zoom(1 / 12.0, 100 * 60.0)  # all 200 in view while it is dragged
        spare_collections()
        for _ in range(3):
            app.processEvents()
        times = []
        for number in range(FRAMES):
            begun = time.perf_counter()
            QTest.mouseMove(sheet, begin + QPoint(5 + number % 60, 0))  # type: ignore[call-overload]
            app.processEvents()
            times.append(time.perf_counter() - begun)
        QTest.mouseRelease(sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, begin)  # type: ignore[call-overload]
        say("a frame of dragging", times, floor)

        everything = [each.number for each in editor.draft.items]
        times = []
        for number in range(40):
            begun = time.perf_counter()
            editor.select(everything if number % 2 == 0 else everything[:1])
            app.processEvents()
            times.append(time.perf_counter() - begun)
        say("all 200 selected, then one", times, floor)
        editor.select(everything)
        for _ in range(3):
            app.processEvents()
        times = []
        for number in range(FRAMES):
            begun = time.perf_counter()
            QTest.keyClick(sheet, Qt.Key.Key_Right if number % 2 == 0 else Qt.Key.Key_Left)  # type: ignore[call-overload]
            app.processEvents()
            times.append(time.perf_counter() - begun)
        say("all 200 moved by a key", times, floor)
        take_down(app, window)
        engine.close()


if __name__ == "__main__":
    main()
