"""What each request does once it is allowed; nothing here asks who wants it."""

import os
import pwd
import stat
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

from thresher.privileged import restart_unit, served, tracing
from thresher.privileged.allowlist import (
    DRIVE,
    FOLDERS,
    WATCHDOG,
    WATCHDOG_S,
    WHOLE_DRIVE,
    NotOnTheList,
    Refused,
    Right,
    checked,
    file_entry,
    shown,
)

_MOST_TRACES, _MOST_NAMES = 8, 512
"""How many trace instances may exist at once, and how many names of a folder are returned."""


@dataclass(frozen=True, slots=True)
class Caller:
    """Who asks: the name on the bus, user, process and when that began; `group` is its control group."""

    name: str
    user: int
    process: int
    began: int
    group: str = ""

    def __str__(self) -> str:
        """Render for the log."""
        try:
            known = pwd.getpwuid(self.user).pw_name
        except KeyError:
            known = "unknown"
        return f"user {self.user} ({known}), process {self.process}"


@dataclass(slots=True)
class Places:
    """Where things are: the root of the file system, the folder of units, and where tracing is mounted."""

    root: Path = Path("/")
    units: Path = restart_unit.UNITS
    tracing: tuple[Path, ...] = tracing.PLACES

    def of(self, path: str) -> Path:
        """Return where a path of a request is."""
        return self.root / path.lstrip("/")


@dataclass(frozen=True, slots=True)
class Answer:
    """What a request brings: a D-Bus signature, its values, and what is closed once they are sent."""

    form: str
    values: tuple[Any, ...]
    close: tuple[int, ...] = ()


class Desk(Protocol):
    """What a request may use of the service."""

    places: Places
    traces: list[tracing.Instance]

    def next_number(self) -> int:
        """Return a number that no trace instance of this process has had."""
        ...

    def served(self, serve: served.Serve, opened: tuple[int, ...]) -> Answer:
        """Start a process for a caller over what was opened, which is closed here; the answer is its socket."""
        ...

    def remove_traces(self) -> None:
        """Take away trace instances that nobody reads any more."""
        ...


@dataclass(frozen=True, slots=True)
class Method:
    """One request: the right that it needs, the signature of its arguments, and what carries it out."""

    right: Right
    form: str
    carry_out: Callable[[Desk, Caller, tuple[Any, ...]], Answer]


def _open_file(helper: Desk, _caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    (path,) = arguments
    file_entry(path)
    descriptor = os.open(helper.places.of(path), os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC)
    kind = os.fstat(descriptor).st_mode
    if not (stat.S_ISCHR(kind) if path.startswith("/dev/") else stat.S_ISREG(kind)):
        os.close(descriptor)
        raise Refused(f"{path} is not the kind of file that it should be")
    return Answer("h", (descriptor,), (descriptor,))


def _list_folder(helper: Desk, _caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    path = checked("the folder", arguments[0], FOLDERS)
    try:
        folder = os.open(helper.places.of(path), os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except NotADirectoryError:
        return Answer("as", ([],))  # a record lies there itself, and no folder of its parts
    try:
        return Answer("as", (sorted(os.listdir(folder))[:_MOST_NAMES],))
    finally:
        os.close(folder)


def _open_trace(helper: Desk, _caller: Caller, _arguments: tuple[Any, ...]) -> Answer:
    helper.remove_traces()
    if len(helper.traces) >= _MOST_TRACES:
        raise Refused(f"{_MOST_TRACES} programs trace hardware errors already")
    try:
        number = helper.next_number()
        instance = tracing.Instance(tracing.place_of(helper.places.tracing), f"thresher-access-{number}")
    except tracing.NoTracing as error:
        raise Refused(f"{error.where}: {error.why}") from error
    helper.traces.append(instance)
    return Answer("h", (instance.fd,), (instance.fd,))


def _open_drive(helper: Desk, _caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    path = checked("the drive", arguments[0], DRIVE)
    return helper.served(served.drive_server(helper.places.of(path), path.startswith("/dev/nvme")), ())


def _open_blocks(helper: Desk, _caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    path = checked("the drive", arguments[0], WHOLE_DRIVE)
    numbers = helper.places.of(f"/sys/block/{path.removeprefix('/dev/')}/dev")
    return helper.served(served.block_server(helper.places.of(path), numbers), ())


def _open_registers(helper: Desk, _caller: Caller, _arguments: tuple[Any, ...]) -> Answer:
    devices = served.open_registers(helper.places.of("/dev/cpu"))
    if not devices:
        raise Refused("/dev/cpu: no registers there; the kernel module msr would change that")
    return helper.served(served.register_server(devices), tuple(devices.values()))


def _open_workers(helper: Desk, caller: Caller, _arguments: tuple[Any, ...]) -> Answer:
    return helper.served(served.worker_server(caller.user), ())


def _open_watchdog(helper: Desk, _caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    path, seconds = checked("the watchdog", arguments[0], WATCHDOG), arguments[1]
    if not WATCHDOG_S[0] <= seconds <= WATCHDOG_S[1]:
        raise NotOnTheList(f"a watchdog may wait for {WATCHDOG_S[0]} to {WATCHDOG_S[1]} s, not {shown(seconds)}")
    no_way_out = helper.places.of(f"/sys/class/watchdog/{path.removeprefix('/dev/')}/nowayout")
    if os.path.lexists(no_way_out) and no_way_out.read_text("ascii").strip() != "0":
        raise Refused(f"{path} cannot be switched off again (nowayout)")
    device = os.open(helper.places.of(path), os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    return helper.served(served.watchdog_server(device, seconds), (device,))


def _install_restart(helper: Desk, caller: Caller, arguments: tuple[Any, ...]) -> Answer:
    command = restart_unit.go_on_command(*arguments)
    if restart_unit.is_installed(helper.places.units) and _owner(helper) != caller.user:
        raise Refused("another user's run goes on after the next start already")
    text = restart_unit.unit_text(command, command[-1], caller.user)
    return Answer("s", (str(restart_unit.install(text, helper.places.units)),))


def _remove_restart(helper: Desk, caller: Caller, _arguments: tuple[Any, ...]) -> Answer:
    if restart_unit.is_installed(helper.places.units) and _owner(helper) != caller.user:
        raise Refused("the unit belongs to another user's run")
    return Answer("as", ([str(path) for path in restart_unit.remove(helper.places.units)],))


def _owner(helper: Desk) -> int | None:
    return restart_unit.owner_of_unit(helper.places.units)


METHODS = {
    "OpenFile": Method(Right.READ, "s", _open_file),
    "ListFolder": Method(Right.READ, "s", _list_folder),
    "OpenTrace": Method(Right.READ, "", _open_trace),
    "OpenRegisters": Method(Right.READ, "", _open_registers),
    "OpenDrive": Method(Right.DRIVES, "s", _open_drive),
    "OpenBlocks": Method(Right.CONTENTS, "s", _open_blocks),
    "OpenWorkers": Method(Right.MEMORY, "", _open_workers),
    "OpenWatchdog": Method(Right.WATCHDOG, "su", _open_watchdog),
    "InstallRestart": Method(Right.RESTART, "ss", _install_restart),
    "RemoveRestart": Method(Right.RESTART, "", _remove_restart),
}
"""Everything that can be asked for, beside `Allowed` and `Ask`, which only ask polkit."""
