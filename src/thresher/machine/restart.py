"""Going on after a start of the machine: a unit of the system's manager, or an entry that a desktop session starts.

By systemd.unit(5) and systemd.service(5), and the Desktop Application Autostart Specification 0.5. Both exist only
while a run wants them. Root has the unit, which starts on the console without anybody; without root the entry is left,
which needs a session that logs in by itself.
"""

import os
from pathlib import Path

import platformdirs

from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command
from thresher.model.regular_file import is_there
from thresher.model.whole_file import write_whole

UNIT = "thresher-go-on.service"
ENTRY = "thresher-go-on.desktop"
_UNITS = Path("/etc/systemd/system")
_WANTED_BY = "multi-user.target.wants"


def unit_text(job: Path, home: str, console: str = "/dev/tty1") -> str:
    """Return the unit that goes on with a job on the console; a key there stops it."""
    command = " ".join(_quoted(word) for word in own_command("thresher.cli", "go-on", str(job)))
    return (
        "[Unit]\nDescription=Thresher goes on with a run after the machine has started again\n"
        "After=systemd-user-sessions.service dbus.service\nConflicts=getty@tty1.service\n"
        f"ConditionPathExists={job}\n\n"
        f"[Service]\nType=simple\nExecStart={command}\nEnvironment={_quoted(f'HOME={home}')}\n"
        f"StandardInput=tty\nStandardOutput=tty\nStandardError=journal\nTTYPath={console}\nTTYReset=yes\n"
        "TimeoutStopSec=20\n\n"
        "[Install]\nWantedBy=multi-user.target\n"
    )


def entry_text(job: Path) -> str:
    """Return the entry that opens the window on a job when a desktop session begins."""
    command = " ".join(_in_entry(word) for word in own_command("thresher.ui", "--live", "--job", str(job)))
    return (
        "[Desktop Entry]\nType=Application\nName=Thresher goes on with a run\n"
        f"Exec={command}\nTerminal=false\nX-GNOME-Autostart-enabled=true\n"
    )


def _quoted(word: str) -> str:
    """Return a word for a command line of a unit: in quotes, with % and $ doubled (systemd.service(5))."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"'


def _in_entry(word: str) -> str:
    """Return a word for the command line of a desktop entry (Desktop Entry Specification 1.5, "The Exec key")."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`").replace("$", "\\$")
    return '"' + escaped.replace("%", "%%") + '"'


class LiveRestart:
    """Puts the unit or the entry in its place, and takes it away."""

    def __init__(self, units: Path = _UNITS, autostart: Path | None = None, root: bool | None = None) -> None:
        """`units` and `autostart` are the folders; `root` whether units may be written."""
        self._units = units
        self._autostart = autostart or Path(platformdirs.user_config_dir()) / "autostart"
        self._root = os.geteuid() == 0 if root is None else root

    def install(self, job: Path) -> str:
        """Arrange for it."""
        if self._root and is_there(self._units):
            unit, link = self._units / UNIT, self._units / _WANTED_BY / UNIT
            write_whole(unit, unit_text(job.absolute(), str(Path.home())).encode(), 0o644)
            try:
                link.parent.mkdir(exist_ok=True)
                link.unlink(missing_ok=True)
                link.symlink_to(unit)
                folder = os.open(link.parent, os.O_RDONLY)
                os.fsync(folder)
                os.close(folder)
            except OSError as error:
                raise EnvironmentFault(f"enabling {UNIT}", error.strerror or str(error), "See the folder.") from error
            return f"a unit of the system starts it on the console ({unit})"
        try:
            self._autostart.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            reason = error.strerror or str(error)
            raise EnvironmentFault(f"making {self._autostart}", reason, "Start Thresher as root.") from error
        entry = self._autostart / ENTRY
        write_whole(entry, entry_text(job.absolute()).encode(), 0o644)
        return f"a desktop session that logs in by itself starts it ({entry}); as root it would start without one"

    def remove(self) -> str:
        """Undo that."""
        gone = []
        for path in (self._units / _WANTED_BY / UNIT, self._units / UNIT, self._autostart / ENTRY):
            try:
                if os.path.lexists(path):
                    path.unlink()
                    gone.append(str(path))
            except OSError:
                return f"{path} could not be removed: remove it by hand"
        return f"removed {gone[-1]}" if gone else ""
