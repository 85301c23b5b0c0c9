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

from thresher.drives.scan import MIB, Scan, ScanMap, ScanPlan, strokes_text
from thresher.machine.block_reader import BlockReader

ROUNDS, SIZE, WANTED = 7, 600 * MIB, 0.95


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
            for _ in range(ROUNDS):
                words = [str(loop), str(path), str(depth), str(MIB), str(SIZE // MIB)]
                theirs.append(float(subprocess.run(words, capture_output=True, text=True, check=True).stdout))
                ours.append(scan_s(path, SIZE, depth))
            ratio = statistics.median(theirs) / statistics.median(ours)
            rate = SIZE / statistics.median(ours) / 1e6
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
        f" drawn as text in {statistics.median(times) * 1000:.1f} ms under 16 ms"
    )


if __name__ == "__main__":
    main()
