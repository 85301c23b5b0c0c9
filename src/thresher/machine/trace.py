"""The kernel's traced hardware errors as lines, without waiting."""

import os
from pathlib import Path

from thresher.machine.files import reason_of
from thresher.model.errors import SourceUnavailable
from thresher.privileged.tracing import PLACES, Instance, NoTracing, place_of

_READ_BYTES = 1 << 16
_MOST_PENDING = 1 << 20


def _unavailable(error: NoTracing) -> SourceUnavailable:
    if not isinstance(error.why, OSError):
        return SourceUnavailable(str(error.where), error.why)
    return SourceUnavailable(str(error.where), f"{reason_of(error.why)}; hardware errors are traced for root only")


class TraceLines:
    """Lines from the reading end of a trace instance, which belongs to whoever opened it."""

    lost = 0

    def __init__(self, fd: int, path: str) -> None:
        """Read from a descriptor, which is closed at the end; `path` names it in messages."""
        self._fd = fd
        self._where = path
        self._pending = b""

    def read_records(self) -> list[bytes]:
        """Return every complete line that is there now."""
        while True:
            try:
                more = os.read(self._fd, _READ_BYTES)
            except BlockingIOError:
                break
            except OSError as error:
                raise SourceUnavailable(self._where, reason_of(error)) from error
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
        """Close the reading end; closing twice does nothing."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class LiveTrace(TraceLines):
    """The lines of an instance of our own."""

    def __init__(self, places: tuple[Path, ...] = PLACES) -> None:
        """Make the instance. Raises SourceUnavailable with what would change that."""
        try:
            self._instance = Instance(place_of(places), f"thresher-{os.getpid()}-{id(self):x}")
        except NoTracing as error:
            raise _unavailable(error) from error
        self.path = self._instance.path
        self.events = self._instance.events
        super().__init__(self._instance.fd, str(self.path))

    def close(self) -> None:
        """Take the instance away."""
        super().close()
        self._instance.remove()
