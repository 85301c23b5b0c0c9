"""A verified load carried out by a process of its own, followed report by report."""

import logging
import os
import selectors
import subprocess
import threading
from collections.abc import Callable, Iterator

import msgspec

from thresher.drives.scratch_worker import ScratchOrder, ScratchReport
from thresher.machine.scratch_file import remove_left_over
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import start_own

_LOG = logging.getLogger(__name__)
_QUIET_S = 60.0
_READ = 1 << 18
_GRACE_S = 4.0


class ScratchProcess:
    """Starts the process when it is made. `reports` yields until the load has ended."""

    def __init__(self, order: ScratchOrder) -> None:
        """Begin."""
        self.path = order.path
        self._pending = b""
        self._process = start_own("thresher.drives.scratch_worker", order=msgspec.json.encode(order))

    def reports(self) -> Iterator[ScratchReport | None]:
        """Yield each report; None when nothing was heard for a minute. Raises SourceUnavailable."""
        stdout = self._process.stdout
        assert stdout is not None
        with selectors.DefaultSelector() as selector:
            selector.register(stdout, selectors.EVENT_READ)
            while True:
                while b"\n" in self._pending:
                    line, self._pending = self._pending.split(b"\n", 1)
                    report = msgspec.json.decode(line, type=ScratchReport)
                    if report.trouble:
                        raise SourceUnavailable(self.path, report.trouble)
                    yield report
                    if report.ended:
                        return
                if not selector.select(_QUIET_S):
                    yield None
                    continue
                try:
                    chunk = stdout.read1(_READ)  # type: ignore[attr-defined]  # a pipe is buffered
                except ValueError:
                    return  # closed meanwhile
                if not chunk:
                    raise SourceUnavailable(self.path, "the process of the load has ended")
                self._pending += chunk

    def stop(self) -> None:
        """Ask it to stop; it removes its file."""
        try:
            if self._process.stdin is not None:
                self._process.stdin.close()
        except OSError:
            return  # it has ended already

    def close(self, removed: Callable[[], None] = lambda: None) -> None:
        """End the process and see that the file is gone, beside the caller; `removed` is called when it is."""
        self.stop()

        def see_to_it() -> None:
            try:
                self._process.wait(_GRACE_S)
            except subprocess.TimeoutExpired:
                self._process.kill()
            if self._process.stdout is not None:
                self._process.stdout.close()
            try:
                remove_left_over(self.path)
            except OSError as error:
                _LOG.error("the scratch file %s is left: %s", self.path, error)
                return
            if not os.path.lexists(self.path):
                removed()

        threading.Thread(target=see_to_it, name=f"removes {self.path}", daemon=False).start()
