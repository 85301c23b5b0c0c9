"""This computer."""

import contextlib
import errno
import fcntl
import os
import platform
import subprocess
import threading
import time
from pathlib import Path

from thresher.machine.access import AccessClient
from thresher.machine.awake import LiveAwake
from thresher.machine.controller import LiveController
from thresher.machine.counters import COUNTERS, HelperRegisters, Registers, open_counters
from thresher.machine.drive_ioctl import KernelPort
from thresher.machine.drive_process import DriveProcess
from thresher.machine.driven_process import DrivenProcess, backlight_process, fan_process
from thresher.machine.files import FileSource, is_refused, list_names, read_start, reason_of
from thresher.machine.free_running import FreeRunning
from thresher.machine.helper_drive import HelperSender
from thresher.machine.kmsg_reader import LOST, RECORD_BYTES
from thresher.machine.network import LiveNetwork
from thresher.machine.stored_log import stored_log
from thresher.machine.trace import LiveTrace, TraceLines
from thresher.machine.watchdog import HelperWatchdog, LiveWatchdog, watchdog_name
from thresher.model.access import Access, Allowed
from thresher.model.drive_commands import DrivePort, NoAnswer
from thresher.model.errors import SourceUnavailable
from thresher.model.keeping_port import Watchdog
from thresher.model.own_program import own_command
from thresher.model.port import LogLine, Pacing, Source, SystemKind
from thresher.model.regular_file import is_there
from thresher.privileged.allowlist import DRIVE, FOLDERS, WHOLE_DRIVE, Right, is_listed

_KMSG = "/dev/kmsg"
_PIPE_BYTES = 1 << 20


