"""The system's own tools for partitions and mounts, each started with a time-out and its words kept for the error."""

import subprocess
from collections.abc import Callable, Sequence
from typing import Protocol

from thresher.model.errors import EnvironmentFault

_PATH = "/usr/sbin:/sbin:/usr/bin:/bin"
_AT_MOST_S = 120.0


class Tools(Protocol):
    """Runs a tool and returns what it prints. Raises EnvironmentFault with its words where it fails."""

    def __call__(self, command: Sequence[str], given: str = "") -> str:
        """Run it with a text on its standard input."""


def run_tool(command: Sequence[str], given: str = "") -> str:
    """Run a tool of this system. Raises EnvironmentFault where it is not there, fails, or does not come back."""
    tried = f"running {' '.join(command)}"
    try:
        done = subprocess.run(
            list(command),
            input=given,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_AT_MOST_S,
            env={"PATH": _PATH, "LC_ALL": "C.UTF-8"},
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise EnvironmentFault(tried, f"no answer within {_AT_MOST_S:.0f} s", "The drive may be failing.") from error
    except OSError as error:
        raise EnvironmentFault(tried, error.strerror or str(error), "Its Debian package may be missing.") from error
    if done.returncode:
        words = done.stderr.strip() or done.stdout.strip() or f"it ended with {done.returncode}"
        raise EnvironmentFault(tried, words.splitlines()[0], "See the system's log: journalctl -b.")
    return done.stdout


def tried(act: Callable[[], str]) -> str:
    """Return what a tool prints, empty where it fails: for questions whose answer may be no."""
    try:
        return act()
    except EnvironmentFault:
        return ""
