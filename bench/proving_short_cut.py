"""What the proving ground's quick runs find beside what the engine with its workers finds, on the same machines.

Usage: python bench/proving_short_cut.py [MINUTES]; prints for each fault the signs by kind, both ways, and the
seconds that both took.
"""

import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from thresher.compose.sheet_file import trial_sheet
from thresher.decoding.recognise import load_tables
from thresher.engine.assembly import open_engine
from thresher.model.findings import Finding
from thresher.proving.quick_run import QuickBench, Stint
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

F = FaultKind
CASES = (
    (Fault(kind=F.WEAK_VECTOR_UNIT, strength=1.0), "matrix"),
    (Fault(kind=F.CACHE_BIT, strength=1.0), "branchy"),
    (Fault(kind=F.UNDERVOLT, strength=45.0), "matrix"),
    (Fault(kind=F.BOARD_SUPPLY, strength=60.0), "matrix"),
    (Fault(kind=F.COHERENCE, strength=3.0), "relay"),
    (Fault(kind=F.MEMORY_CONTROLLER, strength=120.0), "memory"),
    (Fault(kind=F.CELL_STUCK, strength=1.0, slot="A1"), "memory"),
    (Fault(kind=F.SAGGING_SUPPLY, strength=0.6), "matrix"),
)


def by_engine(scenario: Scenario, load: str, minutes: float, folder: Path) -> Counter[str]:
    """Return the signs by kind that the engine with its workers finds."""
    engine = open_engine(SimulatedMachine(scenario, 0.0), folder / f"{time.monotonic_ns()}.thresher", {})
    try:
        engine.run_to_end(trial_sheet(((load, minutes),), "both ways"))
        return counted(engine.findings)
    finally:
        engine.close()


def counted(findings: Iterable[Finding]) -> Counter[str]:
    """Return signs by kind."""
    signs = Counter[str]()
    for each in findings:
        signs[each.kind.value] += each.count
    return signs


def main() -> None:
    """Print both ways side by side."""
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 8.0
    whole = load_scenario(shipped_scenarios()["ferry-office"])
    processor = replace(whole.processor, cores=2, threads_per_core=1, power_limit_w=40.0)
    tables = load_tables()
    with tempfile.TemporaryDirectory(prefix="thresher-short-cut-") as folder:
        for fault, load in CASES:
            scenario = replace(whole, processor=processor, faults=(fault,), cooler_share=0.3)
            begun = time.perf_counter()
            engine = by_engine(scenario, load, minutes, Path(folder))
            middle = time.perf_counter()
            quick = QuickBench(scenario, tables, 1).carry_out((Stint(load, minutes),), 10_000)
            ended = time.perf_counter()
            print(f"{fault.kind.value}, {minutes:.0f} min of {load}")
            print(f"    engine {middle - begun:6.1f} s  {dict(engine)}")
            print(f"    quick  {ended - middle:6.1f} s  {dict(counted(quick.findings))}")


if __name__ == "__main__":
    main()
