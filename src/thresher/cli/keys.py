"""Any key of the terminal, while something else goes on."""

import os
import select
import sys
import termios
import threading
import tty
from collections.abc import Callable, Iterator
from contextlib import contextmanager

_LOOK_S = 0.2


@contextmanager
def any_key(pressed: Callable[[], object]) -> Iterator[None]:
    """Call `pressed` once when a key is pressed; without a terminal nothing is watched."""
    if not sys.stdin.isatty():
        yield
        return
    keyboard = sys.stdin.fileno()
    before = termios.tcgetattr(keyboard)
    over = threading.Event()

    def watch() -> None:
        while not over.is_set():
            if select.select([keyboard], [], [], _LOOK_S)[0]:
                os.read(keyboard, 64)
                pressed()
                return

    tty.setcbreak(keyboard)
    watcher = threading.Thread(target=watch, name="keys", daemon=True)
    watcher.start()
    try:
        yield
    finally:
        over.set()
        watcher.join()
        termios.tcsetattr(keyboard, termios.TCSADRAIN, before)
