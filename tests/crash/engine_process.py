"""A real engine process on a simulated machine, for tests that kill it."""

import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import GetSnapshot
from thresher.protocol.status import RunStatus


class EngineProcess:
    """Starts an engine, talks to it, and leaves nothing behind."""

    def __init__(self, folder: Path, *arguments: str, job: Path | None = None) -> None:
        """Start it and wait until it answers."""
        self.socket = folder / "engine.sock"
        self.job = job or folder / "job.thresher"
        self.log = folder / "engine.log"
        with self.log.open("ab") as stream:
            self.process = subprocess.Popen(
                [
                    sys.executable,
                    "-X",
                    "faulthandler",
                    "-m",
                    "thresher.cli",
                    "engine",
                    "--socket",
                    str(self.socket),
                    "--job",
                    str(self.job),
                    "--shop",
                    str(folder / "shop"),
                    *arguments,
                ],
                stdout=stream,
                stderr=stream,
                stdin=subprocess.DEVNULL,
            )
        self.client = self._connect()

    def _connect(self) -> EngineClient:
        deadline = time.monotonic() + 30
        while True:
            try:
                return EngineClient(self.socket, timeout_s=30)
            except EnvironmentFault:
                assert self.process.poll() is None, self.log.read_text()
                assert time.monotonic() < deadline, self.log.read_text()
                time.sleep(0.02)

    def status(self) -> RunStatus:
        """Ask where the run is."""
        return self.client.call(GetSnapshot()).run

    def wait(self, condition: Callable[[RunStatus], bool], seconds: float = 60) -> RunStatus:
        """Wait until the run is somewhere."""
        deadline = time.monotonic() + seconds
        while not condition(status := self.status()):
            assert time.monotonic() < deadline, status
            time.sleep(0.02)
        return status

    def workers(self) -> list[int]:
        """Return the process ids of all workers: children of children."""
        return [grandchild for child in _children(self.process.pid) for grandchild in _children(child)]

    def kill(self) -> None:
        """End it as a power cut would."""
        self.process.send_signal(signal.SIGKILL)
        self.process.wait(10)
        self.client.close()

    def close(self) -> None:
        """End it in order."""
        if self.process.poll() is None:
            self.process.terminate()
        try:
            self.process.wait(60)
        except subprocess.TimeoutExpired:
            self.process.send_signal(signal.SIGABRT)  # its threads go to the log
            self.process.wait(10)
            raise AssertionError(f"the engine has not ended:\n{self.log.read_text()}") from None
        finally:
            self.client.close()


def _children(pid: int) -> list[int]:
    """Children of every thread of a process."""
    lists = [path.read_text() for path in Path(f"/proc/{pid}/task").glob("*/children")]
    return [int(word) for words in lists for word in words.split()]


def alive(pid: int) -> bool:
    """Whether a process is there and not just unburied."""
    try:
        state = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except FileNotFoundError:
        return False
    return state not in "ZX"
