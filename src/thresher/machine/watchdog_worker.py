"""The process that holds a hardware watchdog. Usage: python -m thresher.machine.watchdog_worker DEVICE SECONDS

It feeds the watchdog for each line that comes, and disarms it when its input ends, also because the engine was killed:
a program that dies is no reason to reset a machine. A machine that freezes feeds nothing. By the kernel document
watchdog/watchdog-api: WDIOC_SETTIMEOUT, and the letter V before the close, without which the watchdog goes on counting.
"""

import contextlib
import fcntl
import os
import signal
import struct
import sys

_SETTIMEOUT = 0xC0045706  # _IOWR('W', 6, int)


def main(device: str, seconds: str) -> int:
    """Arm, feed and disarm; each line of the output is `armed N`, `fed`, `off` or `failed` with the reason."""
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)  # it ends by its input, with the watchdog off
    try:
        dog = os.open(device, os.O_WRONLY | os.O_CLOEXEC)
    except OSError as error:
        print(f"failed {os.strerror(error.errno or 0)}", flush=True)
        return 1
    try:
        answer = fcntl.ioctl(dog, _SETTIMEOUT, struct.pack("i", int(float(seconds))))
        print(f"armed {struct.unpack('i', answer)[0]}", flush=True)
    except OSError:
        print(f"armed {seconds}", flush=True)  # it keeps the timeout that it has
    try:
        for _ in sys.stdin:
            os.write(dog, b"\0")
    finally:
        try:
            os.write(dog, b"V")
            os.close(dog)
            said = "off"
        except OSError as error:
            said = f"failed {os.strerror(error.errno or 0)}"
        with contextlib.suppress(OSError):  # nobody listens any more
            print(said, flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], sys.argv[2]))