class LiveKernelLog:
    """`/dev/kmsg` (kernel document ABI/testing/dev-kmsg): first what is there, then what a process of its own reads.

    The kernel keeps its log in a ring of some hundred kilobytes, which a flood overwrites in a fraction of a second:
    who looks only once a second would lose most of it.
    """

    def __init__(self, path: str = _KMSG, opened: int | None = None) -> None:
        """Open the log at its oldest record; `opened` is a descriptor of it that is open. Raises SourceUnavailable."""
        self.lost = 0
        self._path = path
        self._reader: subprocess.Popen[bytes] | None = None
        self._pending = b""
        self._handed_over = opened is not None
        if opened is not None:
            self._fd = opened
            return
        try:
            self._fd = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise SourceUnavailable(path, reason_of(error)) from error

    def read_records(self) -> list[bytes]:
        """Return every record that came since the last call; from the first call on a process reads ahead.

        Records that were there before may come a second time with it: their sequence numbers show it. Raises
        SourceUnavailable once the log is broken.
        """
        if self._reader is not None:
            return self._passed_on(self._reader)
        records: list[bytes] = []
        while True:
            try:
                record = os.read(self._fd, RECORD_BYTES)
            except BlockingIOError:
                break
            except OSError as error:
                if error.errno == errno.EPIPE:  # overwritten while we were away; the next read continues after the hole
                    self.lost += 1
                    continue
                raise SourceUnavailable(self._path, reason_of(error)) from error
            if not record:
                break
            records.append(record)
        self._reader = self._start_reader()
        return records

    def _start_reader(self) -> "subprocess.Popen[bytes]":
        where = f"/dev/fd/{self._fd}" if self._handed_over else self._path
        reader = subprocess.Popen(
            own_command("thresher.machine.kmsg_reader", where),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            pass_fds=(self._fd,) if self._handed_over else (),
        )
        assert reader.stdout is not None
        os.set_blocking(reader.stdout.fileno(), False)
        with contextlib.suppress(OSError):  # a larger pipe only spares the reader some waiting
            fcntl.fcntl(reader.stdout.fileno(), fcntl.F_SETPIPE_SZ, _PIPE_BYTES)
        return reader

    def _passed_on(self, reader: "subprocess.Popen[bytes]") -> list[bytes]:
        assert reader.stdout is not None
        pieces, ended = [self._pending], False
        while True:
            try:
                more = os.read(reader.stdout.fileno(), _PIPE_BYTES)
            except BlockingIOError:
                break
            if not more:
                ended = True
                break
            pieces.append(more)
        content = b"".join(pieces)
        records, at = [], 0
        while at + 4 <= len(content):
            length = int.from_bytes(content[at : at + 4], "little")
            if length == LOST:
                self.lost += 1
                at += 4
                continue
            if at + 4 + length > len(content):
                break
            records.append(content[at + 4 : at + 4 + length])
            at += 4 + length
        self._pending = content[at:]
        if ended and not records:
            raise SourceUnavailable(self._path, "its reader has ended")
        return records

    def close(self) -> None:
        """Close the log and end its reader."""
        if self._reader is not None:
            self._reader.kill()
            if self._reader.stdout is not None:
                self._reader.stdout.close()
            self._reader.wait()
            self._reader = None
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class LiveSystem:
    """The computer that Thresher runs on; what may not be opened here is asked of the access helper."""

    kind = SystemKind.LIVE
    speed = 1.0

    def __init__(self, helper: AccessClient | None = None) -> None:
        """Name the machine after its host name; `helper` is the way to the access helper."""
        self.name = platform.node() or "this computer"
        self.helper = helper or AccessClient()
        self.pacing: Pacing = FreeRunning(lambda: self._workers_end)
        self._workers_end: int | None = None

    def access(self) -> Access:
        """Return what this program may do here, and get ready what may not block later."""
        return self._ready(self.helper.access())

    def ask_access(self) -> Access:
        """Have a person asked for more."""
        return self._ready(self.helper.ask())

    def _ready(self, access: Access) -> Access:
        """Open the socket by which workers get their page frames, where they need it and may have it."""
        allowed = any(each.right == Right.MEMORY and each.allowed is Allowed.YES for each in access.items)
        if allowed and self._workers_end is None and not self.helper.root:
            with contextlib.suppress(SourceUnavailable):  # what is taken says that the addresses are not known
                self._workers_end = self.helper.open_workers()
        return access

    def open(self, path: str) -> FileSource:
        """Open a file."""
        try:
            return FileSource(path, Path(path))
        except SourceUnavailable as error:
            return FileSource(path, Path(path), self._handed_over(path, error))

    def _handed_over(self, path: str, refused: SourceUnavailable) -> int:
        """Return a file that may not be opened here, opened by the helper. Raises SourceUnavailable."""
        if not (is_refused(refused) and is_listed(path)):
            raise refused
        try:
            return self.helper.open_file(path)
        except SourceUnavailable as error:
            raise SourceUnavailable(path, f"{refused.reason}; {error.reason}") from refused

    def read(self, path: str) -> bytes:
        """Read a file once."""
        source = self.open(path)
        try:
            return source.read()
        finally:
            source.close()

    def list(self, path: str) -> list[str]:
        """List a directory."""
        names = list_names(Path(path))
        if not names and FOLDERS.fullmatch(path) and not os.access(path, os.R_OK | os.X_OK):
            return self.helper.list_folder(path)
        return names

    def resolve(self, path: str) -> str:
        """Follow symbolic links."""
        return os.path.realpath(path)

    def open_network(self) -> LiveNetwork:
        """Open the network of this computer."""
        return LiveNetwork()

    def open_fan(self, folder: str, number: int) -> DrivenProcess:
        """Take control of a fan through a process of its own; it may take a moment."""
        return fan_process(folder, number)

    def open_controller(self) -> LiveController:
        """Open the management controller."""
        return LiveController()

    def open_backlight(self, name: str) -> DrivenProcess:
        """Take control of a backlight through a process of its own; it may take a moment."""
        return backlight_process(name)

    def open_drive(self, path: str) -> DrivePort:
        """Open a drive through a process of its own, or through the helper."""
        if self.helper.root or not DRIVE.fullmatch(path):
            return DriveProcess(path)
        try:  # before looking at the device's own rights: who may open it may not send it commands by that
            return KernelPort(path, HelperSender(path, self.helper.open_drive(path)))
        except NoAnswer:
            raise
        except SourceUnavailable as refused:
            try:
                return DriveProcess(path)
            except SourceUnavailable as error:
                raise SourceUnavailable(path, f"{error.reason}; {refused.reason}") from error

    def opened_blocks(self, path: str) -> int | None:
        """Return a whole drive opened for reading by the helper; None where this program may open it itself."""
        if self._needs_helper(path) and WHOLE_DRIVE.fullmatch(path):
            return self.helper.open_blocks(path)
        return None

    def _needs_helper(self, path: str) -> bool:
        return is_there(Path(path)) and not os.access(path, os.R_OK)

    def open_counters(self, cpu: int) -> Source:
        """Open a CPU's own clock counters."""
        try:
            return open_counters(cpu)
        except SourceUnavailable as error:
            return self._by_helper(cpu, COUNTERS, error)

    def open_register(self, cpu: int, number: int) -> Source:
        """Open a model-specific register."""
        try:
            return Registers(cpu, (number,))
        except SourceUnavailable as error:
            return self._by_helper(cpu, (number,), error)

    def _by_helper(self, cpu: int, numbers: tuple[int, ...], refused: SourceUnavailable) -> "HelperRegisters":
        if not self._needs_helper(f"/dev/cpu/{cpu}/msr"):
            raise refused
        try:
            return HelperRegisters(self.helper, cpu, numbers)
        except SourceUnavailable as error:
            raise SourceUnavailable(refused.path, f"{refused.reason}; {error.reason}") from refused

    def open_kernel_log(self) -> LiveKernelLog:
        """Open `/dev/kmsg`."""
        try:
            return LiveKernelLog()
        except SourceUnavailable as error:
            return LiveKernelLog(opened=self._handed_over(_KMSG, error))

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """Read what the log service stored of a boot."""
        return stored_log(boot_id, most)

    def open_trace(self) -> TraceLines:
        """Open a trace instance of our own."""
        try:
            return LiveTrace()
        except SourceUnavailable as error:
            if self.helper.root:
                raise
            try:
                return TraceLines(self.helper.open_trace(), error.path)
            except SourceUnavailable as second:
                raise SourceUnavailable(error.path, f"{error.reason}; {second.reason}") from error

    def open_watchdog(self, timeout_s: float) -> Watchdog:
        """Arm the watchdog."""
        name = watchdog_name()
        if os.access(f"/dev/{name}", os.W_OK) or not is_there(Path(f"/dev/{name}")):
            return LiveWatchdog(timeout_s)
        return HelperWatchdog(name, self.helper.open_watchdog(f"/dev/{name}", round(timeout_s)))

    def hold_awake(self, why: str) -> LiveAwake:
        """Hold off sleep, idle, lid and screen blanking."""
        return LiveAwake(why)

    def read_start(self, path: str, most: int) -> bytes:
        """Read the start of a file."""
        opened = self.opened_blocks(path)
        if opened is None:
            return read_start(path, Path(path), most)
        try:
            return os.pread(opened, most, 0)
        except OSError as error:
            raise SourceUnavailable(path, reason_of(error)) from error
        finally:
            os.close(opened)

    def now(self) -> float:
        """Seconds since boot with time asleep left out, as the kernel log counts them."""
        return time.monotonic()

    def wall(self) -> float:
        """Unix time."""
        return time.time()

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Sleep until `at` on the monotonic clock, or until woken."""
        while (left := at - time.monotonic()) > 0 and not wake.wait(left):
            pass

    def close(self) -> None:
        """Close what leads to the helper; what a person has allowed holds as long as this process."""
        if self._workers_end is not None:
            os.close(self._workers_end)
            self._workers_end = None
        self.helper.close()
