"""The verified load beside the same requests without verification: the same file, sizes, order and depths.

`python bench/drive_load.py [FOLDER] [MIB]` prints bytes a second of both, interleaved, and the ratio of the medians.
"""

import os
import statistics
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from thresher.drives.scratch import BLOCK, Scratch, ScratchPlan
from thresher.machine.scratch_file import KernelScratchFile, scratch_name

ROUNDS, SECONDS = 9, 4.0


def plain(file: KernelScratchFile, blocks: int, seconds: float) -> float:
    """Write all, flush, read all, then mixed at three depths, without looking at what comes; return bytes a second."""
    rng = np.random.default_rng(3)
    until = time.perf_counter() + seconds
    done = [0]
    lock = threading.Lock()

    def part(writes: list[bool], numbers: list[int], depth: int) -> None:
        work: Iterator[tuple[bool, int]] = iter(zip(writes, numbers, strict=True))

        def carry_out() -> None:
            block = np.zeros(BLOCK + 4096, np.uint8)
            start = -block.ctypes.data % 4096
            words = block[start : start + BLOCK].view(np.uint64)
            while time.perf_counter() < until:
                with lock:
                    taken = next(work, None)
                if taken is None:
                    return
                if taken[0]:
                    file.write_at(taken[1] * BLOCK, words)
                else:
                    file.read_at(taken[1] * BLOCK, words)
                with lock:
                    done[0] += BLOCK

        threads = [threading.Thread(target=carry_out) for _ in range(depth)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    begun = time.perf_counter()
    while time.perf_counter() < until:
        part([True] * blocks, list(range(blocks)), 8)
        file.flush()
        part([False] * blocks, list(range(blocks)), 8)
        for depth in (1, 4, 8):
            some = rng.permutation(blocks)[: blocks // 4]
            part((rng.random(len(some)) < 0.5).tolist(), some.tolist(), depth)
            file.flush()
    return done[0] / (time.perf_counter() - begun)


def verified(file: KernelScratchFile, blocks: int, seconds: float) -> float:
    """The verified load for as long; return bytes a second."""
    scratch = Scratch(ScratchPlan(blocks, seed=9), file)
    work = threading.Thread(target=scratch.run)
    begun = time.perf_counter()
    work.start()
    work.join(seconds)
    scratch.stop()
    work.join()
    found = scratch.progress()
    assert not found.wrong
    assert not found.failures
    return (found.written + found.compared) / (time.perf_counter() - begun)


def main() -> None:
    """Measure and print."""
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else ".")
    blocks = (int(sys.argv[2]) if len(sys.argv) > 2 else 512) << 20
    blocks //= BLOCK
    file = KernelScratchFile(str(folder / scratch_name(os.urandom(8))), blocks * BLOCK)
    try:
        rates: dict[str, list[float]] = {"plain": [], "verified": []}
        plain(file, blocks, 2.0)
        for _ in range(ROUNDS):
            rates["plain"].append(plain(file, blocks, SECONDS))
            rates["verified"].append(verified(file, blocks, SECONDS))
    finally:
        file.remove()
    for name, values in rates.items():
        print(
            f"{name:9} {statistics.median(values) / 1e6:7.0f} MB/s   {' '.join(f'{each / 1e6:.0f}' for each in values)}"
        )
    ratio = statistics.median(rates["verified"]) / statistics.median(rates["plain"])
    print(f"verified / plain {ratio:.2f}   ({'unbuffered' if file.direct else 'through the page cache'})")


if __name__ == "__main__":
    main()
