"""Thresher's own speed against this machine's limits, measured in one run: `thresher bench-speed`.

Every figure is printed with what it is to be and whether it is reached; ratios have their limit measured in
the same run, interleaved, since machines are shared and noisy.
"""

import json
import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path

# one BLAS thread, as in the workers; has to be said before numpy is loaded
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np

from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.inventory.machine import read_inventory
from thresher.loads.plan import Caches
from thresher.loads.registry import plan_load
from thresher.loads.team.team import TeamState, start_team
from thresher.machine.live import LiveSystem
from thresher.machine.tree import TreeSystem
from thresher.model.own_program import own_command
from thresher.model.port import Stress
from thresher.model.run_states import RunState
from thresher.model.sheet import WorkingSet
from thresher.protocol.events import EngineEvent, TickEvent
from thresher.proving.selfbench.figure import Figure
from thresher.proving.selfbench.loads import load_figures
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

_REPEATS = 9


def _seconds(action: Callable[[], object], times: int) -> float:
    begun = time.thread_time()
    for _ in range(times):
        action()
    return time.thread_time() - begun


def _tree_of_200_channels(root: Path) -> None:
    """A directory with two hundred sensor files, more than a large desktop has."""
    for chip in range(10):
        folder = root / f"sys/class/hwmon/hwmon{chip}"
        folder.mkdir(parents=True)
        (folder / "name").write_text(f"chip{chip}\n")
        for number in range(1, 21):
            (folder / f"temp{number}_input").write_text(f"{30000 + 500 * number}\n")


def sampling_cost() -> list[Figure]:
    """Cost of sampling 200 channels as a share of one core, by thread time: files, and what this machine offers."""
    with tempfile.TemporaryDirectory(prefix="thresher-speed-") as folder:
        _tree_of_200_channels(Path(folder))
        tree = TreeSystem(Path(folder))
        files = _seconds_a_tick(Sampler(tree, discover(tree, read_inventory(tree))))
        whole = _seconds_a_whole_tick(tree, Path(folder) / "cost.thresher")
    live = LiveSystem()
    offered = _seconds_a_tick(Sampler(live, discover(live, read_inventory(live))))
    wanted = ((1, 0.005), (10, 0.05))
    return [
        Figure(
            f"sampling 200 channels at {rate} Hz: {words}",
            100 * cost * rate,
            "% of one core",
            f"under {100 * most:g} %",
            cost * rate < most,
        )
        for words, cost in (
            ("sensor files", files),
            ("as this machine offers them", offered),
            ("the engine's whole tick", whole),
        )
        for rate, most in wanted
    ]


def _seconds_a_tick(sampler: Sampler) -> float:
    sampler.sample()
    costs = [sampler.sample().cost_s for _ in range(200)]
    sampler.close()
    return statistics.median(costs) * 200 / max(1, len(sampler.channels))


def _seconds_a_whole_tick(tree: TreeSystem, path: Path) -> float:
    """Return what a tick costs the engine's thread: readings, watchers, alarms, log, reporting."""
    engine = open_engine(tree, path, {}, 0.1)
    engine.watch(2.0)
    begun, seconds = time.thread_time(), 10.0
    engine.watch(seconds)
    cost = (time.thread_time() - begun) / (seconds / 0.1)
    engine.close()
    return cost * 200 / max(1, len(engine.channels))


def tick_jitter() -> Figure:
    """How far ticks at 10 Hz are from their time while every CPU is loaded: 99 of 100."""
    interval = 0.1
    with tempfile.TemporaryDirectory(prefix="thresher-speed-") as folder:
        engine = open_engine(LiveSystem(), Path(folder) / "jitter.thresher", {}, interval)
        at: list[float] = []

        def on_event(event: EngineEvent) -> None:
            if isinstance(event, TickEvent) and event.run.state is RunState.LOADING:
                at.append(event.tick.at)

        engine.subscribe(on_event)
        text = (
            'format = "thresher-sheet/1"\ntitle = "All cores"\n'
            '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 30\n'
        )
        engine.run_to_end(parse_sheet(text, "jitter"))
        engine.close()
    if len(at) < 100:
        raise RuntimeError(f"only {len(at)} ticks came while every CPU was loaded")
    # from tick to tick, so that one that was left out shows as a whole interval
    worst = float(np.percentile(np.abs(np.diff(at) - interval), 99)) * 1000
    return Figure("ticks at 10 Hz, all cores loaded: off by, 99 of 100", worst, "ms", "under 20 ms", worst < 20)


