"""A scan carried out by a process of its own, followed report by report."""

import os
import selectors
import subprocess
from collections.abc import Iterator

import msgspec

from thresher.drives.scan_worker import Order, Report
from thresher.model.errors import SourceUnavailable
from thresher.model.own_program import start_own

_QUIET_S = 60.0
_STOP_S = 5.0
_READ = 1 << 18


class ScanProcess:
    """Starts the process when it is made. `reports` yields until the scan has ended."""

    def __init__(self, path: str, order: Order, opened: int | None = None) -> None:
        """Begin to scan a device; `opened` is a descriptor of it, closed here, where its path cannot be opened."""
        self.path = path
        self._pending = b""
        self._stopping = False
        given = () if opened is None else (opened,)
        words = [path, *map(str, given)]
        try:
            self._process = start_own(
                "thresher.drives.scan_worker", *words, order=msgspec.json.encode(order), opened=given
            )
        finally:
            for descriptor in given:
                os.close(descriptor)

    def reports(self) -> Iterator[Report | None]:
        """Yield each report; None when nothing was heard for a minute. Raises SourceUnavailable."""
        stdout = self._process.stdout
        assert stdout is not None
        with selectors.DefaultSelector() as selector:
            selector.register(stdout, selectors.EVENT_READ)
            while True:
                while b"\n" in self._pending:
                    line, self._pending = self._pending.split(b"\n", 1)
                    report = msgspec.json.decode(line, type=Report)
                    if report.trouble:
                        raise SourceUnavailable(self.path, report.trouble.removeprefix(f"{self.path}: "))
                    yield report
                    if report.ended:
                        return
                if not selector.select(_STOP_S if self._stopping else _QUIET_S):
                    if self._stopping:
                        return
                    yield None
                    continue
                chunk = stdout.read1(_READ)  # type: ignore[attr-defined]  # a pipe is buffered
                if not chunk:
                    raise SourceUnavailable(self.path, "the scanning process has ended")
                self._pending += chunk

    def stop(self) -> None:
        """Ask it to stop; its last report says where it can be continued."""
        self._stopping = True
        try:
            if self._process.stdin is not None:
                self._process.stdin.close()
        except OSError:
            return  # it has ended already

    def close(self) -> None:
        """End the process; one that hangs in the kernel is left to end when the kernel lets it."""
        self.stop()
        if self._process.stdout is not None:
            self._process.stdout.close()
        self._process.kill()
        try:
            self._process.wait(0.5)
        except subprocess.TimeoutExpired:
            return
