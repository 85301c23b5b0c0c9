"""The loads' own speed against limits of this machine that plain C loops measure in the same run.

The loops are in `bench/limits.c` and are compiled when a compiler is there; without one the figures that need them are
left out and said to be. All times are CPU time of this thread, interleaved, since machines are shared and noisy.
"""

import ctypes
import os
import shutil
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from thresher.loads.compute.integer import Chains
from thresher.loads.compute.matrix import RegisterTiles, register_operations
from thresher.loads.compute.relay import MESSAGES
from thresher.loads.compute.solve import Systems
from thresher.loads.compute.transform import Squarings
from thresher.loads.exercise import aligned
from thresher.loads.memory.pages import Region
from thresher.loads.memory.walk import CHUNK_WORDS
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import make_exercise, shared_bytes
from thresher.loads.team.team import Team, TeamState, start_team
from thresher.model.regular_file import is_file
from thresher.model.sheet import Precision, WorkingSet
from thresher.proving.selfbench.figure import Figure

_REPEATS = 9
_SOURCE = Path(__file__).parents[4] / "bench" / "limits.c"
_FLAGS = ["-O3", "-march=native", "-mprefer-vector-width=512", "-shared", "-fPIC"]
_MEMORY_WORDS = 1 << 25
_TURNS = 10_000_000


class Limits:
    """The C loops, compiled here."""

    def __init__(self, folder: Path) -> None:
        """Compile them. Raises OSError or subprocess.CalledProcessError when that cannot be done."""
        compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
        if compiler is None or not is_file(_SOURCE):
            raise FileNotFoundError("no C compiler" if compiler is None else f"{_SOURCE} is not there")
        library = folder / "limits.so"
        subprocess.run([compiler, *_FLAGS, str(_SOURCE), "-o", str(library)], check=True, capture_output=True)
        self.loops = ctypes.CDLL(str(library))
        self.loops.memory_verify.restype = ctypes.c_uint64

    def multiply_adds(self, single: bool) -> float:
        """Return seconds of CPU time for one floating-point operation."""
        out = ctypes.c_double()
        loop = self.loops.fma_single if single else self.loops.fma_double
        begun = time.thread_time()
        operations = int(loop(ctypes.c_int64(_TURNS), ctypes.byref(out)))
        return (time.thread_time() - begun) / (_TURNS * operations)


def _cpu_time(action: Callable[[], object], times: int) -> float:
    begun = time.thread_time()
    for _ in range(times):
        action()
    return (time.thread_time() - begun) / times


def _share(limit: Callable[[], float], ours: Callable[[], float]) -> float:
    """Return the limit's time as a share of ours, the median of interleaved rounds; a first round is thrown away."""
    shares = []
    for _ in range(_REPEATS + 1):
        mine = ours()
        shares.append(limit() / mine)
    return statistics.median(shares[1:])


def _figure(name: str, share: float, wanted: float) -> Figure:
    return Figure(name, 100 * share, "%", f"at least {100 * wanted:g} %", share >= wanted)


def _exercise(plan: LoadPlan) -> Any:
    exercise = make_exercise(plan, memoryview(aligned((shared_bytes(plan) + 64,), np.uint8).data))
    exercise.make()
    return exercise


def load_figures() -> list[Figure]:
    """Return all figures of the loads; those against C loops only where they can be compiled."""
    figures = [_solve_share(), _residue_share(), _relay_rate(), *_worker_figures()]
    with tempfile.TemporaryDirectory(prefix="thresher-limits-") as folder:
        try:
            limits = Limits(Path(folder))
        except (OSError, subprocess.CalledProcessError) as error:
            print(f"Not measured: loads against C loops ({error}).")
            return figures
        figures += [_matrix_share(limits, precision) for precision in Precision]
        figures.append(_transform_share(limits))
        figures += _integer_shares(limits)
        figures += _memory_shares(limits)
    return figures


def _matrix_share(limits: Limits, precision: Precision) -> Figure:
    plan = LoadPlan("matrix", 64, 1, precision=precision, compiled=True, working_set=WorkingSet.CORE)
    tiles = _exercise(plan)
    assert isinstance(tiles, RegisterTiles)
    beats = max(1, int(1e9 / register_operations(plan)))
    single = precision is Precision.SINGLE

    def ours() -> float:
        if not all(tiles.compute(0) for _ in range(2)):
            raise RuntimeError("this machine computes wrongly: run a real sheet on it")
        return _cpu_time(lambda: tiles.compute(0), beats) / register_operations(plan)

    share = _share(lambda: limits.multiply_adds(single), ours)
    return _figure(f"matrix, {precision.value}, verified: of the C loop of multiply-adds", share, 0.85)


