"""A read scan beside a plain C loop of the same depth, interleaved; the map of 20 TB: its memory and a frame of it.

Run: python bench/drive_scan.py [FILE or DEVICE]
Without a name it makes a file of 600 MB in the working folder.
"""

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from thresher.drives.scan import MIB, STROKES, Scan, ScanMap, ScanPlan, strokes_text
from thresher.machine.block_reader import BlockReader

ROUNDS, SIZE, PART, WANTED = 31, 600 * MIB, 150 * MIB, 0.95


def scan_s(path: Path, size: int, depth: int) -> float:
    """Return how long our scan takes."""
    reader = BlockReader(str(path))
    scan = Scan(ScanPlan(size, depth=depth), reader.read_at)
    begun = time.perf_counter()
    scan.start()
    scan.join()
    seconds = time.perf_counter() - begun
    reader.close()
    return seconds


def drum_frame_ms() -> float:
    """Return the median time of a frame of the drum in ms, a scan of 20 TB with 40 bad and slow places."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtGui import QImage

    from thresher.protocol.status import ScanStatus
    from thresher.ui import theme
    from thresher.ui.app import make_app
    from thresher.ui.look import Look
    from thresher.ui.state import BenchState
    from thresher.ui.stations.bench.drum_view import DrumView

    app = make_app([])
    state = BenchState()
    slowest = tuple(900.0 if stroke % 50 == 0 else 12.0 + stroke % 7 for stroke in range(STROKES))
    errors = tuple(int(stroke % 50 == 0) for stroke in range(STROKES))
    bad = tuple(range(0, 20_000_000_000_000 // 512, 20_000_000_000_000 // 512 // 40))
    rates = tuple(250.0 - stroke / 20 for stroke in range(STROKES))
    state.scan = ScanStatus("sda", True, 1.0, 3.0, 180.0, slowest, errors, bad, "reads", 20_000_000_000_000, rates)
    view = DrumView(state, Look(theme.LIGHT))
    view.resize(640, 440)
    view.follow()
    image = QImage(640, 440, QImage.Format.Format_RGB32)
    times = []
    for _ in range(60):
        begun = time.perf_counter()
        view.drum.render(image)
        times.append((time.perf_counter() - begun) * 1000)
    app.processEvents()
    return statistics.median(times)


def main() -> None:
    """Print every figure."""
    compiler = shutil.which("cc")
    with tempfile.TemporaryDirectory(dir=".") as folder:
        path = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(folder) / "disk"
        if len(sys.argv) < 2:
            with path.open("wb") as stream:
                for _ in range(SIZE // MIB):
                    stream.write(os.urandom(MIB))
                stream.flush()
                os.fsync(stream.fileno())
        if compiler is None:
            print("no C compiler: nothing to compare with")
            return
        loop = Path(folder) / "read_loop"
        subprocess.run(
            [compiler, "-O2", "-pthread", str(Path(__file__).with_name("read_loop.c")), "-o", str(loop)], check=True
        )
        for depth in (1, 4, 8):
            ours, theirs = [], []
            words = [str(loop), str(path), str(depth), str(MIB), str(PART // MIB)]
            for number in range(ROUNDS):  # short rounds in turn: what else the host does drifts from second to second
                if number % 2:
                    ours.append(scan_s(path, PART, depth))
                theirs.append(float(subprocess.run(words, capture_output=True, text=True, check=True).stdout))
                if not number % 2:
                    ours.append(scan_s(path, PART, depth))
            ratio = statistics.median(theirs) / statistics.median(ours)
            rate = PART / statistics.median(ours) / 1e6
            verdict = "reached" if ratio >= WANTED else "not reached"
            print(f"depth {depth}: {rate:7.0f} MB/s, {ratio:.2f} of the C loop, over {WANTED:g} {verdict}")
    begun = time.perf_counter()
    map_ = ScanMap(20_000_000_000_000)
    for offset in range(0, map_.size, 4_000_000_000):
        map_.note(offset, MIB, 0.004, failed=False)
    noted = (time.perf_counter() - begun) / 5000 * 1e6
    times = []
    for _ in range(50):
        begun = time.perf_counter()
        strokes_text(map_, 120)
        times.append(time.perf_counter() - begun)
    print(
        f"map of 20 TB: {map_.memory_bytes / 1e6:.3f} MB under 20 MB; {noted:.1f} us a block;"
        f" drawn as text in {statistics.median(times) * 1000:.1f} ms"
    )
    print(f"the drum in the window: {drum_frame_ms():.1f} ms a frame under 16 ms")


if __name__ == "__main__":
    main()
