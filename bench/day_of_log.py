"""A day of 200 channels at 1 s: size of the job file, time to open it, time of a frame, memory of the window.

Run: python bench/day_of_log.py
"""

import os
import resource
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.journal.opening import connect
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick
from thresher.model.parts import Inventory, LogicalCpu, Part, PartKind

SECONDS, CHANNELS = 86_400, 200
OPEN_LIMIT_S, FRAME_MS, WORST_MS, MEMORY_MB, FILE_MB = 1.0, 16.0, 33.0, 400.0, 100.0


def channels() -> tuple[Channel, ...]:
    """Two hundred channels as a workstation has them: temperatures, clocks and use by core, rails, fans, power."""
    hot = (Limit(100.0, LimitSide.BELOW, "read from the chip"),)
    made = [Channel(f"c/{n}", f"Core {n}", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/x", hot, n) for n in range(48)]
    made += [
        Channel(f"counters/{n}", f"Core {n} clock", Quantity.CLOCK, PartKind.PROCESSOR, "/x", (), n) for n in range(48)
    ]
    made += [Channel(f"u/{n}", f"CPU {n} use", Quantity.USE, PartKind.PROCESSOR, "/x", (), n) for n in range(84)]
    made += [Channel(f"f/{n}", f"Fan {n}", Quantity.FAN, PartKind.COOLING, "/x") for n in range(8)]
    made += [Channel(f"p/{n}", f"Package {n}", Quantity.POWER, PartKind.PROCESSOR, "/x") for n in range(4)]
    made += [Channel(f"d/{n}", f"Drive {n}", Quantity.TEMPERATURE, PartKind.DRIVE, "/x") for n in range(8)]
    return tuple(made)


def write_day(path: Path) -> None:
    """Write the job file row by row as a run does, committed in large pieces."""
    made = channels()
    machine = Inventory(
        "day",
        True,
        (Part("processor", PartKind.PROCESSOR, "Tern 48"),),
        tuple(LogicalCpu(n, n, 0) for n in range(48)),
    )
    writer = JournalWriter(path)
    writer.begin_run(1, load_sheet(shipped_sheets()["overnight"]), machine, made, "boot", 0.0, 1.7e9)
    writer.settle(10)
    writer.close()
    rng = np.random.default_rng(1)
    rows = 60 + np.cumsum(rng.normal(0, 0.2, (SECONDS, CHANNELS)), axis=0) % 35
    packed = np.round(rows, 1).astype("<f4")
    connection = connect(path, create=False)
    connection.execute("BEGIN")
    connection.executemany(
        "INSERT INTO ticks VALUES (1, ?, ?, 0, ?, NULL)",
        ((float(n), 1.7e9 + n, packed[n].tobytes()) for n in range(SECONDS)),
    )
    connection.execute("UPDATE runs SET ended_at = ?, ending = 'finished', ending_detail = ''", (float(SECONDS),))
    connection.execute("COMMIT")
    connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    connection.close()


def median_row_us(folder: Path) -> float:
    """Return how long the engine's thread needs to hand a row of 200 channels to the journal, in microseconds."""
    writer = JournalWriter(folder / "rows.thresher")
    tick = Tick(0.0, 0.0, tuple(float(n) for n in range(CHANNELS)), {})
    times = []
    for _ in range(500):
        begun = time.perf_counter()
        writer.add_tick(1, tick)
        times.append(time.perf_counter() - begun)
    writer.close()
    return statistics.median(times) * 1e6


def say(what: str, value: float, unit: str, limit: float) -> None:
    """Print a figure against its limit."""
    verdict = "reached" if value <= limit else "not reached"
    print(f"{what:58} {value:8.4g} {unit:4} under {limit:g} {unit:4} {verdict}")


def main() -> None:
    """Print every figure."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "day.thresher"
        write_day(path)
        say("job file of a day", path.stat().st_size / 1e6, "MB", FILE_MB)
        print(f"{'a row handed to the journal':58} {median_row_us(Path(folder)):8.4g} us")
        pid = os.fork()
        if not pid:  # the window in a process of its own, so that its memory is its own
            sys.stdout.flush()
            measure_window(path)
            sys.stdout.flush()
            os._exit(0)
        os.waitpid(pid, 0)


def measure_window(path: Path) -> None:
    """Open the day in a window, pan and zoom through it, and print what that took."""
    from thresher.ui.app import make_app, show_job
    from thresher.ui.look import Look
    from thresher.ui.state import BenchState
    from thresher.ui.window import MainWindow

    app = make_app([])
    window = MainWindow(BenchState(), Look(), None)
    window.show()
    app.processEvents()
    begun = time.perf_counter()
    show_job(window, path)
    window.state.refresh_now()
    app.processEvents()
    opened = time.perf_counter() - begun
    say("opening the day until it is drawn", opened, "s", OPEN_LIMIT_S)
    frames = []
    lanes, axis = window.bench.lanes, window.bench.axis
    for number in range(60):
        span = SECONDS / (1 + number % 20)
        start = (number * 977) % max(1, SECONDS - int(span))
        begun = time.perf_counter()
        axis.look_at(float(start), start + span)
        lanes.repaint_now()
        frames.append((time.perf_counter() - begun) * 1000)
    say("frame while panning and zooming, median", statistics.median(frames), "ms", FRAME_MS)
    say("frame while panning and zooming, worst of 60", max(frames), "ms", WORST_MS)
    say("memory of the window", resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, "MB", MEMORY_MB)


if __name__ == "__main__":
    main()