def _solve_share() -> Figure:
    from scipy.linalg.lapack import dgetrf, dgetrs

    n = 768
    systems = _exercise(LoadPlan("solve", n, 1, compiled=True))
    assert isinstance(systems, Systems)
    rng = np.random.default_rng(5)
    matrix, right = np.asfortranarray(rng.uniform(-1, 1, (n, n))), rng.uniform(-1, 1, n)
    work = np.empty_like(matrix, order="F")

    def bare() -> float:
        total = 0.0
        for _ in range(4):
            work[:] = matrix  # what is measured is the calls alone; they overwrite their matrix
            begun = time.thread_time()
            factors, pivots, _ = dgetrf(work, overwrite_a=True)
            dgetrs(factors, pivots, right)
            total += time.thread_time() - begun
        return total / 4

    share = _share(bare, lambda: _cpu_time(lambda: systems.compute(0), 4))
    return _figure(f"solve, n={n}, verified: of the same LAPACK calls", share, 0.90)


def _transform_share(limits: Limits) -> Figure:
    plan = LoadPlan("transform", 1 << 17, 1, compiled=True)
    squarings = _exercise(plan)
    assert isinstance(squarings, Squarings)
    beat = [0]

    def step() -> None:
        squarings.compute(beat[0])
        beat[0] += 1

    operations = squarings.product_operations
    share = _share(lambda: limits.multiply_adds(False), lambda: _cpu_time(step, 20) / operations)
    return _figure("transform as products, verified: of the C loop of multiply-adds", share, 0.40)


