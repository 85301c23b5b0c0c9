"""The unit that goes on with a run after the machine has started again (systemd.unit(5), systemd.service(5))."""

import os
import re
import stat
from pathlib import Path

from thresher.privileged.allowlist import LONGEST, RESTART_UNIT, NotOnTheList, shown

UNITS = Path("/etc/systemd/system")
_WANTED_BY = "multi-user.target.wants"
_PLAIN = re.compile(r"/[^\x00-\x1f\x7f\u0080-\u009f\u2028\u2029]*")


def unit_text(command: list[str], job: str, user: int | None, home: str = "", console: str = "/dev/tty1") -> str:
    """Return the unit that runs a command on the console, where a key stops it; as root when no user is given.

    `home` is the home folder for root, whom systemd gives none; users get theirs.
    """
    return (
        "[Unit]\nDescription=Thresher goes on with a run after the machine has started again\n"
        "After=systemd-user-sessions.service dbus.service\nConflicts=getty@tty1.service\n"
        f"ConditionPathExists={job.replace('%', '%%')}\n\n"
        f"[Service]\nType=simple\nExecStart={' '.join(quoted(word) for word in command)}\n"
        + (f"Environment={quoted(f'HOME={home}')}\n" if user is None else f"User={user}\nNoNewPrivileges=yes\n")
        + f"StandardInput=tty\nStandardOutput=tty\nStandardError=journal\nTTYPath={console}\nTTYReset=yes\n"
        "TimeoutStopSec=20\nSuccessExitStatus=1\n\n"  # a run that found faults has done its work
        "[Install]\nWantedBy=multi-user.target\n"
    )


def quoted(word: str) -> str:
    """Return a word for a command line of a unit: in quotes, with % and $ doubled (systemd.service(5))."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"'


def go_on_command(program: object, job: object) -> list[str]:
    """Return the one command that the unit of an ordinary user may run: this program, going on with a job.

    Raises NotOnTheList unless both are plain absolute paths.
    """
    for words, value in (("the program", program), ("the job", job)):
        plain = isinstance(value, str) and len(value) <= LONGEST and _PLAIN.fullmatch(value) is not None
        if not plain or ".." in str(value).split("/"):
            raise NotOnTheList(f"{words} has to be a plain absolute path, found {shown(value)}")
    return [str(program), "-P", "-m", "thresher.cli", "go-on", str(job)]


def install(text: str, units: Path = UNITS) -> Path:
    """Write the unit and let it start with the system; return its path. Raises OSError."""
    unit = units / RESTART_UNIT
    write_durably(unit, text.encode())
    wanted = units / _WANTED_BY
    wanted.mkdir(mode=0o755, exist_ok=True)
    link = wanted / RESTART_UNIT
    link.unlink(missing_ok=True)
    link.symlink_to(unit)
    _settle(wanted)
    return unit


def remove(units: Path = UNITS) -> list[Path]:
    """Take the unit away; return what was there. Raises OSError."""
    gone = [path for path in (units / _WANTED_BY / RESTART_UNIT, units / RESTART_UNIT) if os.path.lexists(path)]
    for path in gone:
        path.unlink()
    return gone


def write_durably(path: Path, content: bytes) -> None:
    """Put a file in its place in one step, readable by all, and wait until it is on the drive. Raises OSError."""
    beside = path.with_name(f".{path.name}.new")
    descriptor = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
    try:
        os.fchmod(descriptor, 0o644)
        os.write(descriptor, content)
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
    beside.replace(path)
    _settle(path.parent)


def _settle(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def is_installed(units: Path = UNITS) -> bool:
    """Whether the unit is there, whoever's it is."""
    return os.path.lexists(units / RESTART_UNIT)


def owner_of_unit(units: Path = UNITS) -> int | None:
    """Return the user as whom the unit runs, None where there is no unit of ours for a user."""
    unit = units / RESTART_UNIT
    try:
        if not stat.S_ISREG(unit.lstat().st_mode):
            return None
        found = re.search(r"^User=(\d+)$", unit.read_text("utf-8"), re.MULTILINE)
    except (OSError, UnicodeDecodeError):
        return None
    return int(found[1]) if found else None
