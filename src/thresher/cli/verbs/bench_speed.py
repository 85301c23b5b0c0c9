"""`thresher bench-speed`."""

import os
import sys

from thresher.cli.options import Json
from thresher.model.own_program import own_command


def bench_speed(json: Json = False) -> None:
    """Measure the program's own speed on this machine."""
    program = "thresher.proving.selfbench"
    os.execv(sys.executable, own_command(program, *(["--json"] if json else [])))  # noqa: S606 (our own program)
