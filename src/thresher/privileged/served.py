"""What a caller is given as a socket: a process of its own behind it that does one thing for whoever holds the socket.

A drive that hangs holds up its own process alone. Each of these processes gives up every right that its one thing does
not need before it reads the first request, and ends when nobody holds the other end any more.
"""

import array
import contextlib
import os
import resource
import signal
import socket
import stat
import struct
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

from thresher.privileged.allowlist import MOST_CPUS, REGISTERS
from thresher.privileged.capabilities import Capability, keep_only
from thresher.privileged.drive_lists import (
    SECTOR,
    AtaCommand,
    NvmeCommand,
    ScsiCommand,
    ata_block,
    scsi_block,
    short_ata_block,
)
from thresher.privileged.drive_sending import RawAnswer, send_nvme, send_scsi
from thresher.privileged.watchdog import hold

_LONGEST_REQUEST = 64
_CREDENTIALS = struct.Struct("3i")
_NO_SUCH = -1
"""The error number of a request that is not on a list."""
REGISTER_REQUEST = struct.Struct("<II")
"""Logical CPU and register."""
REGISTER_ANSWER = struct.Struct("<iQ")
"""An error number, 0 for none, and the register."""
OPENED = b"open"
"""The first packet of a device that could be opened; otherwise it says why not."""

Serve = Callable[[socket.socket], None]


def in_own_process(serve: Serve, others: tuple[int, ...]) -> tuple[int, socket.socket]:
    """Start a process that serves one end of a pair of sockets; return its number and the end for the caller.

    `others` are descriptors that it must not keep.
    """
    mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    mine.setsockopt(socket.SOL_SOCKET, socket.SO_PASSCRED, 1)  # before anybody can send: the kernel adds who it is
    pid = os.fork()
    if not pid:
        _serve_and_end(serve, mine, (theirs.fileno(), *others))
    mine.close()
    return pid, theirs


def _serve_and_end(serve: Serve, end: socket.socket, others: tuple[int, ...]) -> NoReturn:
    """Be the process that serves; it never goes on as the helper, whatever happens."""
    code = 1
    try:
        for each in others:
            os.close(each)
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        serve(end)
        code = 0
    except OSError:
        code = 2  # the caller has gone in the middle of an answer
    except BaseException:  # noqa: BLE001 (a bug is said in the journal)
        traceback.print_exc()
    finally:
        os._exit(code)


# ---- drives


def drive_server(place: Path, nvme: bool) -> Serve:
    """Open one drive and send it the commands of the lists: a request names one, such as `nvme HEALTH`.

    It is opened here, since a sick drive may hold up whoever opens it.
    """

    def serve(end: socket.socket) -> None:
        try:
            device = open_drive(place, nvme)
        except OSError as error:
            end.send(words_of(error).encode())
            return
        keep_only(Capability.SYS_ADMIN if nvme else Capability.SYS_RAWIO)
        end.send(OPENED)
        while request := end.recv(_LONGEST_REQUEST):
            end.send(answer_drive(device, request).packed())

    return serve


def block_server(place: Path, numbers: Path) -> Serve:
    """Open a whole drive for reading and send its descriptor; `numbers` is the kernel's file of its device numbers."""

    def serve(end: socket.socket) -> None:
        try:
            device = open_whole_drive(place, numbers)
        except OSError as error:
            end.send(words_of(error).encode())
            return
        socket.send_fds(end, [OPENED], [device])

    return serve


def words_of(error: OSError) -> str:
    """Return a system error in words; those of this program have no number and bring their own."""
    return os.strerror(error.errno) if error.errno and error.errno > 0 else str(error.strerror or error)


def open_whole_drive(place: Path, numbers: Path) -> int:
    """Open a block device for reading that the kernel lists as a whole drive. Raises OSError."""
    listed = numbers.read_text("ascii").strip()
    device = os.open(place, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC)
    found = os.fstat(device)
    if not stat.S_ISBLK(found.st_mode) or listed != f"{os.major(found.st_rdev)}:{os.minor(found.st_rdev)}":
        os.close(device)
        raise OSError(_NO_SUCH, "it is no whole drive")
    return device


def answer_drive(device: int, request: bytes) -> RawAnswer:
    """Carry out one request; one that is on no list comes back with an error number and reaches no drive."""
    family, _, name = request.decode("ascii", "replace").partition(" ")
    if family == "ata" and name in AtaCommand.__members__:
        ata = AtaCommand[name]
        return send_scsi(device, ata_block(ata), ata.value.sectors * SECTOR)
    if family == "ata-short" and name in AtaCommand.__members__:
        ata = AtaCommand[name]
        block = short_ata_block(ata)
        return send_scsi(device, block, ata.value.sectors * SECTOR) if block else RawAnswer(errno=_NO_SUCH)
    if family == "scsi" and name in ScsiCommand.__members__:
        return send_scsi(device, scsi_block(ScsiCommand[name]), ScsiCommand[name].length)
    if family == "nvme" and name in NvmeCommand.__members__:
        return send_nvme(device, NvmeCommand[name].value)
    return RawAnswer(errno=_NO_SUCH)