def stop_time() -> Figure:
    """Stop to last worker gone, the longest of several teams on every CPU."""
    plan = plan_load("matrix", WorkingSet.SHARED_CACHE, Caches(), 256 << 20, compiled=False)
    longest = 0.0
    for _ in range(5):
        team = start_team(sorted(os.sched_getaffinity(0)), plan)
        while team.state is not TeamState.RUNNING:
            team.poll()
            time.sleep(0.005)
        time.sleep(0.3)
        longest = max(longest, team.stop().seconds)
    return Figure("Stop to last worker gone, longest of 5", longest, "s", "under 0.5 s", longest < 0.5)


def model_speed() -> Figure:
    """How many of its seconds a simulated machine lives in one of ours, with all its threads busy."""
    model = SimulatedMachine(load_scenario(shipped_scenarios()["lighthouse-playout"]), 0.0)
    assert model.work is not None
    model.work.set_stress(dict.fromkeys(range(16), Stress(1.0)))
    begun = time.thread_time()
    model.wait_until(model.now() + 600, threading.Event())
    pace = 600 / (time.thread_time() - begun)
    return Figure("simulated machine: speed with all threads busy", pace, "×", "at least 100 ×", pace >= 100)


def window_figures() -> list[Figure]:
    """Start-up of the window until it shows readings, and its longest wait while every CPU is loaded."""
    with tempfile.TemporaryDirectory(prefix="thresher-speed-") as folder:
        environment = os.environ | {"XDG_RUNTIME_DIR": folder, "XDG_DATA_HOME": folder}
        if not any(environment.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
            environment["QT_QPA_PLATFORM"] = "offscreen"
        environment.pop("OPENBLAS_NUM_THREADS", None)
        sheet = Path(folder) / "all-cores.toml"
        sheet.write_text(
            'format = "thresher-sheet/1"\ntitle = "All cores"\n'
            '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 60\n'
        )
        usable, waits = [], []
        for _ in range(3):
            begun = time.monotonic()
            done = subprocess.run(
                own_command("thresher.ui", "--live", "--measure", "10", "--sheet", str(sheet)),
                env=environment,
                capture_output=True,
                text=True,
                timeout=120,
                check=True,
            )
            figures = json.loads(done.stdout.strip().splitlines()[-1])
            if figures["state"] != "loading":
                raise RuntimeError(f"the cores were not loaded while the window was measured: {figures}")
            usable.append(figures["usable_monotonic"] - begun)
            waits.append(figures["longest_wait_s"] * 1000)
    start, wait = statistics.median(usable), statistics.median(waits)
    return [
        Figure("window usable after start, median of 3", start, "s", "under 1.5 s", start < 1.5),
        Figure("window's longest wait, all cores loaded, median of 3", wait, "ms", "under 100 ms", wait < 100),
    ]


def main() -> int:
    """Measure and print everything; return 0 when all figures are reached, else 1."""
    figures = load_figures()
    figures += [*sampling_cost(), tick_jitter(), stop_time(), model_speed(), *window_figures()]
    if "--json" in sys.argv:
        print(json.dumps([asdict(figure) for figure in figures]))
    else:
        for figure in figures:
            mark = "reached" if figure.reached else "NOT REACHED"
            print(f"{figure.name:75} {figure.value:9.3g} {figure.unit:14} {figure.wanted:16} {mark}")
    return 0 if all(figure.reached for figure in figures) else 1


if __name__ == "__main__":
    sys.exit(main())
