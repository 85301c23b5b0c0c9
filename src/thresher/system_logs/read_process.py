"""Starts the process that reads a file of another system, and takes what it has found."""

import signal
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

import msgspec

from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command
from thresher.model.regular_file import open_regular
from thresher.model.vendors import Vendor
from thresher.system_logs.event_log import EventLogRead, TimelineEntry
from thresher.system_logs.journal_boots import boots_of, command_for

_AT_MOST_S = 900.0
_OUT_OF_TIME = (-signal.SIGXCPU, -signal.SIGKILL)
_MOST_BYTES = 256 << 20
_JOURNAL = ["journalctl", "--output=json", "--no-pager", "--quiet"]


def read_apart(path: Path, kind: str, vendor: Vendor) -> EventLogRead:
    """Read a file in a process of its own. Raises EnvironmentFault where it cannot be opened or was not read."""
    try:
        with open_regular(path) as stream:
            return _read_stream(stream, path, kind, vendor)
    except OSError as error:
        reason = error.strerror or str(error)
        raise EnvironmentFault(f"reading {path}", reason, "The drive may be failing.") from error


def read_journal_apart(folder: Path, vendor: Vendor) -> EventLogRead:
    """Read the kernel's lines in a folder of journals. Raises EnvironmentFault."""
    with _journal([*_JOURNAL, f"--directory={folder}", "_TRANSPORT=kernel"], folder) as lines:
        return _read_stream(lines, folder, "text-log", vendor)


def read_journal_boots(folder: Path) -> tuple[TimelineEntry, ...]:
    """Read starts and ends in a folder of journals. Raises EnvironmentFault."""
    with _journal(command_for(str(folder)), folder) as lines:
        return boots_of(line.decode("utf-8", "replace") for line in lines)


@contextmanager
def _journal(command: list[str], folder: Path) -> Iterator[IO[bytes]]:
    """Yield what journalctl prints; it ends with the reading, however that goes."""
    try:
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    except OSError as error:
        reason = error.strerror or str(error)
        raise EnvironmentFault(f"reading {folder}", reason, "journalctl is needed to read journals.") from error
    assert process.stdout is not None
    longest = threading.Timer(_AT_MOST_S, process.kill)  # the drive may not answer
    longest.start()
    with process.stdout:
        try:
            yield process.stdout
        finally:
            longest.cancel()
            process.kill()
            process.wait()


def _read_stream(stream: IO[bytes], path: Path, kind: str, vendor: Vendor) -> EventLogRead:
    tried = f"reading {path}"
    command = own_command("thresher.system_logs.worker", kind, path.name, vendor.value)
    try:
        done = subprocess.run(command, stdin=stream, capture_output=True, timeout=_AT_MOST_S, check=False)
    except subprocess.TimeoutExpired as error:
        raise EnvironmentFault(tried, f"not read within {_AT_MOST_S:.0f} s", "It may be damaged.") from error
    said = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2]
    if done.returncode or len(done.stdout) > _MOST_BYTES:
        out_of_time = "its reader used up the time that a file of its size may take"
        happened = (
            out_of_time if done.returncode in _OUT_OF_TIME else said or f"its reader ended with {done.returncode}"
        )
        raise EnvironmentFault(tried, happened, "It may be damaged; the others are read.")
    try:
        return msgspec.json.decode(done.stdout, type=EventLogRead)
    except msgspec.DecodeError as error:
        raise EnvironmentFault(tried, f"its reader did not answer in order: {error}", "It may be damaged.") from error
