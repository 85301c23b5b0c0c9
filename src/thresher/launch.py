"""Starting an engine as a process of its own, and where its socket is. Light to import, for a quick window."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path


def runtime_folder() -> Path:
    """Return the folder for sockets: under XDG_RUNTIME_DIR, else a private one for this user."""
    base = os.environ.get("XDG_RUNTIME_DIR")
    if base:
        return Path(base) / "thresher"
    return Path(tempfile.gettempdir()) / f"thresher-{os.getuid()}"


def start_engine_process(socket_path: Path, arguments: list[str], log: Path) -> subprocess.Popen[bytes]:
    """Start an engine as a process of its own that outlives this one; its messages go to `log`."""
    log.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with log.open("ab") as stream:
        return subprocess.Popen(
            [sys.executable, "-m", "thresher.cli", "engine", "--socket", str(socket_path), *arguments],
            stdin=subprocess.DEVNULL,
            stdout=stream,
            stderr=stream,
            start_new_session=True,
        )
