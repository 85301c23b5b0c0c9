"""Traced hardware errors: a trace instance of our own (kernel document trace/ftrace, section "Instances"), so that
nobody else's tracing is disturbed.
"""

import contextlib
import os
from pathlib import Path

from thresher.privileged.allowlist import TRACED

PLACES = (Path("/sys/kernel/tracing"), Path("/sys/kernel/debug/tracing"))


class NoTracing(Exception):
    """Why hardware errors cannot be traced: where, and the reason or the kernel's error."""

    def __init__(self, where: Path, why: str | OSError) -> None:
        """Keep both."""
        super().__init__(str(where), str(why))
        self.where, self.why = where, why


def place_of(places: tuple[Path, ...] = PLACES) -> Path:
    """Return where tracing is mounted. Raises NoTracing with what the kernel answers there."""
    refused: NoTracing | None = None
    for place in places:
        try:
            (place / "events").stat()
        except FileNotFoundError:
            continue
        except OSError as error:  # distributions keep this folder to root (mode 0700)
            refused = refused or NoTracing(place, error)
            continue
        return place
    raise refused or NoTracing(places[0], "tracing is not mounted (mount -t tracefs tracefs /sys/kernel/tracing)")


class Instance:
    """One instance with the hardware's events switched on, and the end from which its lines are read."""

    def __init__(self, root: Path, name: str) -> None:
        """Make it. Raises NoTracing."""
        self.path = root / "instances" / name
        try:
            self.path.mkdir()
        except OSError as error:
            raise NoTracing(root / "instances", error) from error
        self.events = tuple(event for event in TRACED if self._switch_on(event))
        if not self.events:
            self.remove()
            raise NoTracing(root / "events", "this kernel traces no hardware errors")
        try:
            self.fd = os.open(self.path / "trace_pipe", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            self.remove()
            raise NoTracing(self.path / "trace_pipe", error) from error

    def _switch_on(self, event: str) -> bool:
        try:
            (self.path / "events" / event / "enable").write_text("1")
        except OSError:
            return False
        return True

    def remove(self) -> bool:
        """Take it away; whether that went: the kernel refuses while somebody looks into it, and it costs nothing."""
        with contextlib.suppress(OSError):
            self.path.rmdir()
            return True
        return False
