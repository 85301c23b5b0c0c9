"""False alarms on healthy simulated machines: draws machines without a fault, runs every load on each, prints findings.

Usage: python bench/healthy_models.py [COUNT] [SEED]; ends with 1 when any healthy machine was accused.
"""

import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np

from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.loads.registry import LOADS
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

_SECONDS = 8


def every_load() -> str:
    """Return a sheet that walks through every load."""
    text, start = 'format = "thresher-sheet/1"\ntitle = "Every load"\n', 0
    for name, kind in LOADS.items():
        extra = 'patterns = "long"\nwait = 1\n' if name == "memory" else ""
        text += f'[[blocks]]\nrow = "{kind.row.value}"\nload = "{name}"\nstart = {start}\nlength = {_SECONDS}\n{extra}'
        start += _SECONDS
    return text


def drawn(rng: np.random.Generator, whole: Scenario, number: int) -> Scenario:
    """Return a machine of its own: cores, clocks, power, room, cooling; nothing faulty."""
    base = int(rng.integers(28, 42)) * 100
    processor = replace(
        whole.processor,
        cores=int(rng.integers(2, 5)),
        threads_per_core=int(rng.integers(1, 3)),
        base_mhz=base,
        all_core_mhz=base + 300,
        boost_mhz=base + 900,
        power_limit_w=float(rng.integers(30, 80)),
    )
    return replace(
        whole,
        seed=1000 + number,
        ambient_c=float(rng.integers(16, 31)),
        processor=processor,
        faults=(),
        machine=f"Healthy {number}",
    )


def main() -> int:
    """Run them all; return 1 when one was accused."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 50
    rng = np.random.default_rng(int(sys.argv[2]) if len(sys.argv) > 2 else 7)
    whole = load_scenario(shipped_scenarios()["ferry-office"])
    sheet, accused, beats = parse_sheet(every_load(), "every load"), 0, 0
    with tempfile.TemporaryDirectory(prefix="thresher-healthy-") as folder:
        for number in range(count):
            engine = open_engine(
                SimulatedMachine(drawn(rng, whole, number), 0.0), Path(folder) / f"{number}.thresher", {}
            )
            try:
                beats += engine.run_to_end(sheet).beats
                findings = engine.findings
            finally:
                engine.close()
            accused += bool(findings)
            for finding in findings:
                print(f"Healthy {number}: {finding.code} {finding.title}: {finding.detail}")
    print(f"{count} healthy machines, {beats} beats, {accused} accused")
    return 1 if accused else 0


if __name__ == "__main__":
    sys.exit(main())
