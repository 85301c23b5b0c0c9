"""Holding off sleep, idle, lid and screen blanking on this computer, through a process of its own."""

import json
import os
import subprocess

from thresher.model.keeping_port import HeldOff
from thresher.model.own_program import own_command


class LiveAwake:
    """Everything that can be held off is, until it is closed or this process dies."""

    def __init__(self, why: str) -> None:
        """Ask for it; the answers come by `news`."""
        command = own_command("thresher.machine.awake_worker", why)
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
        )
        assert self._process.stdout is not None
        os.set_blocking(self._process.stdout.fileno(), False)
        self._pending = b""

    def news(self) -> tuple[HeldOff, ...]:
        """Return what has been answered since the last call."""
        assert self._process.stdout is not None
        try:
            self._pending += os.read(self._process.stdout.fileno(), 65536)
        except (BlockingIOError, OSError):
            return ()
        *lines, self._pending = self._pending.split(b"\n")
        return tuple(HeldOff(*json.loads(line)) for line in lines if line)

    def close(self) -> None:
        """Give everything back."""
        assert self._process.stdin is not None and self._process.stdout is not None
        self._process.stdin.close()
        try:
            self._process.wait(2.0)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()
