"""How the program starts parts of itself."""

import sys


def own_command(module: str, *arguments: str) -> list[str]:
    """Return the command that runs one of the program's modules.

    With a safe path: modules that lie in the working folder are never run (Python's command line, option -P).
    """
    return [sys.executable, "-P", "-m", module, *arguments]
