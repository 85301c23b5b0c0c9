"""Jobs of this computer whose bench nobody closed: their black box says so."""

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from thresher.app.paths import jobs_folder
from thresher.endings.traces import boot_id_of
from thresher.journal.black_box import read_box, read_header
from thresher.journal.lock import holder
from thresher.machine.live import LiveSystem
from thresher.model.errors import EnvironmentFault


@dataclass(frozen=True, slots=True)
class OpenJob:
    """A job that was left open: its file, when its last row was written, and what is known of that end."""

    path: Path
    when: str
    words: str


def jobs_left_open(folder: Path | None = None) -> tuple[OpenJob, ...]:
    """Return the jobs of a folder that were left open, by name; without one those of this computer's bench.

    A black box that cannot be read is named too. Raises EnvironmentFault when the folder cannot be had.
    """
    boot = boot_id_of(LiveSystem())
    found = []
    for path in sorted((folder or jobs_folder(simulated=False)).glob("*.blackbox")):
        job = path.with_name(path.name.removesuffix(".blackbox"))
        if holder(job) is not None:
            continue  # it is open now
        try:
            header_only = read_header(path)
            read = read_box(path) if header_only is not None and not header_only.closed else None
        except EnvironmentFault as error:
            found.append(OpenJob(job, "", str(error)))
            continue
        if read is None:
            continue
        header, moments = read
        last = moments.rows[-1] if moments.rows else None
        wall = last.wall if last is not None else header.began_wall
        when = datetime.fromtimestamp(wall, UTC).astimezone().isoformat(timespec="seconds")
        run = f"run {last.run} was in progress" if last is not None and last.run else "no run was in progress"
        since = "the machine has started again since" if header.boot_id != boot else "the machine has not started again"
        found.append(OpenJob(job, when, f"{run}; {since}. Open it to find out how it ended"))
    return tuple(found)
