"""Going on after a start of the machine: a unit of the system's manager, or an entry that a desktop session starts.

By systemd.unit(5) and systemd.service(5), and the Desktop Application Autostart Specification 0.5. Both exist only
while a run wants them. Root has the unit, which starts on the console without anybody, and the access helper installs
it for others, running as them. Without either the entry is left, which needs a session that logs in by itself.
"""

import os
from pathlib import Path

import platformdirs

from thresher.machine.access import AccessClient
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.own_program import own_command
from thresher.model.regular_file import is_there
from thresher.model.whole_file import write_whole
from thresher.privileged import restart_unit
from thresher.privileged.allowlist import RESTART_UNIT

ENTRY = "thresher-go-on.desktop"


def entry_text(job: Path) -> str:
    """Return the entry that opens the window on a job when a desktop session begins."""
    command = " ".join(_in_entry(word) for word in own_command("thresher.ui", "--live", "--job", str(job)))
    return (
        "[Desktop Entry]\nType=Application\nName=Thresher goes on with a run\n"
        f"Exec={command}\nTerminal=false\nX-GNOME-Autostart-enabled=true\n"
    )


def _in_entry(word: str) -> str:
    """Return a word for the command line of a desktop entry (Desktop Entry Specification 1.5, "The Exec key")."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`").replace("$", "\\$")
    return '"' + escaped.replace("%", "%%") + '"'


class LiveRestart:
    """Puts the unit or the entry in its place, and takes it away."""

    def __init__(
        self,
        units: Path = restart_unit.UNITS,
        autostart: Path | None = None,
        root: bool | None = None,
        helper: AccessClient | None = None,
    ) -> None:
        """`units` and `autostart` are the folders; `root` whether units may be written, `helper` who else may."""
        self._units = units
        self._autostart = autostart or Path(platformdirs.user_config_dir()) / "autostart"
        self._root = os.geteuid() == 0 if root is None else root
        self._helper = helper

    def install(self, job: Path) -> str:
        """Arrange for it."""
        job = job.absolute()
        if self._root and is_there(self._units):
            command = own_command("thresher.cli", "go-on", str(job))
            text = restart_unit.unit_text(command, str(job), None, str(Path.home()))
            try:
                unit = restart_unit.install(text, self._units)
            except OSError as error:
                reason = error.strerror or str(error)
                raise EnvironmentFault(f"enabling {RESTART_UNIT}", reason, "See the folder.") from error
            return f"a unit of the system starts it on the console ({unit})"
        why_not = ""
        if self._helper is not None:
            try:
                return f"a unit of the system starts it on the console ({self._helper.install_restart(job)})"
            except SourceUnavailable as error:
                why_not = f": {error.reason}"
        try:
            self._autostart.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            reason = error.strerror or str(error)
            raise EnvironmentFault(f"making {self._autostart}", reason, "Start Thresher as root.") from error
        entry = self._autostart / ENTRY
        write_whole(entry, entry_text(job).encode(), 0o644)
        return (
            f"a desktop session that logs in by itself starts it ({entry}); with more rights it would start without one"
            f"{why_not}"
        )

    def remove(self) -> str:
        """Undo that."""
        entry, gone = self._autostart / ENTRY, []
        try:
            gone += restart_unit.remove(self._units) if self._root else self._removed_by_helper()
            if os.path.lexists(entry):
                entry.unlink()
                gone.append(entry)
        except (OSError, SourceUnavailable) as error:
            where = RESTART_UNIT if isinstance(error, SourceUnavailable) else error.filename
            return f"{where} could not be removed: remove it by hand"
        return f"removed {gone[-1]}" if gone else ""

    def _removed_by_helper(self) -> list[Path]:
        if self._helper is None or not restart_unit.is_installed(self._units):
            return []
        return [Path(path) for path in self._helper.remove_restart()]
