"""A directory that looks like the root of a machine: captures from elsewhere, and tests."""

import os
import threading
import time
from pathlib import Path

from thresher.machine.files import list_names, read_once, read_start
from thresher.machine.free_running import FreeRunning
from thresher.model.controller_port import ControllerPort
from thresher.model.drive_commands import DrivePort
from thresher.model.driven_port import Driven
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.keeping_port import Awake, Watchdog
from thresher.model.network_port import NetworkPort
from thresher.model.port import LogLine, Pacing, Source, SystemKind
from thresher.model.regular_file import is_file, is_folder, is_link

_LOG = "/dev/kmsg"
_TRACE = "/sys/kernel/tracing/trace_pipe"
_LONGEST_NAME = 255


class TreeKernelLog:
    """The records of a file such as `dev/kmsg` in the tree, one a line, handed out once and then as it grows."""

    lost = 0

    def __init__(self, path: str, real_path: Path) -> None:
        """Remember the file, its links followed inside the tree. Raises SourceUnavailable when there is none."""
        self._file = real_path
        self._offset = 0
        if not is_file(self._file):
            raise SourceUnavailable(path, "not there")

    def read_records(self) -> list[bytes]:
        """Return the complete lines added since the last call."""
        with self._file.open("rb") as stream:
            stream.seek(self._offset)
            content = stream.read()
        complete = content[: content.rfind(b"\n") + 1]
        self._offset += len(complete)
        records: list[bytes] = []
        for line in complete.split(b"\n")[:-1]:
            if line.startswith(b" ") and records:  # a continuation line: the record's dictionary
                records[-1] += line + b"\n"
            else:
                records.append(line + b"\n")
        return records

    def close(self) -> None:
        """Nothing is held open."""


class TreeSource:
    """One file of the tree, opened again at each reading, so that a file replaced or taken away is seen."""

    def __init__(self, path: str, real_path: Path) -> None:
        """Check that the file is there. Raises SourceUnavailable."""
        self.path = path
        self._real_path = real_path
        self.read()

    def read(self) -> bytes:
        """Return the whole present content."""
        return read_once(self.path, self._real_path)

    def close(self) -> None:
        """Nothing is held open."""


class TreeSystem:
    """A machine read from a directory tree. It has no loads of its own and its clock is ours."""

    kind = SystemKind.TREE
    speed = 1.0
    pacing: Pacing = FreeRunning()

    def __init__(self, root: Path) -> None:
        """Take the tree's directory. Raises EnvironmentFault when it is none."""
        if not is_folder(root):
            raise EnvironmentFault(
                f"opening the directory tree {root}",
                "it is not a directory",
                "Give the folder that holds sys and proc.",
            )
        self._root = root.resolve()
        self.name = self._root.name

    def _real(self, path: str) -> Path:
        """Map a machine path into the tree, never outside it, links included."""
        return self._root / self.resolve(path).lstrip("/")

    def open(self, path: str) -> TreeSource:
        """Open a file of the tree."""
        return TreeSource(path, self._real(path))

    def read(self, path: str) -> bytes:
        """Read a file once."""
        return read_once(path, self._real(path))

    def list(self, path: str) -> list[str]:
        """List a directory."""
        return list_names(self._real(path))

    def resolve(self, path: str) -> str:
        """Follow symbolic links as the machine would: absolute ones start at the tree's root."""
        parts = [part for part in path.split("/") if part]
        done: list[str] = []
        for _ in range(400):  # bounds circles of links
            if not parts:
                return "/" + "/".join(done)
            part = parts.pop(0)
            if part == ".":
                continue
            if part == "..":
                done = done[:-1]
                continue
            here = self._root.joinpath(*done, part)
            if len(part) > _LONGEST_NAME:
                raise SourceUnavailable(path, "the name is too long")
            if is_link(here):
                target = os.readlink(here)
                done = [] if target.startswith("/") else done
                parts = [piece for piece in target.split("/") if piece] + parts
            else:
                done.append(part)
        raise SourceUnavailable(path, "symbolic links in a circle")

    def open_drive(self, path: str) -> DrivePort:
        """A directory of files answers no commands. Raises SourceUnavailable."""
        raise SourceUnavailable(path, "a directory of files takes no commands to drives")

    def open_network(self) -> NetworkPort:
        """A directory of files has no network. Raises SourceUnavailable."""
        raise SourceUnavailable("network", "a directory of files sends nothing")

    def open_fan(self, folder: str, number: int) -> Driven:
        """A directory of files drives no fans. Raises SourceUnavailable."""
        raise SourceUnavailable(f"{folder}/pwm{number}", "a directory of files drives no fans")

    def open_backlight(self, name: str) -> Driven:
        """A directory of files has no light. Raises SourceUnavailable."""
        raise SourceUnavailable(f"/sys/class/backlight/{name}", "a directory of files has no light")

    def open_controller(self) -> ControllerPort:
        """A directory of files has no controller. Raises SourceUnavailable."""
        raise SourceUnavailable("management controller", "a directory of files answers nothing")

    def open_counters(self, cpu: int) -> Source:
        """Files hold no counters."""
        raise SourceUnavailable(f"counters of CPU {cpu}", "a directory of files has no running counters")

    def open_register(self, cpu: int, number: int) -> Source:
        """Files hold no registers."""
        raise SourceUnavailable(f"register {number:#x} of CPU {cpu}", "a directory of files has no registers")

    def open_kernel_log(self) -> TreeKernelLog:
        """Open `dev/kmsg` of the tree."""
        return TreeKernelLog(_LOG, self._real(_LOG))

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """A directory of files keeps no log of earlier boots."""
        del boot_id, most
        raise SourceUnavailable("stored log", "a directory of files keeps none of earlier boots")

    def open_trace(self) -> TreeKernelLog:
        """Open the tree's trace of hardware errors, a file of lines."""
        return TreeKernelLog(_TRACE, self._real(_TRACE))

    def open_watchdog(self, timeout_s: float) -> Watchdog:
        """A directory of files has none."""
        del timeout_s
        raise SourceUnavailable("watchdog", "a directory of files has none")

    def hold_awake(self, why: str) -> Awake:
        """A directory of files does not sleep."""
        del why
        raise SourceUnavailable("sleep", "a directory of files does not sleep")

    def read_start(self, path: str, most: int) -> bytes:
        """Read the start of a file."""
        return read_start(path, self._real(path), most)

    def now(self) -> float:
        """Our monotonic clock."""
        return time.monotonic()

    def wall(self) -> float:
        """Unix time."""
        return time.time()

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Sleep until `at` on the monotonic clock, or until woken."""
        while (left := at - time.monotonic()) > 0 and not wake.wait(left):
            pass

    def close(self) -> None:
        """Nothing is held."""
