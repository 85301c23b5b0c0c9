"""What following a card's load costs the engine, and how fast Stop is: on the first card, or the software renderer.

`python bench/card_engine.py` prints the engine's own processor time under a raster load less that of an idle bench, as
a share of one core at one reading a second, and the time from Stop to the end of the load's process, longest of five.
"""

import os
import subprocess
import tempfile
import threading
import time
from pathlib import Path

from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.machine.live import LiveSystem
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet

SECONDS, STOPS = 30.0, 5
MOST_SHARE, MOST_STOP_S = 0.03, 0.5


def workers() -> list[int]:
    """Return the processes that work cards for this one."""
    command = ["pgrep", "-f", "-P", str(os.getpid()), "thresher.graphics.worker"]
    found = subprocess.run(command, capture_output=True, text=True, check=False)
    return [int(word) for word in found.stdout.split()]


def cost(engine: Engine, sheet: RunSheet | None) -> float:
    """Return seconds of processor time of this process for a while with a sheet, or idle."""
    begun = time.process_time()
    if sheet is None:
        engine.watch(SECONDS)
    else:
        engine.run_to_end(sheet)
    return time.process_time() - begun


def stop_time(engine: Engine, sheet: RunSheet) -> float:
    """Return seconds from Stop to the end of the worker."""
    took: list[float] = []

    def stop() -> None:
        while not (running := workers()):
            time.sleep(0.05)
        time.sleep(4.0)
        begun = time.monotonic()
        engine.submit(engine.stop)
        while any(pid in workers() for pid in running):
            time.sleep(0.005)
        took.append(time.monotonic() - begun)

    thread = threading.Thread(target=stop)
    thread.start()
    engine.run_to_end(sheet)
    thread.join()
    return took[0]


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as folder:
        engine = open_engine(LiveSystem(), Path(folder) / "bench.thresher")
        sheet = RunSheet("Raster", (Block(PartKind.GRAPHICS, "raster", 0.0, SECONDS),))
        engine.watch(5.0)
        idle = min(cost(engine, None), cost(engine, None))
        loaded = min(cost(engine, sheet), cost(engine, sheet))
        share = max(0.0, loaded - idle) / SECONDS
        verdict = "reached" if share < MOST_SHARE else "not reached"
        print(f"following a card: {share * 100:.2f} % of one core, under {MOST_SHARE * 100:g} % {verdict}")
        longest = max(stop_time(engine, sheet) for _ in range(STOPS))
        verdict = "reached" if longest < MOST_STOP_S else "not reached"
        print(f"Stop to the end of the worker, longest of {STOPS}: {longest:.2f} s, under {MOST_STOP_S} s {verdict}")
        engine.close()


if __name__ == "__main__":
    main()
