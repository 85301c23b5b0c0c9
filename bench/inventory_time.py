"""How long `thresher inventory` takes for machines of six kinds, against starting Python with numpy for comparison.

Run: python bench/inventory_time.py
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.unit import machine_trees

ROUNDS = 5


def shortest(command: list[str]) -> float:
    """Return the shortest of some runs in seconds; the machine is shared, so that longer ones show what others did."""
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        subprocess.run(command, capture_output=True, check=True)
        times.append(time.perf_counter() - begun)
    return min(times)


def main() -> None:
    """Print a line a machine."""
    base = shortest([sys.executable, "-c", "import numpy"])
    print(f"{'python with numpy alone':28} {base:.2f} s")
    verb = [sys.executable, "-m", "thresher.cli", "inventory"]
    print(f"{'this computer':28} {(took := shortest(verb)):.2f} s   {took / base:.1f} of that")
    for kind, make in machine_trees.ALL.items():
        with tempfile.TemporaryDirectory() as folder:
            for name, content in make().items():
                path = Path(folder) / name.lstrip("/")
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(content if isinstance(content, bytes) else content.encode())
            took = shortest([*verb, "--root", folder])
        print(f"{kind:28} {took:.2f} s   {took / base:.1f} of that")


if __name__ == "__main__":
    main()
