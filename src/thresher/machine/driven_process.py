"""Driving a fan or a backlight of this computer through a process of its own, which puts it back at its input's end.

So it is as it was before also when this program is killed: the pipe closes then.
"""

import contextlib
import subprocess
import threading

from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command

_ANSWER_S = 3.0


class DrivenProcess:
    """One fan or backlight, by the file that drives it, and the module and arguments of the process that does."""

    def __init__(self, where: str, module: str, *arguments: str) -> None:
        """Take control. Raises SourceUnavailable when that is not allowed."""
        self._where = where
        self._process = subprocess.Popen(
            own_command(module, *arguments),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self._answered()

    def drive(self, value: int) -> None:
        """Drive it with a value in the kernel's own unit."""
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(f"{value}\n")
            self._process.stdin.flush()
        except OSError as error:
            raise SourceUnavailable(self._where, "the process that drives it has ended") from error
        self._answered()

    def _answered(self) -> None:
        assert self._process.stdout is not None
        line = self._process.stdout.readline().strip()
        if line != "done":
            self.close()
            raise SourceUnavailable(self._where, line or "the process that drives it has ended")

    def let_go(self) -> None:
        """Have it put back how it was, without waiting: the process does it when it loses its input."""
        assert self._process.stdin is not None
        if not self._process.stdin.closed:
            with contextlib.suppress(OSError):
                self._process.stdin.close()
            threading.Thread(target=self.close, name="put back", daemon=True).start()

    def close(self) -> None:
        """Put back how it was, and wait until that is done."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        try:
            self._process.wait(_ANSWER_S)
        except subprocess.TimeoutExpired:  # it hangs in the kernel; it puts it back once that answers
            return
        self._process.stdout.close()


def fan_process(folder: str, number: int) -> DrivenProcess:
    """Take control of a fan by its chip's folder and its number there. Raises SourceUnavailable."""
    return DrivenProcess(f"{folder}/pwm{number}", "thresher.machine.fan_worker", folder, str(number))


def backlight_process(name: str) -> DrivenProcess:
    """Take control of a backlight by its name. Raises SourceUnavailable."""
    return DrivenProcess(f"/sys/class/backlight/{name}/brightness", "thresher.machine.backlight_worker", name)
