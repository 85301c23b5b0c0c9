"""What the log service has stored of a boot, through a process of its own with a limit of time."""

import json
import subprocess

from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command
from thresher.model.port import LogLine

_WAIT_S = 20.0
_NAME = "stored log"


def stored_log(boot_id: str, most: int) -> tuple[LogLine, ...]:
    """Return the newest lines of a boot, oldest first. Raises SourceUnavailable."""
    command = own_command("thresher.machine.boot_log", boot_id, str(most))
    try:
        done = subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, timeout=_WAIT_S, check=False)
    except subprocess.TimeoutExpired as error:
        raise SourceUnavailable(_NAME, f"it did not answer for {_WAIT_S:.0f} s") from error
    except OSError as error:
        raise SourceUnavailable(_NAME, error.strerror or str(error)) from error
    if done.returncode != 0:
        said = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2]
        raise SourceUnavailable(_NAME, said or f"its reader ended with code {done.returncode}")
    return tuple(LogLine(*json.loads(line)) for line in reversed(done.stdout.splitlines()))
