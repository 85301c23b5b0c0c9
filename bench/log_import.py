"""A kernel log of a million lines read into groups: seconds and memory.

Usage: python bench/log_import.py [LINES]. The lines are those of the tests' corpora in the form of `dmesg`: one in
fifty means something, the others look alarming or are plain; that is harder than a log of a customer.
"""

import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

CORPUS = Path(__file__).parents[1] / "tests" / "corpus"
LIMIT_S, LIMIT_MB = 20.0, 300.0


def lines_of(name: str) -> list[str]:
    """Return the lines of a corpus."""
    text = (CORPUS / name).read_text(encoding="utf-8")
    return [line.split(" | ", 4)[-1] for line in text.splitlines() if line and not line.startswith("#")]


def write_log(path: Path, lines: int) -> None:
    """Write a log of so many lines."""
    rng = random.Random(1)
    bad, ok = lines_of("kernel_lines.txt"), lines_of("harmless_lines.txt")
    with path.open("w", encoding="utf-8") as log:
        for number in range(lines):
            text = rng.choice(bad) if rng.random() < 0.02 else rng.choice(ok)
            log.write(f"[{number * 0.01:12.6f}] {text}\n")


def read(path: Path) -> None:
    """Read the log in this process and print what it took."""
    from thresher.codes.directory import load_codes
    from thresher.decoding.logs import read_log
    from thresher.events.findings import load_event_knowledge
    from thresher.model.vendors import Vendor

    began = time.perf_counter()
    with path.open("rb") as stream:
        log = read_log(stream, Vendor.INTEL, load_codes(), load_event_knowledge())
    took = time.perf_counter() - began
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"{log.lines} lines, {path.stat().st_size / 1e6:.0f} MB: {took:.1f} s (limit {LIMIT_S:.0f}), {most:.0f} MB"
        f" (limit {LIMIT_MB:.0f}), {log.count} signs in {len(log.groups)} groups, {len(log.notes)} kinds of notes"
    )


def main() -> None:
    """Write the log, then read it in a process of its own, so that only the reading's memory is measured."""
    if len(sys.argv) == 3:
        read(Path(sys.argv[2]))
        return
    lines = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "kernel.log"
        write_log(path, lines)
        subprocess.run([sys.executable, __file__, "read", str(path)], check=True)


if __name__ == "__main__":
    main()
