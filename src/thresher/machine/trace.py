"""The kernel's traced hardware errors, read through a trace instance of our own (kernel document trace/ftrace,
sections "The File System" and "Instances"), so that nobody else's tracing is disturbed.
"""

import contextlib
import os
from pathlib import Path

from thresher.machine.files import reason_of
from thresher.model.errors import SourceUnavailable

_PLACES = (Path("/sys/kernel/tracing"), Path("/sys/kernel/debug/tracing"))
WANTED = (
    "mce/mce_record",
    "ras/mc_event",
    "ras/aer_event",
    "ras/extlog_mem_event",
    "ras/arm_event",
    "ras/memory_failure_event",
)
"""Events that report hardware errors with all their registers; which of them exist depends on the kernel."""
_READ_BYTES = 1 << 16
_MOST_PENDING = 1 << 20


def _place_of(places: tuple[Path, ...]) -> Path:
    """Return where tracing is mounted. Raises SourceUnavailable with what the kernel answers there."""
    refused: OSError | None = None
    for place in places:
        try:
            (place / "events").stat()
        except FileNotFoundError:
            continue
        except OSError as error:  # distributions keep this folder to root (mode 0700)
            refused = refused or error
            continue
        return place
    if refused is not None:
        raise SourceUnavailable(str(places[0]), f"{reason_of(refused)}; hardware errors are traced for root only")
    raise SourceUnavailable(str(places[0]), "tracing is not mounted (mount -t tracefs tracefs /sys/kernel/tracing)")


class LiveTrace:
    """Lines of traced hardware errors, without waiting."""

    lost = 0

    def __init__(self, places: tuple[Path, ...] = _PLACES) -> None:
        """Make an instance and switch the events on. Raises SourceUnavailable with what would change that."""
        root = _place_of(places)
        self.path = root / "instances" / f"thresher-{os.getpid()}-{id(self):x}"
        self._pending = b""
        try:
            self.path.mkdir()
        except OSError as error:
            raise SourceUnavailable(str(root / "instances"), reason_of(error)) from error
        self.events = tuple(event for event in WANTED if self._switch_on(event))
        if not self.events:
            self.close()
            raise SourceUnavailable(str(root / "events"), "this kernel traces no hardware errors")
        try:
            self._fd = os.open(self.path / "trace_pipe", os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            self.close()
            raise SourceUnavailable(str(self.path / "trace_pipe"), reason_of(error)) from error

    def _switch_on(self, event: str) -> bool:
        try:
            (self.path / "events" / event / "enable").write_text("1")
        except OSError:
            return False
        return True

    def read_records(self) -> list[bytes]:
        """Return every complete line that is there now."""
        while True:
            try:
                more = os.read(self._fd, _READ_BYTES)
            except BlockingIOError:
                break
            except OSError as error:
                raise SourceUnavailable(str(self.path), reason_of(error)) from error
            if not more:
                break
            self._pending += more
            if len(self._pending) > _MOST_PENDING:
                break
        complete, _, self._pending = self._pending.rpartition(b"\n")
        lines = complete.split(b"\n") if complete else []
        self.lost += sum(b"LOST" in line and b"EVENTS" in line for line in lines)
        return [line for line in lines if b"LOST" not in line]

    def close(self) -> None:
        """Take the instance away."""
        fd = getattr(self, "_fd", -1)
        if fd >= 0:
            os.close(fd)
            self._fd = -1
        with contextlib.suppress(OSError):  # the kernel refuses while somebody looks into it; it costs nothing to stay
            self.path.rmdir()
