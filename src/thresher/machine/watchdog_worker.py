"""The process that holds a hardware watchdog. Usage: python -m thresher.machine.watchdog_worker DEVICE SECONDS

It feeds the watchdog for each line that comes, and disarms it when its input ends, also because the engine was killed.
"""

import contextlib
import os
import signal
import sys

from thresher.privileged.watchdog import hold


def _say(words: str) -> None:
    with contextlib.suppress(OSError):  # nobody listens any more
        print(words, flush=True)


def main(device: str, seconds: str) -> int:
    """Arm, feed and disarm; each line of the output is `armed N`, `off` or `failed` with the reason."""
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)  # it ends by its input, with the watchdog off
    try:
        dog = os.open(device, os.O_WRONLY | os.O_CLOEXEC)
    except OSError as error:
        _say(f"failed {os.strerror(error.errno or 0)}")
        return 1
    hold(dog, int(float(seconds)), sys.stdin.buffer.readline, _say)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2]))
