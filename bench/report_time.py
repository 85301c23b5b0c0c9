"""How long the whole report of a day's run with 200 channels takes as a sealed PDF, and how large it is.

Usage: python bench/report_time.py. Set against 10 s and 3 MB, and beside a fixed numerical task of the same run.
"""

import tempfile
import time
from pathlib import Path

import numpy as np

from day_of_log import write_day
from thresher.app.handing_over import write_handover
from thresher.journal.jobfile import JobFile
from thresher.report.sections import Reader, usual_choice

LIMIT_S, LIMIT_MB = 10.0, 3.0


def fixed_task_s() -> float:
    """Return the seconds of a fixed numerical task: the yardstick of this machine at this moment."""
    rng = np.random.default_rng(1)
    matrix = rng.standard_normal((400, 400))
    began = time.perf_counter()
    for _ in range(20):
        np.linalg.svd(matrix)
    return time.perf_counter() - began


def main() -> None:
    """Write the day, then the report of the shop, twice: the second one has everything loaded."""
    with tempfile.TemporaryDirectory(prefix="thresher-bench-") as folder:
        job, out = Path(folder) / "day.thresher", Path(folder) / "day.pdf"
        write_day(job)
        task = fixed_task_s()
        for name in ("first", "second"):
            began = time.perf_counter()
            with JobFile(job, read_only=True) as stored:
                write_handover(stored, out, usual_choice(Reader.SHOP), Path(folder) / "shop")
            took, size = time.perf_counter() - began, out.stat().st_size / 1e6
            print(f"{name}: {took:.1f} s (limit {LIMIT_S:.0f}), {size:.2f} MB (limit {LIMIT_MB:.0f}),", end=" ")
            print(f"{took / task:.1f} times a fixed task of {task:.2f} s")


if __name__ == "__main__":
    main()
