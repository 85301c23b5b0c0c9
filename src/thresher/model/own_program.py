"""How the program starts parts of itself."""

import contextlib
import subprocess
import sys


def own_command(module: str, *arguments: str) -> list[str]:
    """Return the command that runs one of the program's modules.

    With a safe path: modules that lie in the working folder are never run (Python's command line, option -P).
    """
    return [sys.executable, "-P", "-m", module, *arguments]


def start_own(
    module: str, *arguments: str, order: bytes = b"", opened: tuple[int, ...] = ()
) -> subprocess.Popen[bytes]:
    """Start one of the program's modules as a worker: pipes both ways, and `order` as the first line of its input.

    `opened` are descriptors that it gets. It has a session of its own, since a key that stops the program must not tear
    a worker's work apart.
    """
    process = subprocess.Popen(
        own_command(module, *arguments),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        pass_fds=opened,
    )
    if order and process.stdin is not None:
        with contextlib.suppress(BrokenPipeError):  # it has ended already: its output says why
            process.stdin.write(order + b"\n")
            process.stdin.flush()
    return process
