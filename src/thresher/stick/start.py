"""Runs once when the stick has started: the place for jobs, and the program's folders.

Usage: python -m thresher.stick.start (root, before the session). It asks nothing and changes nothing on any drive but
the stick's own partition for jobs, which is there only after somebody was asked.
"""

import os
import sys
from pathlib import Path

import msgspec

from thresher.machine.system_tools import Tools, run_tool
from thresher.model.errors import ThresherError
from thresher.model.private_folder import private_folder
from thresher.stick.boot import HOME, RUN, StickState, boot_options, environment_text, write_state
from thresher.stick.clock import image_time
from thresher.stick.jobs_partition import drive_of, look_at, make_ready, medium_of, mount
from thresher.stick.layout import JobsState

_REASONS = {
    JobsState.NONE: "this stick has no partition for jobs yet",
    JobsState.NO_ROOM: "this stick is too small to keep jobs beside the image",
    JobsState.FOREIGN: "this stick holds another partition where jobs would be",
}
IN_MEMORY = "everything runs in memory, so the stick can be removed"


def find_jobs(mounts: str, in_memory: bool, home: Path, tools: Tools) -> StickState:
    """Mount what there is for jobs and return what was found."""
    if in_memory:
        return StickState(reason=IN_MEMORY)
    medium = medium_of(mounts)
    drive = drive_of(medium) if medium is not None else None
    if drive is None:
        return StickState(reason="the machine did not boot from a USB stick")
    try:
        stick = look_at(drive, tools)
        if stick.layout.state in _REASONS:
            room = stick.layout.size if stick.layout.state is JobsState.NONE else 0
            return StickState(reason=_REASONS[stick.layout.state], drive=drive, room=room)
        mount(make_ready(stick, tools), home, tools)
    except ThresherError as error:
        return StickState(reason=str(error), drive=drive)
    return StickState(lasting=True, drive=drive)


def prepare(
    command_line: str,
    mounts: str,
    home: Path = HOME,
    run: Path = RUN,
    tools: Tools = run_tool,
) -> StickState:
    """Make all places and return what was found."""
    run.mkdir(parents=True, exist_ok=True)
    home.mkdir(parents=True, exist_ok=True)
    private_folder(run / "runtime")
    found = find_jobs(mounts, boot_options(command_line).in_memory, home, tools)
    for folder in ("data", "config", "state"):
        private_folder(home / folder)
    state = msgspec.structs.replace(found, built=image_time())
    (run / "environment").write_text(environment_text(home), encoding="utf-8")
    # read by the inventory: the stick is no part of the machine
    (run / "drive").write_text(f"{Path(found.drive).name}\n", encoding="utf-8")
    write_state(state, run)
    return state


def main() -> int:
    """Prepare the stick that is running."""
    os.umask(0o022)
    state = prepare(
        Path("/proc/cmdline").read_text(encoding="utf-8"), Path("/proc/self/mounts").read_text(encoding="utf-8")
    )
    print("jobs are kept on the stick" if state.lasting else f"jobs are kept in memory: {state.reason}", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
