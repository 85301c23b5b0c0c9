"""The program's side of the access helper: what may not be opened here is asked for over the system bus.

Every call may block for some seconds, `ask` for minutes. The helper remembers what a person has allowed by process, so
that all connections of this process have it.
"""

import contextlib
import os
import socket
import struct
import sys
import threading
from pathlib import Path
from typing import Any

from jeepney import DBusAddress, HeaderFields, Message, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from thresher.model.access import Access, Allowed, access_of
from thresher.model.drive_commands import NoAnswer
from thresher.model.errors import SourceUnavailable
from thresher.privileged.allowlist import BUS_NAME, INTERFACE, OBJECT, WATCHDOG_S, Right
from thresher.privileged.requests import METHODS
from thresher.privileged.served import OPENED, REGISTER_ANSWER, REGISTER_REQUEST

_ADDRESS = DBusAddress(OBJECT, BUS_NAME, INTERFACE)
_ANSWER_S = 10.0
_PERSON_S = 300.0
_LONGEST_WORDS = 256
_DEVICE_S = 20.0
"""How long a drive may take until it is open."""
NOT_INSTALLED = "the access helper is not installed (sudo scripts/install-helper)"
_NOT_THERE = ("org.freedesktop.DBus.Error.ServiceUnknown", "org.freedesktop.DBus.Error.NameHasNoOwner")


