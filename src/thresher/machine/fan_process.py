"""Driving a fan of this computer through a process of its own, which puts it back when it loses its input.

So the fan is as it was before also when this program is killed: the pipe closes then.
"""

import contextlib
import subprocess
import threading

from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import own_command

_ANSWER_S = 3.0


class FanProcess:
    """One fan, by the folder of its chip and its number there (kernel document hwmon/sysfs-interface)."""

    def __init__(self, folder: str, number: int) -> None:
        """Take control. Raises SourceUnavailable when that is not allowed."""
        self._where = f"{folder}/pwm{number}"
        self._process = subprocess.Popen(
            [*own_command("thresher.machine.fan_worker"), folder, str(number)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self._answered()

    def drive(self, duty: int) -> None:
        """Drive it with a duty of 0 to 255."""
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(f"{duty}\n")
            self._process.stdin.flush()
        except OSError as error:
            raise SourceUnavailable(self._where, "the process that drives the fan has ended") from error
        self._answered()

    def _answered(self) -> None:
        assert self._process.stdout is not None
        line = self._process.stdout.readline().strip()
        if line != "done":
            self.close()
            raise SourceUnavailable(self._where, line or "the process that drives the fan has ended")

    def let_go(self) -> None:
        """Have it put back how it was, without waiting: the process does it when it loses its input."""
        assert self._process.stdin is not None
        if not self._process.stdin.closed:
            with contextlib.suppress(OSError):
                self._process.stdin.close()
            threading.Thread(target=self.close, name="fan put back", daemon=True).start()

    def close(self) -> None:
        """Put back how it was, and wait until that is done."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        with contextlib.suppress(OSError):
            self._process.stdin.close()
        try:
            self._process.wait(_ANSWER_S)
        except subprocess.TimeoutExpired:  # it hangs in the kernel; it puts the fan back once that answers
            return
        self._process.stdout.close()
