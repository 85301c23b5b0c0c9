"""A picture of the Bench, drawn by the window's own code in a process of its own."""

import os
import subprocess
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command

_LONGEST_S = 120


def draw_bench(job: Path, out: Path) -> None:
    """Draw the Bench of a stored job into a PNG, without a display. Raises EnvironmentFault when that fails."""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    arguments = own_command("thresher.ui", "--stored", str(job), "--picture", str(out))
    try:
        done = subprocess.run(
            arguments, env=environment, capture_output=True, text=True, timeout=_LONGEST_S, check=False
        )
    except subprocess.TimeoutExpired as error:
        raise EnvironmentFault(f"drawing {out}", f"it took longer than {_LONGEST_S} s", "Try it again.") from error
    if done.returncode:
        last = done.stderr.strip().rpartition("\n")[2] or f"it ended with {done.returncode}"
        raise EnvironmentFault(f"drawing {out}", last, "The Debian packages that Qt needs are listed in the README.")