class AccessClient:
    """Asks the helper. What it has refused once is not asked for again before a person was asked."""

    def __init__(self, root: bool | None = None) -> None:
        """Connect to nothing before it is needed; `root` says whether this program may do everything by itself."""
        self.root = os.geteuid() == 0 if root is None else root
        self._lock = threading.Lock()
        self._bus: DBusConnection | None = None
        self._refused: dict[Right, str] = {}
        self._absent = ""
        self._reading = threading.Lock()
        self._registers: socket.socket | None = None

    # ---- what is allowed

    def access(self) -> Access:
        """Return what is allowed now, without asking a person."""
        if self.root:
            return access_of(dict.fromkeys(Right, Allowed.YES))
        return self._told("Allowed", _ANSWER_S)

    def ask(self) -> Access:
        """Have a person asked for everything; returns when that person has answered, or has not for five minutes."""
        if self.root:
            return self.access()
        return self._told("Ask", _PERSON_S)

    def _told(self, member: str, wait_s: float) -> Access:
        try:
            with _connection() as bus:  # one of its own: a person may take minutes, and the other is needed meanwhile
                reply = bus.send_and_get_reply(new_method_call(_ADDRESS, member), timeout=wait_s)
            body = _body(reply)
        except SourceUnavailable as error:
            return access_of({}, error.reason)
        except TimeoutError:
            asked = member == "Ask"
            return access_of({}, "nobody has answered the question" if asked else "the access helper does not answer")
        except (OSError, EOFError) as error:
            return access_of({}, f"the system bus does not answer ({error})")
        with self._lock:
            self._refused.clear()
            self._absent = ""
        return access_of({Right(name): Allowed(word) for name, word in body[0].items() if name in list(Right)})

    # ---- what is handed over

    def open_file(self, path: str) -> int:
        """Return a file of the list, opened for reading. Raises SourceUnavailable."""
        return self._descriptor(path, "OpenFile", path)

    def list_folder(self, path: str) -> list[str]:
        """Return the names in a folder of the list; empty when they cannot be had."""
        try:
            return [str(name) for name in self._call(path, "ListFolder", path)[0]]
        except SourceUnavailable:
            return []

    def open_trace(self) -> int:
        """Return the reading end of a trace instance. Raises SourceUnavailable."""
        return self._descriptor("traced hardware errors", "OpenTrace")

    def open_drive(self, path: str) -> socket.socket:
        """Return a socket that passes commands to a drive. Raises SourceUnavailable, NoAnswer for one that hangs."""
        end = socket.socket(fileno=self._descriptor(path, "OpenDrive", path))
        try:
            self._opened(end, path)
        except SourceUnavailable:
            end.close()
            raise
        return end

    def open_blocks(self, path: str) -> int:
        """Return a whole drive, opened for reading. Raises SourceUnavailable, NoAnswer for one that hangs."""
        with socket.socket(fileno=self._descriptor(path, "OpenBlocks", path)) as end:
            return self._opened(end, path)[0]

    def _opened(self, end: socket.socket, path: str) -> list[int]:
        """Wait for the first packet of a process that opens a drive; return the descriptors that came with it."""
        end.settimeout(_DEVICE_S)
        try:
            said, descriptors, _, _ = socket.recv_fds(end, _LONGEST_WORDS, 1)
        except TimeoutError as error:
            raise NoAnswer(path, f"it could not be opened in {_DEVICE_S:.0f} s") from error
        except OSError as error:
            raise SourceUnavailable(path, "the access helper has ended") from error
        if said != OPENED:
            raise SourceUnavailable(path, said.decode("utf-8", "replace") or "the access helper has ended")
        return list(descriptors)

    def open_workers(self) -> int:
        """Return the socket by which workers get their page frames. Raises SourceUnavailable."""
        return self._descriptor("page frames", "OpenWorkers")

    def open_watchdog(self, path: str, seconds: int) -> socket.socket:
        """Return the socket that feeds a watchdog. Raises SourceUnavailable."""
        within = min(max(seconds, WATCHDOG_S[0]), WATCHDOG_S[1])
        return socket.socket(fileno=self._descriptor(path, "OpenWatchdog", path, within))

    def install_restart(self, job: Path) -> str:
        """Install the unit that goes on with a job, and return its path. Raises SourceUnavailable."""
        return str(self._call("the unit that goes on", "InstallRestart", sys.executable, str(job))[0])

    def remove_restart(self) -> list[str]:
        """Take that unit away; return what was removed. Raises SourceUnavailable."""
        return [str(path) for path in self._call("the unit that goes on", "RemoveRestart")[0]]

    def read_register(self, cpu: int, number: int) -> int:
        """Read a register of the list. Raises SourceUnavailable."""
        path = f"register {number:#x} of CPU {cpu}"
        with self._reading:  # of its own: what is asked on the bus meanwhile must not hold up a tick
            if self._registers is None:
                self._registers = socket.socket(fileno=self._descriptor(path, "OpenRegisters"))
                self._registers.settimeout(_ANSWER_S)
            try:
                self._registers.send(REGISTER_REQUEST.pack(cpu, number))
                code, value = REGISTER_ANSWER.unpack(self._registers.recv(REGISTER_ANSWER.size))
            except (OSError, struct.error) as error:
                self._registers.close()
                self._registers = None
                raise SourceUnavailable(path, "the access helper does not answer") from error
        if code:
            raise SourceUnavailable(path, os.strerror(code) if code > 0 else "there is no such register here")
        return int(value)

    def close(self) -> None:
        """Close what leads to the helper."""
        with self._reading, self._lock:
            for each in (self._bus, self._registers):
                if each is not None:
                    each.close()
            self._bus = self._registers = None

    # ---- the bus

    def _descriptor(self, path: str, member: str, *arguments: object) -> int:
        return int(self._call(path, member, *arguments)[0].to_raw_fd())

    def _call(self, path: str, member: str, *arguments: object) -> tuple[Any, ...]:
        """Ask for one thing. Raises SourceUnavailable with what would change that."""
        method = METHODS[member]
        with self._lock:
            reason = self._absent or self._refused.get(method.right, "")
            if reason:
                raise SourceUnavailable(path, reason)
            try:
                if self._bus is None:
                    self._bus = _connection()
                call = new_method_call(_ADDRESS, member, method.form or None, arguments)
                return _body(self._bus.send_and_get_reply(call, timeout=_ANSWER_S), path)
            except _NotAllowed as error:
                self._refused[method.right] = error.reason
                raise
            except _Absent as error:
                self._absent = error.reason
                raise
            except (OSError, EOFError, TimeoutError) as error:
                if self._bus is not None:
                    with contextlib.suppress(OSError):
                        self._bus.close()
                    self._bus = None
                raise SourceUnavailable(path, f"the access helper does not answer ({error})") from error


class _NotAllowed(SourceUnavailable):
    """The helper may not do this for the caller."""


class _Absent(SourceUnavailable):
    """There is no helper, or no bus to ask it on."""


def _connection() -> DBusConnection:
    try:
        return open_dbus_connection("SYSTEM", enable_fds=True)
    except (OSError, KeyError, ValueError) as error:
        raise _Absent("access helper", f"there is no system bus to ask the access helper on ({error})") from error


def _body(reply: Message, path: str = "access helper") -> tuple[Any, ...]:
    """Return the values of a reply. Raises SourceUnavailable for an error."""
    if reply.header.message_type is not MessageType.error:
        return tuple(reply.body)
    name = str(reply.header.fields.get(HeaderFields.error_name, ""))
    words = str(reply.body[0]) if reply.body else name
    if name in _NOT_THERE:
        raise _Absent(path, NOT_INSTALLED)
    if name == f"{BUS_NAME}.Error.NotAllowed":
        raise _NotAllowed(path, words)
    raise SourceUnavailable(path, words)
