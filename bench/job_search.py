"""How long a keystroke of the job search takes over ten thousand jobs.

Usage: python bench/job_search.py. The index is drawn (numbers, names, words, parts with serials, codes); each keystroke
of several queries is timed, with the drawing of the list, and set against 50 ms and against one pass over the texts.
"""

import os
import statistics
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtWidgets import QApplication

from thresher.shop.job_index import IndexedJob, JobIndex, find_jobs
from thresher.ui import theme
from thresher.ui.find_dialog import FindDialog
from thresher.ui.look import Look

JOBS, LIMIT_MS = 10_000, 50.0
_QUERIES = ("4711", "tangen loud", "MB-16D5 stops", "sn-00", "p-104", "e", "nothing has these words")
_NAMES = ("Tangen", "Holm", "Lind", "Brekke", "Moe", "Vik", "Solberg", "Dahl")
_WORDS = (
    "loud",
    "slow",
    "stops",
    "beeps",
    "black",
    "restarts",
    "smells",
    "after",
    "lunch",
    "printer",
    "morning",
    "cold",
)
_PARTS = ("Mussel Bank MB-16D5-5600", "Slipway N2 500GB", "Tern 8-460", "Quayside QB-70", "Lumen L40", "Brackwater 650")


def drawn_index() -> JobIndex:
    """Return an index of ten thousand drawn jobs, each with the text of a real one: some 700 letters."""
    rng = np.random.default_rng(7)
    jobs = []
    for number in range(JOBS):
        key, words = f"{number:05d}", " ".join(rng.choice(_WORDS, 30))
        serials = " ".join(f"SN-{value:08d}" for value in rng.integers(0, 10**8, 14))
        parts = "\n".join(rng.choice(_PARTS, 9))
        name = str(rng.choice(_NAMES))
        text = f"{key}\n{name}\n{words}\n{parts}\n{serials}\nP-{rng.integers(100, 140)}".casefold()
        jobs.append(
            IndexedJob(
                stem=f"{number:05d}",
                size=1,
                changed_ns=number * 10**9,
                number=f"{number:05d}",
                customer=name,
                text=text,
            )
        )
    return JobIndex(jobs=tuple(jobs))


def main() -> None:
    """Time every keystroke of the queries, typed as a person does."""
    app = QApplication([])
    theme.load_fonts()
    index = drawn_index()
    began = time.perf_counter()
    letters = sum(each.text.count("zzz") + len(each.text) for each in index.jobs)
    one_pass = (time.perf_counter() - began) * 1e3
    with tempfile.TemporaryDirectory() as folder:
        dialog = FindDialog(Path(folder), Path(folder), Look(theme.LIGHT))
        dialog.show()
        for _ in range(50):
            app.processEvents()
            time.sleep(0.01)
        dialog.index = index
        found_ms, shown_ms = [], []
        for query in _QUERIES:
            for end in range(1, len(query) + 1):
                began = time.perf_counter()
                find_jobs(index.jobs, query[:end])
                found_ms.append((time.perf_counter() - began) * 1e3)
                began = time.perf_counter()
                dialog.field.setText(query[:end])
                dialog.grab()
                shown_ms.append((time.perf_counter() - began) * 1e3)
    print(f"{JOBS:,} jobs, {letters / 1e6:.1f} million letters, one pass over them {one_pass:.1f} ms")
    print(f"found: median {statistics.median(found_ms):.1f} ms, at most {max(found_ms):.1f} ms")
    worst = f"at most {max(shown_ms):.1f} (limit {LIMIT_MS:.0f})"
    print(f"found and drawn: median {statistics.median(shown_ms):.1f} ms, {worst}")


if __name__ == "__main__":
    main()