def _residue_share() -> Figure:
    from scipy import fft

    digits = 1 << 19
    squarings = _exercise(LoadPlan("transform", digits, 1, compiled=True))
    held = [np.exp(1j * np.arange(digits // 2))]
    beat = [0]

    def step() -> None:
        squarings.compute(beat[0])
        beat[0] += 1

    def pair() -> None:
        held[0] = fft.ifft(fft.fft(held[0], overwrite_x=True), overwrite_x=True)

    times = 1.0 / _share(lambda: _cpu_time(pair, 10), lambda: _cpu_time(step, 10))
    return Figure(f"transform, {digits} digits, verified: × the bare pair", times, "×", "at most 1.9 ×", times <= 1.9)


def _integer_shares(limits: Limits) -> list[Figure]:
    chains = _exercise(LoadPlan("integer", 2048, 1, compiled=True))
    assert isinstance(chains, Chains)
    state, single = np.arange(2048, dtype=np.uint64), np.arange(8, dtype=np.uint64)
    vectors, scalars = chains.links

    def bare() -> None:
        limits.loops.chains_vector(ctypes.c_void_p(state.ctypes.data), ctypes.c_int64(2048), ctypes.c_int64(vectors))
        limits.loops.chains_scalar(ctypes.c_void_p(single.ctypes.data), ctypes.c_int64(scalars))

    share = _share(lambda: _cpu_time(bare, 20), lambda: _cpu_time(lambda: chains.compute(0), 20))
    return [_figure("integer, vectors and scalars, verified: of the same chains in C", share, 0.70)]


def _memory_shares(limits: Limits) -> list[Figure]:
    """Measure on one worker and on two at once: the bus is shared, so both are what a run meets."""
    figures = []
    for workers in (1, 2):
        if workers > len(os.sched_getaffinity(0)):
            continue
        shares = _on_cpus(workers, lambda: _memory_share(limits))
        for number, (name, wanted) in enumerate((("write", 0.95), ("verify", 0.90), ("turn up and down", 0.80))):
            share = statistics.mean(each[number] for each in shares)
            plural = "s" if workers > 1 else ""
            figures.append(_figure(f"memory, {workers} worker{plural}, {name}: of the C loop", share, wanted))
    return figures


def _on_cpus(workers: int, measure: Callable[[], list[float]]) -> list[list[float]]:
    """Run a measurement on several CPUs at once; kernels and C loops let go of nothing but leave Python between calls.

    Processes, since threads of Python would wait for each other.
    """
    if workers == 1:
        return [measure()]
    pids, pipes = [], []
    for cpu in sorted(os.sched_getaffinity(0))[:workers]:
        read_end, write_end = os.pipe()
        pid = os.fork()
        if not pid:
            os.close(read_end)
            os.sched_setaffinity(0, {cpu})
            text = " ".join(f"{value:.6f}" for value in measure())
            os.write(write_end, text.encode())
            os._exit(0)
        os.close(write_end)
        pids.append(pid)
        pipes.append(read_end)
    results = []
    for pid, pipe in zip(pids, pipes, strict=True):
        with os.fdopen(pipe, "rb") as stream:
            results.append([float(word) for word in stream.read().split()])
        os.waitpid(pid, 0)
    return results


def _memory_share(limits: Limits) -> list[float]:
    from thresher.loads.kernels.cells import KERNELS

    fill, check, up, down = KERNELS["flat"]
    # both on the same pages: two stretches of memory differ by some per cent for the same loop
    mine = Region(_MEMORY_WORDS * 8)
    places, found = np.zeros(16, np.int64), np.zeros(16, np.uint64)
    value, turned = 0x5555555555555555, 0xFFFFFFFFFFFFFFFF
    loops, base, many = limits.loops, ctypes.c_void_p(mine.address), ctypes.c_int64(_MEMORY_WORDS)
    lines = CHUNK_WORDS // 8

    def chunks(kernel: Any, turn: int, checks: bool, backwards: bool = False) -> None:
        order = range(0, _MEMORY_WORDS, CHUNK_WORDS)
        for at in reversed(order) if backwards else order:
            words = mine.words[at : at + CHUNK_WORDS]
            head = (mine.address + at * 8, lines, at, value, turn, words)
            if not checks:
                kernel(*head)
            elif kernel(*head, places, found):
                raise RuntimeError("this machine's memory is wrong: run a real sheet on it")

    def both_ways() -> None:
        chunks(up, 0, checks=True)
        chunks(down, turned, checks=True, backwards=True)

    def both_ways_in_c() -> None:
        loops.memory_up(base, many, ctypes.c_uint64(value))
        loops.memory_down(base, many, ctypes.c_uint64(value ^ turned))

    pairs: tuple[tuple[Callable[[], object], Callable[[], object]], ...] = (
        (lambda: loops.memory_write(base, many, ctypes.c_uint64(value)), lambda: chunks(fill, 0, checks=False)),
        (lambda: loops.memory_verify(base, many, ctypes.c_uint64(value)), lambda: chunks(check, 0, checks=True)),
        (both_ways_in_c, both_ways),
    )
    shares = [_share(lambda a=a: _cpu_time(a, 1), lambda b=b: _cpu_time(b, 1)) for a, b in pairs]  # type: ignore[misc]
    mine.release()
    return shares


def _ready(team: Team) -> None:
    while team.state is not TeamState.RUNNING:
        team.poll()
        time.sleep(0.002)


def _relay_rate() -> Figure:
    """Round trips a second between two cores over some seconds, with every message checked.

    What a single meeting takes says little on a shared machine: two virtual CPUs may for a moment be threads of one
    core.
    """
    cpus = sorted(os.sched_getaffinity(0))[:2]
    if len(cpus) < 2:
        return Figure("relay: needs two CPUs", 0.0, "M trips/s", "at least 3", False)
    team = start_team(cpus, LoadPlan("relay", 1, 1, compiled=True))
    _ready(team)
    time.sleep(0.5)
    rates = []
    for _ in range(_REPEATS):
        before, begun = team.status.beats(0), time.monotonic()
        time.sleep(0.5)
        rates.append((team.status.beats(0) - before) * MESSAGES / (time.monotonic() - begun) / 1e6)
    lost = len(team.poll())
    team.stop()
    rate = statistics.median(rates)
    return Figure(
        f"relay: round trips between two cores, {lost} lost", rate, "M per second", "at least 3", rate >= 3 and not lost
    )


def _worker_figures() -> list[Figure]:
    """Demand of the cores, Stop with many workers, verified beats, memory of a worker."""
    cpus = sorted(os.sched_getaffinity(0))
    team = start_team(cpus, LoadPlan("matrix", 64, 1, compiled=True, working_set=WorkingSet.CORE))
    _ready(team)
    time.sleep(0.5)
    before, begun = team.cpu_time_s() + _waited(team), time.monotonic()
    time.sleep(5.0)
    demand = (team.cpu_time_s() + _waited(team) - before) / (time.monotonic() - begun) / len(cpus)
    private = max(_private_mib(pid) for pid in team.pids().values())
    team.stop()
    crowd = start_team([cpus[n % len(cpus)] for n in range(64)], LoadPlan("matrix", 96, 1))
    _ready(crowd)
    time.sleep(1.0)
    stopped = crowd.stop().seconds
    return [
        Figure("cores demanded by their workers", 100 * demand, "%", "at least 99 %", demand >= 0.99),
        _beats_compared(),
        Figure("a worker's own memory beyond its working set", private, "MiB", "under 30 MiB", private < 30),
        Figure("Stop with 64 workers to the last one gone", stopped, "s", "under 0.5 s", stopped < 0.5),
    ]


def _beats_compared() -> Figure:
    """Share of beats in which a known answer made wrong is noticed: what is counted is what is compared."""
    exercise = _exercise(LoadPlan("integer", 64, 1, compiled=True))
    beats, seen = 2000, 0
    for beat in range(beats):
        place = beat % 64
        exercise.expected_window(0)[place] ^= np.uint64(1 << beat % 64)
        seen += not exercise.compute(beat)
        exercise.expected_window(0)[place] ^= np.uint64(1 << beat % 64)
    return Figure("beats verified", 100 * seen / beats, "%", "at least 99.9 %", seen >= 0.999 * beats)


def _waited(team: Team) -> float:
    """Return how long the team's processes were ready and had to wait for a core (proc/schedstat, second number)."""
    return sum(int(Path(f"/proc/{pid}/schedstat").read_text().split()[1]) for pid in team.pids().values()) / 1e9


def _private_mib(pid: int) -> float:
    """Return the private memory of a process in MiB (filesystems/proc, smaps_rollup)."""
    lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
    return sum(int(line.split()[1]) for line in lines if line.startswith(("Private_Clean", "Private_Dirty"))) / 1024
