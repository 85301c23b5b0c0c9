"""`thresher bench-speed`."""

import os
import sys

from thresher.cli.options import Json


def bench_speed(json: Json = False) -> None:
    """Measure the program's own speed on this machine."""
    program = "thresher.proving.selfbench"
    os.execv(sys.executable, [sys.executable, "-m", program, *(["--json"] if json else [])])  # noqa: S606 (our own program)
