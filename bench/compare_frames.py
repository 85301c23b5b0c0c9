"""How long the Compare station takes to open four runs of a day each, and to draw them.

Usage: python bench/compare_frames.py. Writes a job with four runs of 86,400 readings of 80 channels (150 MB) into a
temporary folder, compares them in a process apart as the window does, and draws the lanes again and again. The frame is
set against the 16 ms of a screen with 60 pictures a second.
"""

import os
import statistics
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtGui import QPixmap
from PyQt6.QtWidgets import QApplication

from thresher.compare.apart import Request, compare_apart
from thresher.compare.stored_spans import HotPart, RunRef
from thresher.inventory.machine import read_inventory
from thresher.journal.jobfile import create_job
from thresher.journal.rows import ENDS
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Quantity, Tick
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending
from thresher.model.sheet import Block, RunSheet
from thresher.sensors.discovery import discover
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios
from thresher.ui import theme
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.compare.curves_view import CurvesView

DAY_S, RUNS, FRAMES = 86_400, 4, 100


def write_days(path: Path) -> None:
    """Write runs of a day each: a warm-up of the processor, everything else constant with noise."""
    machine = SimulatedMachine(load_scenario(shipped_scenarios()["sail-loft"]), 0.0)
    inventory = read_inventory(machine)
    channels = discover(machine, inventory).channels
    hot = [i for i, c in enumerate(channels) if c.quantity is Quantity.TEMPERATURE and c.kind is PartKind.PROCESSOR]
    power = next(i for i, c in enumerate(channels) if c.quantity is Quantity.POWER and c.kind is PartKind.PROCESSOR)
    create_job(path, {"number": "1"})
    writer = JournalWriter(path)
    rng = np.random.default_rng(1)
    sheet = RunSheet("A day", (Block(PartKind.PROCESSOR, "matrix", 0.0, float(DAY_S)),))
    for run in range(1, RUNS + 1):
        began, wall = 1000.0, 1_773_900_000.0 + run * DAY_S
        writer.begin_run(run, sheet, inventory, channels, f"boot-{run}", began, wall)
        writer.add_mark(run, began, "block begins", {"index": 0, "title": "matrix", "load": "matrix", "cpus": []})
        noise = rng.standard_normal(DAY_S)
        row = [30.0] * len(channels)
        for second in range(DAY_S):
            warm = 22.0 + (50.0 - 2.0 * run) * (1.0 - np.exp(-second / 90.0)) + 0.4 * noise[second]
            for place in hot:
                row[place] = float(warm)
            row[power] = 100.0
            writer.add_tick(run, Tick(began + second, wall + second, tuple(row), {}))
            if second % 5000 == 0:
                writer.settle(60.0)
        writer.add_mark(run, began + DAY_S, ENDS, {"index": 0, "how": "finished"})
        writer.end_run(run, began + DAY_S, Ending.FINISHED.value, "")
        writer.settle(60.0)
    writer.close(60.0)


def main() -> None:
    """Print both figures."""
    with tempfile.TemporaryDirectory(prefix="thresher-days-") as name:
        path = Path(name) / "days.thresher"
        write_days(path)
        print(f"{RUNS} runs of {DAY_S} readings, {path.stat().st_size / 1e6:.0f} MB")
        begun = time.perf_counter()
        refs = tuple(RunRef(str(path), run) for run in range(1, RUNS + 1))
        found = compare_apart(Request(refs, HotPart(PartKind.PROCESSOR), dict.fromkeys(range(RUNS), 22.0)))
        print(f"read and compared in {time.perf_counter() - begun:.1f} s, in a process apart")
    app = QApplication([])
    theme.load_fonts()
    view = CurvesView(BenchState(), Look(theme.LIGHT))
    view.resize(640, 500)
    view.show_comparison(found)
    picture = QPixmap(view.size())
    times = []
    for _ in range(FRAMES):
        begun = time.perf_counter()
        view.render(picture)
        app.processEvents()
        times.append((time.perf_counter() - begun) * 1000.0)
    middle, longest = statistics.median(times), max(times)
    print(f"a frame: {middle:.1f} ms median, {longest:.1f} ms longest of {FRAMES} (limit 16 ms median)")


if __name__ == "__main__":
    main()
