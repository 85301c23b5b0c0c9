"""Captures: everything that was read of a machine in one tar, which opens as a directory tree elsewhere.

`RecordingSystem` stands before any machine and keeps what passes. Serial numbers, addresses and host names are
masked unless asked otherwise, each by a word of the same length, so that tables stay whole.
"""

import io
import re
import tarfile
import tempfile
import threading
from pathlib import Path

from thresher.machine.free_running import FreeRunning
from thresher.machine.tree import TreeSystem
from thresher.machine.unpack import unpack
from thresher.model.controller_port import ControllerPort
from thresher.model.drive_commands import DrivePort
from thresher.model.driven_port import Driven
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.keeping_port import Awake, Watchdog
from thresher.model.network_port import NetworkPort
from thresher.model.port import KernelLog, LogLine, Pacing, Source, System

_SECRET_FILES = re.compile(
    r"/(serial|serial_number|address|hostname|boot_id|machine-id|wwid|eui|nguid|uuid|product_uuid)$"
)


class _RecordingSource:
    """A source whose last content is kept."""

    def __init__(self, source: Source, contents: dict[str, bytes], real_path: str) -> None:
        self.path = source.path
        self._source = source
        self._contents = contents
        self._real_path = real_path

    def read(self) -> bytes:
        """Read and keep."""
        content = self._source.read()
        self._contents[self._real_path] = content
        return content

    def close(self) -> None:
        """Close the source behind."""
        self._source.close()


class RecordingSystem:
    """A machine that keeps every file, directory and link that was read of it."""

    pacing: Pacing = FreeRunning()

    def __init__(self, system: System) -> None:
        """Stand before a machine."""
        self._system = system
        self.kind, self.name, self.speed = system.kind, system.name, system.speed
        self.contents: dict[str, bytes] = {}
        self.links: dict[str, str] = {}
        self.folders: set[str] = set()

    def _real(self, path: str) -> str:
        """Return where a path really leads, keeping the links on the way."""
        here = ""
        for piece in path.strip("/").split("/"):
            step = f"{here}/{piece}"
            target = self._system.resolve(step)
            if target != step:
                self.links[step] = target
            here = target
        return here

    def open(self, path: str) -> _RecordingSource:
        """Open a file."""
        return _RecordingSource(self._system.open(path), self.contents, self._real(path))

    def read(self, path: str) -> bytes:
        """Read a file once."""
        return self.open(path).read()

    def list(self, path: str) -> list[str]:
        """List a directory."""
        names = self._system.list(path)
        if names:
            real = self._real(path)
            self.folders.add(real)
            # names alone show readers what there is: what nobody reads is kept as an empty stand-in
            for name in names:
                child = self._real(f"{real}/{name}")
                if self._system.list(child):
                    self.folders.add(child)
                else:
                    self.contents.setdefault(child, b"")
        return names

    def resolve(self, path: str) -> str:
        """Follow links, keeping them."""
        return self._real(path)

    def open_counters(self, cpu: int) -> Source:
        """Open a CPU's counters; they mean nothing in a capture and are not kept."""
        return self._system.open_counters(cpu)

    def open_network(self) -> NetworkPort:
        """Open the network of the machine behind; what it answers is not recorded."""
        return self._system.open_network()

    def open_fan(self, folder: str, number: int) -> Driven:
        """Take control of a fan of the machine behind."""
        return self._system.open_fan(folder, number)

    def open_backlight(self, name: str) -> Driven:
        """Take control of a backlight of the machine behind."""
        return self._system.open_backlight(name)

    def open_controller(self) -> ControllerPort:
        """Open the controller of the machine behind; what it answers is not kept."""
        return self._system.open_controller()

    def open_drive(self, path: str) -> DrivePort:
        """Open a drive; what it answers is not kept."""
        return self._system.open_drive(path)

    def open_register(self, cpu: int, number: int) -> Source:
        """Open a register; it means nothing in a capture and is not kept."""
        return self._system.open_register(cpu, number)

    def open_kernel_log(self) -> KernelLog:
        """Open the kernel log; its records are kept by `keep_log`."""
        return self._system.open_kernel_log()

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """Read what is stored of a boot; it is not kept in a capture."""
        return self._system.read_boot_log(boot_id, most)

    def open_trace(self) -> KernelLog:
        """Open the traced errors; they belong to this moment and are not kept."""
        return self._system.open_trace()

    def open_watchdog(self, timeout_s: float) -> Watchdog:
        """Arm the watchdog of the machine behind."""
        return self._system.open_watchdog(timeout_s)

    def hold_awake(self, why: str) -> Awake:
        """Hold off sleep on the machine behind."""
        return self._system.hold_awake(why)

    def read_start(self, path: str, most: int) -> bytes:
        """Read the start of a file; dumps of other systems hold their owner's memory and are not kept."""
        return self._system.read_start(path, most)

    def keep_log(self) -> str | None:
        """Keep the kernel log as it is now; return the reason when it cannot be read."""
        try:
            log = self._system.open_kernel_log()
        except SourceUnavailable as error:
            return error.reason
        try:
            self.contents["/dev/kmsg"] = b"".join(log.read_records())
        finally:
            log.close()
        return None

    def now(self) -> float:
        """The machine's clock."""
        return self._system.now()

    def wall(self) -> float:
        """The machine's time of day."""
        return self._system.wall()

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Wait on the machine's clock."""
        self._system.wait_until(at, wake)

    def close(self) -> None:
        """Close the machine."""
        self._system.close()