def open_drive(place: Path, character: bool) -> int:
    """Open a device for commands, for reading only: a block device, or a character device such as an NVMe controller.

    Raises OSError, also when it is no such device.
    """
    device = os.open(place, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC)
    mode = os.fstat(device).st_mode
    if not (stat.S_ISCHR(mode) if character else stat.S_ISBLK(mode)):
        os.close(device)
        raise OSError(_NO_SUCH, "it is no drive")
    return device


# ---- registers


def open_registers(root: Path = Path("/dev/cpu")) -> dict[int, int]:
    """Open the registers of every logical CPU for reading. Raises OSError when none is there."""
    found: dict[int, int] = {}
    names = sorted(int(name) for name in os.listdir(root) if name.isdigit())
    for cpu in names[:MOST_CPUS]:
        found[cpu] = os.open(root / str(cpu) / "msr", os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    return found


def register_server(devices: dict[int, int]) -> Serve:
    """Read one register of one CPU for each request (both 32 bits); the answer is an error number and 64 bits."""

    def serve(end: socket.socket) -> None:
        keep_only()
        while request := end.recv(_LONGEST_REQUEST):
            end.send(answer_register(devices, request))

    return serve


def answer_register(devices: dict[int, int], request: bytes) -> bytes:
    """Carry out one request; nothing is read for one that is not on the list."""
    if len(request) != REGISTER_REQUEST.size:
        return REGISTER_ANSWER.pack(_NO_SUCH, 0)
    cpu, number = REGISTER_REQUEST.unpack(request)
    if cpu not in devices or number not in REGISTERS:
        return REGISTER_ANSWER.pack(_NO_SUCH, 0)
    try:
        value = os.pread(devices[cpu], 8, number)
    except OSError as error:
        return REGISTER_ANSWER.pack(error.errno or _NO_SUCH, 0)
    return REGISTER_ANSWER.pack(0 if len(value) == 8 else _NO_SUCH, int.from_bytes(value, "little"))


# ---- memory of workers


def worker_server(user: int) -> Serve:
    """Give each worker that asks its own page frames, and let it lock memory; workers of one user only.

    A worker sends one byte with one end of a socket of its own, on which its answer comes. Who it is the kernel says
    with the message (unix(7), SCM_CREDENTIALS), not the worker.
    """

    def serve(end: socket.socket) -> None:
        keep_only(Capability.SYS_ADMIN, Capability.SYS_PTRACE, Capability.DAC_OVERRIDE, Capability.SYS_RESOURCE)
        while (request := _next_worker(end)) is not None:
            process, sender, replies = request
            for reply in replies:
                try:
                    with socket.socket(fileno=reply) as answer:
                        _answer_worker(answer, process, sender, user)
                except OSError:
                    continue  # no socket, or nobody listens any more

    return serve


def _next_worker(end: socket.socket) -> tuple[int, int, list[int]] | None:
    """Return process, user and reply sockets of the next request; None when nobody can ask any more."""
    room = socket.CMSG_SPACE(_CREDENTIALS.size) + socket.CMSG_SPACE(4 * 4)
    data, ancillary, _, _ = end.recvmsg(1, room, socket.MSG_CMSG_CLOEXEC)
    process, user, replies = 0, -1, array.array("i")
    for level, kind, content in ancillary:
        if level == socket.SOL_SOCKET and kind == socket.SCM_CREDENTIALS:
            process, user, _ = _CREDENTIALS.unpack(content[: _CREDENTIALS.size])
        elif level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
            replies.frombytes(content[: len(content) - len(content) % replies.itemsize])
    return (process, user, list(replies)) if data else None


def _answer_worker(answer: socket.socket, process: int, sender: int, user: int) -> None:
    try:
        frames = open_frames(process, sender, user)
    except OSError as error:
        answer.send(f"no {os.strerror(error.errno or 0)}".encode(), socket.MSG_DONTWAIT)
        return
    try:
        socket.send_fds(answer, [b"yes"], [frames], socket.MSG_DONTWAIT)
    finally:
        os.close(frames)


def open_frames(process: int, sender: int, user: int) -> int:
    """Open the page frames of a process of a user, and let it lock memory. Raises OSError, also for other users'.

    Everything goes through one descriptor of the process's folder, so that another process that gets the same number
    in the meantime is never meant.
    """
    folder = os.open(f"/proc/{process}", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        if sender != user or os.fstat(folder).st_uid != user:
            raise PermissionError(1, "another user's process")
        frames = os.open("pagemap", os.O_RDONLY | os.O_CLOEXEC, dir_fd=folder)
        with contextlib.suppress(PermissionError):  # in a container it may not; the worker then says "not locked"
            resource.prlimit(process, resource.RLIMIT_MEMLOCK, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
        os.stat("status", dir_fd=folder)  # fails if the process has gone, and its number with it
    finally:
        os.close(folder)
    return frames


# ---- the watchdog


def watchdog_server(device: int, seconds: int) -> Serve:
    """Hold a watchdog that is open: fed for each byte that comes, off when nobody holds the other end any more."""

    def serve(end: socket.socket) -> None:
        keep_only()
        signal.signal(signal.SIGTERM, lambda _number, _frame: end.shutdown(socket.SHUT_RD))  # off in order

        def say(words: str) -> None:
            try:
                end.send(f"{words}\n".encode(), socket.MSG_NOSIGNAL)
            except OSError:
                return  # nobody listens any more

        hold(device, seconds, lambda: end.recv(_LONGEST_REQUEST), say)

    return serve
