"""Holding a hardware watchdog: fed for each byte that comes, disarmed when no more can come.

A program that dies is no reason to reset a machine, one that freezes feeds nothing. By the kernel document
watchdog/watchdog-api: WDIOC_SETTIMEOUT, and the letter V before the close, without which the watchdog goes on counting.
"""

import contextlib
import fcntl
import os
import struct
from collections.abc import Callable

_SETTIMEOUT = 0xC0045706  # _IOWR('W', 6, int)


def hold(device: int, seconds: int, read: Callable[[], bytes], say: Callable[[str], None]) -> None:
    """Arm a watchdog that is open, feed it for whatever is read, disarm it at the end of that, and close it.

    It says `armed N` with the seconds that the device took, and `off` or `failed` with the reason.
    """
    with contextlib.suppress(OSError):  # it keeps the time that it has
        seconds = struct.unpack("i", fcntl.ioctl(device, _SETTIMEOUT, struct.pack("i", seconds)))[0]
    try:
        say(f"armed {seconds}")
        while read():
            os.write(device, b"\0")
    finally:
        try:
            os.write(device, b"V")
            os.close(device)
            ended = "off"
        except OSError as error:
            ended = f"failed {os.strerror(error.errno or 0)}"
        say(ended)