def masked(contents: dict[str, bytes], secrets: set[bytes]) -> dict[str, bytes]:
    """Return the contents with secret files and words replaced by as many x."""
    words = set(secrets)
    for path, content in contents.items():
        if _SECRET_FILES.search(path) and len(content.strip()) >= 3:
            words.add(content.strip())
    result = {}
    for path, content in contents.items():
        for word in sorted(words, key=len, reverse=True):
            content = content.replace(word, b"x" * len(word))  # noqa: PLW2901
        result[path] = content
    return result


def write_capture(recorded: RecordingSystem, out: Path, secrets: set[bytes] | None) -> int:
    """Write a capture; `secrets` are words to mask besides the files known to hold some, None masks nothing.

    Returns the number of files. Raises EnvironmentFault when it cannot be written.
    """
    contents = recorded.contents if secrets is None else masked(recorded.contents, secrets)
    try:
        with tarfile.open(out, "w:gz") as tar:
            for folder in sorted(recorded.folders - set(contents)):
                entry = tarfile.TarInfo(folder.lstrip("/"))
                entry.type, entry.mode = tarfile.DIRTYPE, 0o755
                tar.addfile(entry)
            for link, target in sorted(recorded.links.items()):
                entry = tarfile.TarInfo(link.lstrip("/"))
                entry.type, entry.linkname = tarfile.SYMTYPE, target
                tar.addfile(entry)
            for path, content in sorted(contents.items()):
                entry = tarfile.TarInfo(path.lstrip("/"))
                entry.size, entry.mode = len(content), 0o644
                tar.addfile(entry, io.BytesIO(content))
    except OSError as error:
        raise EnvironmentFault(
            f"writing the capture {out}", error.strerror or str(error), "Choose a folder that can be written."
        ) from error
    return len(contents)


class CapturedSystem(TreeSystem):
    """A capture opened as a directory tree, in a folder of its own that goes when it is closed."""

    def __init__(self, path: Path) -> None:
        """Unpack a capture. Raises InputError when it is none."""
        self._folder = tempfile.TemporaryDirectory(prefix="thresher-capture-")
        root = Path(self._folder.name)
        try:
            unpack(path, root)
            super().__init__(root)
        except BaseException:
            self._folder.cleanup()
            raise
        self.name = path.name.removesuffix(".gz").removesuffix(".tar")

    def close(self) -> None:
        """Remove the unpacked files."""
        self._folder.cleanup()
