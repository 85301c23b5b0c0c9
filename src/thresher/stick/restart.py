"""Going on after a crash from the stick: its partition for jobs names the job, and the next start of it goes on."""

import os
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.model.whole_file import write_whole
from thresher.stick.boot import GOING_ON, HOME, RUN, read_state


class StickRestart:
    """Names the job for the next start of the stick, and takes the name away."""

    def __init__(self, home: Path = HOME, run: Path = RUN) -> None:
        """`home` is where jobs are kept, `run` what the start has found."""
        self._home = home
        self._run = run

    def install(self, job: Path) -> str:
        """Arrange for it. Raises EnvironmentFault where jobs do not outlive a restart."""
        state = read_state(self._run)
        if not state.lasting:
            raise EnvironmentFault(
                "going on after a restart",
                f"jobs are in memory: {state.reason}",
                "Keep jobs on the stick first; then the run goes on by itself.",
            )
        job = job.resolve()
        if not job.is_relative_to(self._home.resolve()):
            raise EnvironmentFault(
                f"going on with {job}", "it is not on the stick", f"Keep the job under {self._home}."
            )
        write_whole(self._home / GOING_ON, f"{job.relative_to(self._home.resolve())}\n".encode())
        return "the stick continues the run when the machine boots from it again: put USB first in the boot order"

    def remove(self) -> str:
        """Undo that."""
        path = self._home / GOING_ON
        if not os.path.lexists(path):
            return ""
        try:
            path.unlink()
        except OSError as error:
            return f"{path} could not be removed ({error.strerror}): remove it by hand"
        return "the stick no longer continues that job at boot"
