"""Starting an engine as a process of its own, where its socket is, and whether there is a display. Light to import."""

import os
import re
import subprocess
import tempfile
from pathlib import Path

from thresher.model.own_program import own_command
from thresher.model.private_folder import private_folder


def runtime_folder() -> Path:
    """Return the folder for sockets: under XDG_RUNTIME_DIR, else one for this user. Raises EnvironmentFault."""
    base = os.environ.get("XDG_RUNTIME_DIR")
    folder = Path(base) / "thresher" if base else Path(tempfile.gettempdir()) / f"thresher-{os.geteuid()}"
    return private_folder(folder)


def cli_command(arguments: list[str]) -> list[str]:
    """Return the command that runs a verb of the command line in a process of its own."""
    return own_command("thresher.cli", *arguments)


def start_engine_process(socket_path: Path, arguments: list[str], log: Path) -> subprocess.Popen[bytes]:
    """Start an engine as a process of its own that outlives this one; its messages go to `log`."""
    private_folder(log.parent)
    with os.fdopen(os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600), "ab") as stream:
        return subprocess.Popen(
            cli_command(["engine", "--socket", str(socket_path), *arguments]),
            stdin=subprocess.DEVNULL,
            stdout=stream,
            stderr=stream,
            start_new_session=True,
        )


def why_no_display() -> str | None:
    """Say why no window can be shown, or return None: a display server that is there, or a Qt platform on purpose."""
    if os.environ.get("QT_QPA_PLATFORM"):
        return None
    wayland, x11 = os.environ.get("WAYLAND_DISPLAY"), os.environ.get("DISPLAY")
    if not wayland and not x11:
        return "there is no display (DISPLAY and WAYLAND_DISPLAY are not set)"
    if wayland and (Path(os.environ.get("XDG_RUNTIME_DIR", "/")) / wayland).is_socket():
        return None
    local = re.fullmatch(r":(\d+)(?:\.\d+)?", x11 or "")
    if x11 and (local is None or _x_server_listens(int(local[1]))):
        return None
    return f"no display answers at DISPLAY={x11!r}, WAYLAND_DISPLAY={wayland!r}"


def _x_server_listens(number: int) -> bool:
    """Qt ends the whole process when its X server is not there, so that is found out before.

    The kernel's list of sockets is read instead of connecting: a server without other clients restarts when
    the last one goes, and would do so just when the window comes.
    """
    try:
        listed = Path("/proc/net/unix").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return True  # nothing is known; Qt will say
    # columns: number, references, protocol, flags (10000 listens), type, state, inode, path
    found = (line.split() for line in listed.splitlines()[1:])
    names = (f"/tmp/.X11-unix/X{number}", f"@/tmp/.X11-unix/X{number}")  # noqa: S108 (the convention of X servers)
    return any(len(row) == 8 and row[7] in names and int(row[3], 16) & 0x10000 for row in found)
