"""What the black box costs: python bench/black_box_cost.py [SECONDS]. Limits: 1 % of a core, 100 KB/s.

On this computer with all its vital channels, in a folder on the disk where this is started. The share of a core is
that of the whole process, which does nothing else; the limit of the disk is what the kernel says the process had
written.
"""

import os
import sys
import tempfile
import time
from pathlib import Path

from thresher.engine.watch.black_box import BlackBoxWatch
from thresher.inventory.machine import read_inventory
from thresher.journal.black_box import BoxHeader
from thresher.machine.live import LiveSystem
from thresher.model.endings import WorkerAt
from thresher.sensors.discovery import discover


def written() -> int:
    """Return the bytes that this process has had written to a disk (filesystems/proc, section 3.3)."""
    lines = Path("/proc/self/io").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("write_bytes"))


def main() -> int:
    """Print the figures."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    system = LiveSystem()
    found = read_inventory(system)
    workers = tuple(WorkerAt(0, cpu, 1) for cpu in range(os.cpu_count() or 1))
    with tempfile.TemporaryDirectory(dir=".") as folder:
        watch = BlackBoxWatch(system, Path(folder, "job"), lambda: discover(system, found), (), lambda: (1, workers))
        watch.begin(BoxHeader("boot", os.getpid(), 0.0, 0.0, 0.0, watch.channels))
        time.sleep(2.0)
        before, bytes_before, rows = time.process_time(), written(), watch.state.rows
        begun = time.monotonic()
        time.sleep(seconds)
        took = time.monotonic() - begun
        share = (time.process_time() - before) / took
        rate = (written() - bytes_before) / took
        state = watch.state
        watch.close(needed=False)
    every = took / max(1, state.rows - rows)
    print(f"{len(watch.channels)} channels, a row every {every:.3f} s, {state.dropped} rows dropped")
    print(f"{share * 100:.2f} % of a core (limit 1 %), {rate / 1e3:.1f} KB/s (limit 100)")
    return int(share > 0.01 or rate > 100e3)


if __name__ == "__main__":
    sys.exit(main())
