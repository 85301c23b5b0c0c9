"""Text mode: what goes on after a crash, the long memory check where the menu asked for it, else a shell.

Usage: python -m thresher.stick.console, on a console of its own. It becomes the program that it chooses.
"""

import os
import sys
from pathlib import Path

from thresher.model.own_program import own_command
from thresher.stick.boot import HOME, BootOptions, Mode, boot_options, read_going_on

SHELL = ["/usr/lib/thresher-stick/shell"]
MEMORY_SHEET = "memory-check-long"
_HELD = 'echo; echo "Enter opens a shell. The job is kept; thresher verdict JOB reads it."; read -r _; exec "$0"'


def command_for(options: BootOptions, going_on: Path | None) -> list[str]:
    """Return what this console becomes."""
    if going_on is not None:
        return own_command("thresher.cli", "go-on", str(going_on))
    if options.mode is Mode.MEMORY:
        return own_command("thresher.cli", "run", MEMORY_SHEET, "--unwatched-limit")
    return SHELL


def main() -> int:
    """Become the program; afterwards a shell, with what the program said still on the screen."""
    options = boot_options(Path("/proc/cmdline").read_text(encoding="utf-8"))
    command = command_for(options, read_going_on(HOME))
    if command != SHELL:
        command = ["/bin/sh", "-c", f"{' '.join(_quoted(word) for word in command)}; {_HELD}", SHELL[0]]
    sys.stdout.flush()
    os.execv(command[0], command)  # noqa: S606 (our own programs)


def _quoted(word: str) -> str:
    return "'" + word.replace("'", "'\\''") + "'"


if __name__ == "__main__":
    sys.exit(main())
