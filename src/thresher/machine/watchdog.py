"""A hardware watchdog of this computer, held by a process of its own."""

import os
import subprocess
from pathlib import Path

from thresher.machine.files import list_names, read_once
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command

_CLASS = "/sys/class/watchdog"
_WAIT_S = 3.0
NOWAYOUT = "cannot be switched off again (nowayout): a program that dies would reset the machine"


class LiveWatchdog:
    """The first watchdog of this computer, armed."""

    def __init__(self, timeout_s: float) -> None:
        """Arm it. Raises SourceUnavailable with what would change that."""
        name = next(iter(list_names(Path(_CLASS))), "")
        if not name:
            raise SourceUnavailable(_CLASS, "this machine has no hardware watchdog, or its driver is not loaded")
        if _text(f"{_CLASS}/{name}/nowayout") == "1":
            raise SourceUnavailable(f"/dev/{name}", NOWAYOUT)
        self.name = _text(f"{_CLASS}/{name}/identity") or name
        command = own_command("thresher.machine.watchdog_worker", f"/dev/{name}", f"{timeout_s:.0f}")
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, start_new_session=True
        )
        assert self._process.stdout is not None
        word, _, rest = self._process.stdout.readline().strip().partition(" ")
        if word != "armed":
            self._process.kill()
            self._process.wait()
            raise SourceUnavailable(f"/dev/{name}", rest or "its process has ended")
        assert self._process.stdin is not None
        os.set_blocking(self._process.stdin.fileno(), False)
        self.timeout_s = float(rest)

    def feed(self) -> str:
        """Feed it, without waiting for the process."""
        assert self._process.stdin is not None
        try:
            os.write(self._process.stdin.fileno(), b"feed\n")
        except BlockingIOError:
            return "its process takes nothing any more: the device does not answer"
        except OSError as error:
            return f"its process has ended ({error.strerror})"
        return ""

    def close(self) -> str:
        """Disarm it."""
        assert self._process.stdin is not None and self._process.stdout is not None
        try:
            self._process.stdin.close()
            said = self._process.stdout.read().strip()
            self._process.wait(_WAIT_S)
        except (OSError, subprocess.TimeoutExpired) as error:
            return str(error)
        self._process.stdout.close()
        return "" if said.endswith("off") else said.removeprefix("failed ") or "its process was killed"


def _text(path: str) -> str:
    try:
        return read_once(path, Path(path)).decode("utf-8", "replace").strip()
    except SourceUnavailable:
        return ""
