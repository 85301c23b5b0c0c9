"""A hardware watchdog of this computer, held by a process of its own."""

import os
import socket
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
        name = watchdog_name()
        if _text(f"{_CLASS}/{name}/nowayout") == "1":
            raise SourceUnavailable(f"/dev/{name}", NOWAYOUT)
        self.name = _identity(name)
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


class HelperWatchdog:
    """A watchdog that the access helper holds for whoever has the socket."""

    def __init__(self, name: str, end: socket.socket) -> None:
        """Wait until it is armed. Raises SourceUnavailable."""
        self.name = _identity(name)
        self._end = end
        self._end.settimeout(_WAIT_S)
        word, _, rest = self._said().partition(" ")
        if word != "armed":
            self._end.close()
            raise SourceUnavailable(f"/dev/{name}", rest or "the access helper has ended")
        self.timeout_s = float(rest)

    def _said(self) -> str:
        try:
            return self._end.recv(256).decode("utf-8", "replace").strip()
        except OSError:
            return ""

    def feed(self) -> str:
        """Feed it, without waiting."""
        try:
            self._end.send(b"f", socket.MSG_DONTWAIT)
        except BlockingIOError:
            return "the access helper takes nothing any more: the device does not answer"
        except OSError as error:
            return f"the access helper has ended ({error.strerror})"
        return ""

    def close(self) -> str:
        """Disarm it."""
        try:
            self._end.shutdown(socket.SHUT_WR)
        except OSError as error:
            return str(error)
        said = self._said()
        self._end.close()
        return "" if said == "off" else said.removeprefix("failed ") or "the access helper has ended"


def watchdog_name() -> str:
    """Return the kernel's name of the first watchdog. Raises SourceUnavailable when there is none."""
    name = next(iter(list_names(Path(_CLASS))), "")
    if not name:
        raise SourceUnavailable(_CLASS, "this machine has no hardware watchdog, or its driver is not loaded")
    return name


def _identity(name: str) -> str:
    return _text(f"{_CLASS}/{name}/identity") or name


def _text(path: str) -> str:
    try:
        return read_once(path, Path(path)).decode("utf-8", "replace").strip()
    except SourceUnavailable:
        return ""
